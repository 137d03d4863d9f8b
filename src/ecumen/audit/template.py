"""What a new account would get: the template for homes, and the mode of a home made now.

The new home is laid over the survey and tried through the gates.

Source: useradd(8), login.defs(5) ("HOME_MODE", "UMASK"), adduser.conf(5) ("DIR_MODE").
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from ecumen.audit.scene import Scene
from ecumen.passage import Follower
from ecumen.passage.front import front_request
from ecumen.passage.verdict import Evidence
from ecumen.passage.words import say
from ecumen.survey import Account, Delta, Entry, Kind, Survey, after

SKELETON = "/etc/skel"
SOURCES = ("/etc/login.defs", "/etc/adduser.conf")
_NAME = "ecumen-new-account"
_MODE = re.compile(r"^\s*(HOME_MODE|DIR_MODE|UMASK)\s*[= \t]\s*\"?([0-7]{3,4})\"?\s*$")


@dataclass(frozen=True, slots=True)
class Template:
    """mode: of a home that is made now. lacks: what keeps its site from answering, the first one
    first; mends: what would help.
    """

    skeleton: str
    mode: int
    lacks: list[str] = field(default_factory=list)
    mends: list[str] = field(default_factory=list)
    evidence: list[Evidence] = field(default_factory=list)


def template(scene: Scene) -> Template | None:
    """None where the survey does not hold the template, or there are no personal sites."""
    return scene.once("template", _template)


def _template(scene: Scene) -> Template | None:
    survey = scene.survey
    skeleton = survey.files.get(SKELETON)
    if skeleton is None or not skeleton.listed:
        return None
    if not any(engine.personal() for engine in scene.engines):
        return None
    mode, line = _home_mode(survey)
    made = _with_new(survey, mode)
    follower = Follower(made)
    evidence = [*([line] if line else []), scene.entry(skeleton)]
    for engine in follower.engines:
        for ground in engine.personal():
            if ground.account != _NAME:
                continue
            if not ground.offered:
                return Template(SKELETON, mode)
            outcome = follower.run(front_request(ground.site)).outcome
            lacks = [_plain(say(block.code, block.facts)) for _, block in outcome.blocks]
            mends = list(_mends(made, ground.folder, mode, bool(lacks)))
            return Template(SKELETON, mode, lacks, mends, evidence)
    return None


def _plain(text: str) -> str:
    return text.replace(_NAME, "NAME").rstrip(".")


def _mends(survey: Survey, folder: str, mode: int, lacks: bool) -> Iterator[str]:
    if not lacks:
        return
    name = folder.rpartition("/")[2]
    if folder not in survey.files:
        yield f"Put a folder {name} with an index into {SKELETON}"
    if not mode & 0o001:
        yield "Have homes made with mode 0711, or let the web server's account through by ACL"


def _home_mode(survey: Survey) -> tuple[int, Evidence | None]:
    """The mode of a home made by useradd(8), else by adduser(8), else what these do unsaid."""
    found: dict[str, tuple[int, Evidence]] = {}
    for path in SOURCES:
        lines = survey.texts.get(path, b"").decode("utf-8", "replace").splitlines()
        for number, line in enumerate(lines, 1):
            match = _MODE.match(line)
            if match:
                found[match[1]] = (int(match[2], 8), Evidence(path, number, line.strip()))
    if "HOME_MODE" in found:
        return found["HOME_MODE"]
    if "DIR_MODE" in found:
        return found["DIR_MODE"]
    if "UMASK" in found:
        mask, said = found["UMASK"]
        return 0o777 & ~mask, said
    return 0o755, None


def _with_new(survey: Survey, mode: int) -> Survey:
    """The survey with one more account, whose home is a copy of the template."""
    uid = max((a.uid for a in survey.accounts if a.uid < 60000), default=1000) + 1
    people = [a for a in survey.accounts if a.uid >= 1000 and a.home.count("/") >= 2]
    base = people[0].home.rpartition("/")[0] if people else "/home"
    home = f"{base}/{_NAME}"
    made = [Entry(home, Kind.DIR, mode, uid, uid, listed=True)]
    for path in survey.files.paths:
        if path.startswith(f"{SKELETON}/"):
            entry = survey.files.get(path)
            assert entry is not None
            made.append(replace(entry, path=home + path[len(SKELETON) :], uid=uid, gid=uid))
    account = Account(_NAME, uid, uid, home)
    return after(survey, Delta({each.path: each for each in made}, accounts={_NAME: account}))
