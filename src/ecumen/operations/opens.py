"""What a plan would open and close: for whom, and how much, beside what it is made for."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import numpy.typing as npt

from ecumen.caches import Bounded
from ecumen.operations.operation import Operation
from ecumen.operations.trial import cut_to, simulated
from ecumen.rights.decide import READ, SEARCH, WRITE, Subject, subjects_of
from ecumen.rights.table import AccessTable, Bits, Crowd, Rows
from ecumen.survey import FileTable, Kind, Survey, after

_NEEDS = ((READ, "read"), (WRITE, "write"), (SEARCH, "pass or run"))
MOST_NAMED = 5
MOST_KEPT = 2000  # plans of which it is kept what they open
Truth = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Opening:
    """Accounts that gain (or lose) the same thing. paths: how many, and the first of them."""

    gains: bool
    what: str
    accounts: list[str]
    paths: int
    first: str

    @property
    def words(self) -> str:
        shown = ", ".join(self.accounts[:MOST_NAMED])
        more = len(self.accounts) - MOST_NAMED
        who = f"{shown} and {more} more" if more > 0 else shown
        verb = "may then" if self.gains else "may no longer"
        where = self.first if self.paths == 1 else f"{self.paths} paths, as {self.first}"
        return f"{who} {verb} {self.what} {where}"


class Guarding(Protocol):
    """What keeps some accounts out beside owners, modes and ACLs."""

    accounts: frozenset[str]

    def lets(self, files: FileTable, turned: Mapping[str, bool]) -> dict[int, Truth]:
        """By what is needed, for each row. turned: switches that stand otherwise than in the
        survey.
        """


class Opener:
    """Works out what plans open on one survey: for all its accounts, or for some.

    guard: what keeps some of them out beside modes and ACLs.
    """

    def __init__(
        self,
        survey: Survey,
        accounts: Iterable[Subject] | None = None,
        guard: Guarding | None = None,
    ) -> None:
        self.survey = survey
        self.guard = guard
        self.crowd = Crowd(subjects_of(survey) if accounts is None else accounts)
        guarded = guard.accounts if guard is not None else frozenset()
        self._guarded = Crowd(each for each in self.crowd.accounts if each.name in guarded)
        # Sites that share what is shut ask for the same plans.
        self._known: Bounded[tuple[Operation, ...], tuple[Opening, ...]] = Bounded(MOST_KEPT)

    def opens(self, operations: Sequence[Operation]) -> list[Opening]:
        """What a plan would let accounts do that they may not do now, and the reverse; by owner,
        mode and ACL, and for the guard's accounts by what it lets through, too. Raises LookupError.
        """
        plan = tuple(operations)
        known = self._known.get(plan)
        if known is None:
            known = self._known[plan] = tuple(self._opens(plan))
        return list(known)

    def _opens(self, operations: Sequence[Operation]) -> list[Opening]:
        tops = {operation.at for operation in operations} - {""}
        # Contexts are nothing to accounts that no policy keeps from anything.
        by_policy = all(each.of_policy for each in operations)
        crowd = self._guarded if by_policy else self.crowd
        if not tops or not crowd.accounts:
            return []
        # Only what is changed, and what lies below, can be reached by others than before.
        before = cut_to(self.survey, tops)
        delta = simulated(before, operations)
        changed = after(before, delta)
        lets = self._lets(before, {}), self._lets(changed, delta.switches)
        # Most relabelling changes nothing for the engines: then the two tables of everybody's
        # rights need not be made.
        if by_policy and all(np.array_equal(lets[0][need], lets[1][need]) for need in lets[0]):
            return []
        paths = [
            path
            for path in changed.files.paths
            if _is_under(path, tops) and not _is_new_link(before, changed, path)
        ]
        tables = [AccessTable(each.files, crowd) for each in (before, changed)]
        found: list[Opening] = []
        for need, what in _NEEDS:
            was, now = (self._all(t, need, paths, by) for t, by in zip(tables, lets, strict=True))
            for gains, bits in ((True, now & ~was), (False, was & ~now)):
                found += _grouped(tables[1], bits, paths, gains, what)
        return found

    def _lets(self, survey: Survey, turned: Mapping[str, bool]) -> dict[int, Truth]:
        return {} if self.guard is None else self.guard.lets(survey.files, turned)

    def _all(
        self, table: AccessTable, need: int, paths: Sequence[str], lets: Mapping[int, Truth]
    ) -> Bits:
        rows: Rows = np.array([table.files.row(path) for path in paths], np.int64)
        there = rows >= 0
        bits = np.zeros((len(paths), table.words), np.uint64)
        bits[there] = table.allowed(need, rows[there])
        if self.guard is not None:
            kept_out = there.copy()
            # The policy takes away and never gives: what modes forbid stays forbidden.
            kept_out[there] = ~lets[need][rows[there]]
            if kept_out.any():
                bits[kept_out] &= ~table.crowd.named(self.guard.accounts)
        return bits


def _is_new_link(before: Survey, changed: Survey, path: str) -> bool:
    """Through a link one comes to what it leads to: that it is there gives nobody anything."""
    entry = changed.files.get(path)
    return entry is not None and entry.kind is Kind.LINK and before.files.get(path) is None


def _is_under(path: str, tops: set[str]) -> bool:
    here = path
    while here:
        if here in tops:
            return True
        here = here.rpartition("/")[0]
    return "/" in tops


def _grouped(
    table: AccessTable, bits: Bits, paths: Sequence[str], gains: bool, what: str
) -> list[Opening]:
    """Accounts for whom the very same paths change stand together."""
    if not bits.any():
        return []
    truth = table.members(bits)
    groups: dict[bytes, list[int]] = {}
    for account in np.flatnonzero(truth.any(axis=0)):
        groups.setdefault(truth[:, account].tobytes(), []).append(int(account))
    found = []
    for members in groups.values():
        changed = np.flatnonzero(truth[:, members[0]])
        names = [table.crowd.accounts[number].name for number in members]
        found.append(Opening(gains, what, names, len(changed), paths[int(changed[0])]))
    return sorted(found, key=lambda each: (-len(each.accounts), each.first))
