"""The walk along a path, as the kernel does it: search on every folder, links followed.

A folder that the account may not search does not end the walk here: it is noted as a blocked step,
and the walk goes on as if it were mended, so that the obstacles behind are found too.

Source: path_resolution(7), symlink(7), proc_sys_fs(5) for the protected links.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum

from ecumen.caches import Bounded
from ecumen.rights.decide import FOLLOW, LOOK, SEARCH, Decision, Subject, decide
from ecumen.survey import Entry, Kind, Survey

MOST_LINKS = 40  # path_resolution(7); the 41st is ELOOP
MOST_KEPT = 20_000  # folders to which the way is remembered
LONGEST_NAME = 255  # NAME_MAX, bytes
LONGEST_PATH = 4095  # PATH_MAX less the final NUL, bytes


class Problem(StrEnum):
    """Why a walk ends without an entry."""

    MISSING = "missing"
    NOT_FOLDER = "not-folder"
    LOOP = "loop"
    TOO_LONG = "too-long"
    UNSEEN = "unseen"


@dataclass(frozen=True, slots=True)
class Step:
    """One folder that must be searched, or one link that is followed (no decision of its own, but
    where a policy refuses it).

    protected: the kernel refuses this link in a sticky folder that everybody may write to.
    """

    entry: Entry
    decision: Decision | None
    protected: bool = False

    @property
    def blocked(self) -> bool:
        return self.protected or (self.decision is not None and not self.decision.allowed)


@dataclass(slots=True)
class Walk:
    """Where a path leads. `physical`: the path without links; `entry`: None where there is none."""

    physical: str
    entry: Entry | None
    steps: list[Step] = field(default_factory=list)
    problem: Problem | None = None
    links: int = 0

    @property
    def blocked(self) -> list[Step]:
        return [step for step in self.steps if step.blocked]


def join(folder: str, name: str) -> str:
    return f"{folder}{name}" if folder.endswith("/") else f"{folder}/{name}"


def name_length(name: str) -> int:
    """In bytes, as the file system counts."""
    return len(name) if name.isascii() else len(name.encode("utf-8", "surrogateescape"))


class Walker:
    """Walks of one subject over one survey."""

    def __init__(
        self, survey: Survey, subject: Subject, own_view: frozenset[str] = frozenset()
    ) -> None:
        """own_view: folders at which the subject sees something else than the survey holds."""
        self.own_view = own_view
        self.files = survey.files
        self.subject = subject
        self.protects_links = survey.kernel.get("fs.protected_symlinks") == "1"
        self._decided: dict[str, Step] = {}
        self._reached: dict[str, Walk] = Bounded(MOST_KEPT)

    def search(self, folder: Entry) -> Step:
        """The step of looking something up in this folder."""
        step = self._decided.get(folder.path)
        if step is None:
            step = Step(folder, decide(folder, self.subject, SEARCH))
            self._decided[folder.path] = step
        return step

    def looks(self, entry: Entry) -> bool:
        """Whether stat(2) tells what something is, once the way there is open."""
        return self.subject.guard is None or decide(entry, self.subject, LOOK).allowed

    def look(self, folder: str, name: str) -> tuple[Entry | None, Problem | None]:
        """The entry of a name in a physical folder; MISSING only where the survey can tell."""
        path = join(folder, name)
        if path in self.own_view:
            return None, Problem.UNSEEN
        entry = self.files.get(path)
        if entry is not None:
            return entry, None
        if name_length(name) > LONGEST_NAME:
            return None, Problem.TOO_LONG
        holder = self.files.get(folder)
        # A folder that was not listed whole may hold anything.
        known = holder is not None and holder.listed
        return None, Problem.MISSING if known else Problem.UNSEEN

    def walk(self, path: str, follow_last: bool = True) -> Walk:
        """Walks an absolute path from the root."""
        if name_length(path) > LONGEST_PATH:
            # The kernel refuses it before it looks at any folder.
            return Walk("/", self.files.get("/"), problem=Problem.TOO_LONG)
        folder, slash, last = path.rpartition("/")
        if not slash or not last:
            walk = self._from_root()
            if walk.problem is None:
                self._go(walk, path, follow_last)
            return walk
        # Neighbours are asked for one after the other: the way to their folder is walked once.
        known = self._reached.get(folder)
        if known is None:
            known = self._from_root()
            if known.problem is None:
                self._go(known, folder, True, within=True)
            self._reached[folder] = known
        # A copy of the list, as its steps go on from here.
        walk = Walk(known.physical, known.entry, known.steps.copy(), known.problem, known.links)
        if walk.problem is None:
            self._component(walk, last, follow_last, True)
        return walk

    def _from_root(self) -> Walk:
        root = self.files.get("/")
        return Walk("/", root, problem=None if root else Problem.UNSEEN)

    def follow(self, link: Entry) -> Walk:
        """Where a link leads, walked from the folder that holds it."""
        folder = link.path.rpartition("/")[0] or "/"
        walk = Walk(folder, self.files.get(folder))
        if walk.entry is None:
            walk.problem = Problem.UNSEEN
            return walk
        self._through(walk, link, True)
        return walk

    def _go(self, walk: Walk, text: str, follow_last: bool, *, within: bool = False) -> None:
        """within: more names follow, so that none of these is the last."""
        parts = [part for part in text.split("/") if part]
        wants_folder = text.endswith("/")
        for at, part in enumerate(parts):
            last = at == len(parts) - 1 and not within
            self._component(walk, part, follow_last or not last or wants_folder, last)
            if walk.problem is not None:
                return
        if wants_folder and walk.entry is not None and walk.entry.kind is not Kind.DIR:
            walk.problem = Problem.NOT_FOLDER

    def _component(self, walk: Walk, part: str, follow: bool, last: bool) -> None:
        here = walk.entry
        assert here is not None
        if here.kind is not Kind.DIR:
            walk.problem = Problem.NOT_FOLDER
            return
        walk.steps.append(self.search(here))
        if part == ".":
            return
        if part == "..":
            up = walk.physical.rpartition("/")[0] or "/"
            walk.physical, walk.entry = up, self.files.get(up)
            walk.problem = None if walk.entry else Problem.UNSEEN
            return
        entry, problem = self.look(walk.physical, part)
        if entry is None:
            walk.problem = problem
            walk.entry = None
            walk.physical = join(walk.physical, part)
            return
        if entry.kind is Kind.LINK and follow:
            self._through(walk, entry, last)
        else:
            walk.physical, walk.entry = entry.path, entry

    def _through(self, walk: Walk, link: Entry, last: bool) -> None:
        # Links count over the whole walk, those within links too; so the kernel counts
        # (MAXSYMLINKS).
        walk.links += 1
        if walk.links > MOST_LINKS:
            walk.problem = Problem.LOOP
            walk.entry = None
            return
        holder = walk.entry
        # fs.protected_symlinks guards only the last link of a path (may_follow_link).
        refused = last and holder is not None and self._refuses(holder, link)
        followed = None if self.subject.guard is None else decide(link, self.subject, FOLLOW)
        kept_out = followed if followed is not None and not followed.allowed else None
        walk.steps.append(Step(link, kept_out, refused))
        target = link.target or ""
        # Only a damaged file system has it; the kernel says ENOENT.
        if not target:
            walk.problem = Problem.MISSING
            walk.entry = None
            return
        if target.startswith("/"):
            walk.physical, walk.entry = "/", self.files.get("/")
            if walk.entry is None:
                walk.problem = Problem.UNSEEN
                return
        self._go(walk, target, True)

    def _refuses(self, holder: Entry, link: Entry) -> bool:
        return (
            self.protects_links
            and holder.mode & 0o1002 == 0o1002
            and link.uid not in (self.subject.uid, holder.uid)
        )
