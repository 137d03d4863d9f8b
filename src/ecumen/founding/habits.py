"""What is usual on a server: where its sites lie, whose they are, what their files are called.

A path is taken for one that is made of what each site is called and of whose it is; of all the
ways in which that can be said, the one that most sites keep to is the habit.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Generic, TypeVar

from ecumen.audit.scene import Scene, Site
from ecumen.engines.draft import read_binding
from ecumen.engines.engine import Engine
from ecumen.engines.layout import paired_folders
from ecumen.survey import Account, Entry, Kind, Survey

T = TypeVar("T")
# What a path of a site may be made of: its name, its name without `www`, the first word of that,
# the account whose it is, and a number that puts files in order.
WORDS = ("name", "bare", "label", "owner")
_ORDER = re.compile(r"^\d+(?=[-_.])")
_INDENTED = re.compile(r"^([ \t]{1,8})\S", re.M)
_PLAIN_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,60}")
OWN, WORKERS = "own", "worker's"  # groups of folders, by whose they are


@dataclass(frozen=True, slots=True)
class Habit(Generic[T]):
    """What most sites here have: count of `of`."""

    value: T
    count: int
    of: int

    @property
    def said(self) -> str:
        return f"as {self.count} of {self.of} sites here"


@dataclass(frozen=True, slots=True)
class Held:
    """Whose a folder is and who may what in it. root: it is root's and not the owner's. group: OWN,
    WORKERS or a number. worker: what an ACL entry lets the engine's worker do there, as bits.
    """

    root: bool
    group: str
    mode: int
    worker: int = 0


@dataclass(frozen=True, slots=True)
class Written:
    """Where the configuration of a site stands. folder: of the file; file: its name, as a pattern.
    enabled: the folder of links that has it read, "" where the file itself is read; link: what such
    a link says, up to the name.
    """

    folder: str
    file: str
    enabled: str = ""
    link: str = ""


@dataclass(frozen=True, slots=True)
class Habits:
    """What is usual for one engine. None where nothing is. folders: for each folder of the root's
    pattern from the first on that has a word in it, whose it is; logs: the same of the folder that
    logs are in.
    """

    engine: Engine
    sites: int
    root: Habit[str] | None
    folders: tuple[Held, ...]
    bindings: Habit[tuple[tuple[str, int], ...]] | None
    both_names: Habit[bool] | None
    log: Habit[str] | None
    logs: Held
    written: Habit[Written] | None
    index: str
    indent: str


def words_of(name: str, owner: str) -> dict[str, str]:
    """What each word stands for in the paths of a site."""
    bare = name.removeprefix("www.")
    return {"name": name, "bare": bare, "label": bare.partition(".")[0], "owner": owner}


def filled(pattern: str, words: Mapping[str, str]) -> str:
    """A pattern with its words put in."""
    return re.sub(r"\{(\w+)\}", lambda hit: words.get(hit[1], hit[0]), pattern)


def patterns_of(path: str, words: Mapping[str, str]) -> Iterator[str]:
    """The ways in which a path can be said by these words, each word in all its places."""
    seen = set()
    for word in WORDS:
        text = words[word]
        if len(text) < 2 or "{" in path:
            continue
        parts = path.split("/")
        said = [_said(part, text, word) for part in parts]
        found = "/".join(said)
        if found != path and found not in seen:
            seen.add(found)
            yield found
    yield path


def _said(part: str, text: str, word: str) -> str:
    """A name in a path, with a word in it where that stands for itself."""
    if part == text:
        return f"{{{word}}}"
    at = part.find(text)
    if at < 0:
        return part
    before, behind = part[at - 1 : at], part[at + len(text) : at + len(text) + 1]
    if before.isalnum() or behind.isalnum() or (behind and behind in "-_" and word != "owner"):
        return part
    return f"{part[:at]}{{{word}}}{part[at + len(text) :]}"


def _most(values: Iterable[T], of: int) -> Habit[T] | None:
    """What is met most often; of several the first."""
    found = Counter(values).most_common(1)
    return Habit(found[0][0], found[0][1], of) if found else None


def habits_of(scene: Scene, engine: Engine) -> Habits:
    """What is usual for the sites of an engine that have a block of their own."""
    sites = [site for site in scene.hosts if site.engine is engine and site.summary.root]
    survey, count = scene.survey, len(sites)
    known = [(site, _owner(survey, site)) for site in sites]
    named = [
        (site, words_of(site.summary.asked_as, owner.name if owner else ""))
        for site, owner in known
    ]
    root = _usual(named, lambda site: site.summary.root, count)
    log = _usual(named, _own_log, count)
    plain = ((n for n in site.summary.index if _PLAIN_NAME.fullmatch(n)) for site in sites)
    index = _most((name for name in (next(each, "") for each in plain) if name), count)
    return Habits(
        engine,
        count,
        root,
        _folders(survey, engine, root.value, named) if root else (),
        _most((_bindings(site) for site in sites if not site.summary.sealed), count),
        _most((_both(site) for site in sites), count),
        log,
        _logs(survey, engine, log.value if log else "", named),
        _written(survey, engine, named, count),
        index.value if index else "index.html",
        _indent(scene, sites),
    )


def _owner(survey: Survey, site: Site) -> Account | None:
    entry = survey.files.get((site.summary.root or "").rstrip("/"))
    return None if entry is None else survey.account_by_uid.get(entry.uid)


def _usual(
    named: Sequence[tuple[Site, Mapping[str, str]]], path: Callable[[Site], str | None], of: int
) -> Habit[str] | None:
    """The pattern that most of the sites' paths keep to; None where none has a word in it."""
    found = Counter[str]()
    for site, words in named:
        where = path(site)
        if where:
            found.update(each for each in patterns_of(where.rstrip("/"), words) if "{" in each)
    best = found.most_common(1)
    return Habit(best[0][0], best[0][1], of) if best else None


