"""Which owner can read or change what another owner keeps private: directly, through a group, or
through the web server's worker, for whom every owner's programs may run.

Private is what has a name that says so: dumps, keys, password and environment files, backups, and
configuration that usually holds passwords. Contents are never read.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ecumen.audit.holdings import secret_kind
from ecumen.audit.scene import Scene
from ecumen.audit.users import is_person
from ecumen.rights import READ, WRITE, Subject, subjects_of
from ecumen.rights.decide import decide
from ecumen.rights.table import AccessTable, Crowd
from ecumen.survey import Entry, Kind
from ecumen.survey.files import KINDS

_CONFIG = re.compile(
    r"/(?:config|settings|local|database|db|secrets?|credentials?)[^/]*"
    r"\.(?:php|py|rb|pl|ini|ya?ml|json|toml|cnf|conf|inc)\Z",
    re.IGNORECASE,
)
_SESSION = re.compile(r"/(?:sess_[0-9a-z,-]+|sessions?/[^/]+)\Z", re.IGNORECASE)
# What a site is mostly made of, and never private by its name.
_PAGES = frozenset(
    "html htm css js mjs png jpg jpeg gif svg webp ico woff woff2 mp3 mp4 pdf".split()
)
_FILE = KINDS.index(Kind.FILE)


@dataclass(frozen=True, slots=True)
class Exposed:
    """One private file. readers, writers: other people's accounts. workers: of the web servers,
    that may read it. how: what lets the first of the people.
    """

    entry: Entry
    kind: str
    owner: str
    readers: list[str]
    writers: list[str]
    workers: list[str]
    how: str


@dataclass(frozen=True, slots=True)
class Neighbour:
    """What one account can do to another's private files. worst: the first of the paths. worker:
    it is a web server's, for whom every owner's programs may run.
    """

    owner: str
    other: str
    reads: int
    writes: int
    worst: str
    kind: str
    how: str
    worker: bool


def private_kind(path: str) -> str | None:
    """What a name says it holds that is not for others; None for all else."""
    if _CONFIG.search(path):
        return "a configuration that may hold passwords"
    if _SESSION.search(path):
        return "a session"
    return secret_kind(path)


def exposed(scene: Scene) -> list[Exposed]:
    """Private files of people that another person or a web server's worker can read, or a person
    write, in the order of the paths.
    """
    return scene.once("exposed", lambda it: list(_exposed(it)))


def neighbours(scene: Scene) -> list[Neighbour]:
    """Who can do what to whom; those with the most first."""
    cells: dict[tuple[str, str], list[tuple[Exposed, bool, bool]]] = {}
    workers: set[str] = set()
    for found in exposed(scene):
        readers, writers = {*found.readers, *found.workers}, set(found.writers)
        workers.update(found.workers)
        for other in sorted(readers | writers):
            cell = (found, other in readers, other in writers)
            cells.setdefault((found.owner, other), []).append(cell)
    listed = [
        Neighbour(
            owner,
            other,
            sum(reads for _, reads, _ in each),
            sum(writes for _, _, writes in each),
            each[0][0].entry.path,
            each[0][0].kind,
            "the web server's account" if other in workers else each[0][0].how,
            other in workers,
        )
        for (owner, other), each in cells.items()
    ]
    return sorted(listed, key=lambda cell: (-cell.writes, -cell.reads, cell.owner, cell.other))


def _exposed(scene: Scene) -> Iterator[Exposed]:
    survey = scene.survey
    people = {account.name for account in survey.accounts if is_person(account)}
    subjects = [subject for subject in subjects_of(survey) if subject.name in people]
    workers = [e.worker for e in scene.engines if e.worker is not None]
    uids = {subject.uid for subject in subjects}
    files = survey.files
    rows, kinds = [], []
    owned = np.isin(np.array(files.uid), np.array(sorted(uids), np.uint32))
    for row in np.flatnonzero(owned & (np.array(files.kind) == _FILE)).tolist():
        path = files.paths[row]
        # Most files of a site are pages and pictures; not trying the patterns on them saves most of
        # the time.
        if path.rpartition(".")[2] in _PAGES and "sess" not in path:
            continue
        kind = private_kind(path)
        if kind is not None:
            rows.append(row)
            kinds.append(kind)
    if not rows:
        return
    table = AccessTable(files, Crowd([*subjects, *workers]))
    chosen = np.array(rows, np.int64)
    reads, writes = (table.members(table.allowed(need, chosen)) for need in (READ, WRITE))
    count = len(subjects)
    for number, (row, kind) in enumerate(zip(rows, kinds, strict=True)):
        entry = files.entry(row)
        others = [n for n in range(count) if subjects[n].uid != entry.uid]
        readers = [subjects[n] for n in others if reads[number, n]]
        writers = [subjects[n] for n in others if writes[number, n]]
        mine = [worker.name for n, worker in enumerate(workers, count) if reads[number, n]]
        if not readers and not writers and not mine:
            continue
        yield Exposed(
            entry,
            kind,
            survey.user_name(entry.uid),
            [subject.name for subject in readers],
            [subject.name for subject in writers],
            sorted(set(mine)),
            _how(entry, readers[0], READ)
            if readers
            else _how(entry, writers[0], WRITE)
            if writers
            else "",
        )


def _how(entry: Entry, subject: Subject, need: int) -> str:
    """What lets an account in, in words."""
    match decide(entry, subject, need).by:
        case "user":
            return "an ACL entry of its own"
        case "group":
            return "a group"
        case "other":
            return "the rights of everybody"
    return "root"
