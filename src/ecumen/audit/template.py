"""What a new account would get: the template for homes, and the mode of a home made now.

The new home is laid over the survey and tried through the gates.

Source: useradd(8), login.defs(5) ("HOME_MODE", "UMASK"), adduser.conf(5) ("DIR_MODE").
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from ecumen.audit.finding import Remedy
from ecumen.audit.scene import Scene
from ecumen.engines.engine import renewed
from ecumen.operations.folder import Folder
from ecumen.operations.homes import NewHomes
from ecumen.operations.trial import Surveyed
from ecumen.passage import Follower
from ecumen.passage.front import front_request
from ecumen.passage.verdict import Evidence
from ecumen.passage.words import say
from ecumen.survey import Account, Delta, Entry, Group, Kind, Survey, after
from ecumen.survey.homes import MAKERS, HomeMode, home_mode

SKELETON = "/etc/skel"
SOURCES = tuple(file for file, _ in MAKERS.values())
_NAME = "ecumen-new-account"
_UNSAID = HomeMode(0o755)


@dataclass(frozen=True, slots=True)
class Template:
    """maker: the program that would make the account, "" where none is known. mode: of a home that
    it makes now. lacks: what keeps its site from answering, the first one first; mends: what would
    help.
    """

    skeleton: str
    maker: str
    mode: int
    lacks: list[str] = field(default_factory=list)
    mends: list[str] = field(default_factory=list)
    evidence: list[Evidence] = field(default_factory=list)


def template(scene: Scene) -> Template | None:
    """Of several programs the one whose accounts fare worst. None where the survey does not hold
    the template, or there are no personal sites.
    """
    return _tried_out(scene)[0]


def template_remedies(scene: Scene) -> list[Remedy]:
    """What mends what new accounts get, each with what does it."""
    return _tried_out(scene)[1]


def _tried_out(scene: Scene) -> tuple[Template | None, list[Remedy]]:
    return scene.once("template", _template)


def _template(scene: Scene) -> tuple[Template | None, list[Remedy]]:
    survey = scene.survey
    skeleton = survey.files.get(SKELETON)
    if skeleton is None or not skeleton.listed:
        return None, []
    if not any(engine.personal() for engine in scene.engines):
        return None, []
    tried = [_tried(scene, skeleton, maker, mode) for maker, mode in _modes(survey)]
    found = [each for each in tried if each is not None]
    return max(found, key=lambda each: len(each[0].lacks), default=(None, []))


def _modes(survey: Survey) -> list[tuple[str, HomeMode]]:
    """The programs of which the survey holds what they go by, and the modes that homes get."""
    texts = ((maker, survey.texts.get(file)) for maker, (file, _) in MAKERS.items())
    known = [(maker, home_mode(maker, text)) for maker, text in texts if text is not None]
    return known or [("", _UNSAID)]


def _tried(
    scene: Scene, skeleton: Entry, maker: str, said: HomeMode
) -> tuple[Template, list[Remedy]] | None:
    """A new account, followed through the gates, and what would help all that come."""
    made = _with_new(scene.survey, said.mode)
    # Its configuration is the same: nothing of it is read again.
    follower = Follower(made, renewed(scene.engines, made))
    evidence = [scene.entry(skeleton)]
    if said.line is not None:
        evidence.insert(0, Evidence(MAKERS[maker][0], said.line, said.text))
    for engine in follower.engines:
        for ground in engine.personal():
            if ground.account != _NAME:
                continue
            if not ground.offered:
                return Template(SKELETON, maker, said.mode), []
            outcome = follower.run(front_request(ground.site)).outcome
            lacks = [_plain(say(block.code, block.facts)) for _, block in outcome.blocks]
            mends = list(_mends(made, ground.folder)) if lacks else []
            titles = [remedy.title for remedy in mends]
            return Template(SKELETON, maker, said.mode, lacks, titles, evidence), mends
    return None


def _plain(text: str) -> str:
    return text.replace(_NAME, "NAME").rstrip(".")


def _mends(survey: Survey, folder: str) -> Iterator[Remedy]:
    """survey: with the new account."""
    if folder not in survey.files:
        name = folder.rpartition("/")[2]
        root = Account("root", 0, 0, "/root")
        made = Folder.of(survey, f"{SKELETON}/{name}", "0755", root)
        yield Remedy(f"Put a folder {name} with an index into {SKELETON}", [made])
    for maker, said in _modes(survey):
        if said.mode & 0o001:
            continue
        if not maker:
            yield Remedy("Have homes made with mode 0711")
            continue
        opened = NewHomes.of(Surveyed(survey), maker, said.mode | 0o011)
        title = f"Have {maker} make homes with mode {opened.to}, through which others pass"
        yield Remedy(title, [opened])


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
    changed = {each.path: each for each in made}
    group = Group(_NAME, uid)
    return after(survey, Delta(changed, accounts={_NAME: account}, groups={_NAME: group}))