def _own_log(site: Site) -> str | None:
    kept = site.summary.kept
    return site.summary.log if kept is not None and kept.own else None


def _bindings(site: Site) -> tuple[tuple[str, int], ...]:
    found = []
    for text in site.summary.bindings:
        # Bound to every port, it answers on the usual one.
        with suppress(ValueError):
            found.append(read_binding(text))
    return tuple(found) or (("*", 80),)


def _both(site: Site) -> bool:
    """Whether it answers to its name with and without `www`."""
    names = {name.lower() for name in site.summary.names}
    bare = site.summary.asked_as.lower().removeprefix("www.")
    return {bare, f"www.{bare}"} <= names


def _folders(
    survey: Survey,
    engine: Engine,
    pattern: str,
    named: Sequence[tuple[Site, Mapping[str, str]]],
) -> tuple[Held, ...]:
    """Whose the folders on the way to roots of a pattern are, from a site's own first one on."""
    parts = pattern.split("/")
    first = next(number for number, part in enumerate(parts) if "{" in part)
    found = []
    for depth in range(first + 1, len(parts) + 1):
        seen = Counter[Held]()
        for site, words in named:
            if filled(pattern, words) != (site.summary.root or "").rstrip("/"):
                continue
            entry = survey.files.get(filled("/".join(parts[:depth]), words))
            if entry is not None and entry.kind is Kind.DIR:
                seen[_held(survey, engine, entry, words["owner"])] += 1
        found.append(seen.most_common(1)[0][0] if seen else Held(False, OWN, 0o755))
    return tuple(found)


def _logs(
    survey: Survey, engine: Engine, pattern: str, named: Sequence[tuple[Site, Mapping[str, str]]]
) -> Held:
    seen = Counter[Held]()
    for site, words in named:
        if filled(pattern, words) == site.summary.log:
            entry = survey.files.get((site.summary.log or "").rpartition("/")[0])
            if entry is not None and entry.kind is Kind.DIR:
                seen[_held(survey, engine, entry, words["owner"])] += 1
    return seen.most_common(1)[0][0] if seen else Held(True, "0", 0o755)


def _held(survey: Survey, engine: Engine, entry: Entry, owner: str) -> Held:
    worker = engine.worker
    account = survey.account_by_name.get(owner)
    group = str(entry.gid)
    if account is not None and entry.gid == account.gid:
        group = OWN
    elif worker is not None and entry.gid in worker.groups:
        group = WORKERS
    bits = [
        each.perms
        for each in entry.acl or ()
        if worker is not None and each.tag == "user" and each.id == worker.uid
    ]
    return Held(entry.uid == 0, group, entry.mode & 0o7777, bits[0] if bits else 0)


def _written(
    survey: Survey, engine: Engine, named: Sequence[tuple[Site, Mapping[str, str]]], of: int
) -> Habit[Written] | None:
    """None where sites have no files of their own."""
    pairs = {pair.enabled: pair for pair in paired_folders(survey, engine.record)}
    found = Counter[Written]()
    for site, words in named:
        folder, _, leaf = site.summary.place.file.rpartition("/")
        ordered = _ORDER.sub("{order}", leaf)
        entry = survey.files.get(site.summary.place.file)
        pair = pairs.get(folder)
        for said in _leaves(ordered, words):
            if pair is None or entry is None or entry.target is None:
                found[Written(folder, said)] += 1
            else:
                # What is enabled may be called otherwise than what is written; the link tells.
                link = entry.target.rpartition("/")[0]
                found[Written(pair.available, said, folder, f"{link}/")] += 1
    best = found.most_common(1)
    return Habit(best[0][0], best[0][1], of) if best else None


def _leaves(leaf: str, words: Mapping[str, str]) -> Iterator[str]:
    """The ways to say the name of a file; one that says nothing of the site nor its place among
    others is no pattern for a second one.
    """
    rest = leaf.removeprefix("{order}")
    found = (leaf.removesuffix(rest) + said for said in patterns_of(rest, words))
    yield from (said for said in found if "{" in said)


def _indent(scene: Scene, sites: Sequence[Site]) -> str:
    texts = ("\n".join(scene.text(site.summary.place.file)) for site in sites[:50])
    firsts = (_INDENTED.search(text) for text in texts)
    usual = _most((hit[1] for hit in firsts if hit is not None), len(sites))
    return usual.value if usual else "    "
