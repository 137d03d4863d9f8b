"""What a plan would open and close: for whom, and how much, beside what it is made for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import numpy.typing as npt

from ecumen.plan.operations import Operation, What
from ecumen.plan.overlay import cut_to, overlaid
from ecumen.rights.decide import READ, SEARCH, WRITE, Subject, subject_of
from ecumen.rights.table import AccessTable, Bits, Rows
from ecumen.survey import FileTable, Survey

_NEEDS = ((READ, "read"), (WRITE, "write"), (SEARCH, "pass or run"))
MOST_NAMED = 5


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


def everybody(survey: Survey) -> list[Subject]:
    """Every account, one for each name."""
    found = (subject_of(survey, account.name) for account in survey.accounts)
    return [subject for subject in found if subject is not None]


class Guarding(Protocol):
    """What keeps some accounts out beside owners, modes and ACLs."""

    accounts: frozenset[str]

    def lets(
        self, files: FileTable, need: int, turned: Mapping[str, bool]
    ) -> npt.NDArray[np.bool_]:
        """For each row. turned: switches that stand otherwise than in the survey."""


def opens(
    survey: Survey,
    operations: Sequence[Operation],
    accounts: Sequence[Subject] | None = None,
    guard: Guarding | None = None,
) -> list[Opening]:
    """What the plan would let accounts do that they may not do now, and the reverse; by owner, mode
    and ACL, and for the guard's accounts by what it lets through, too. Raises LookupError.
    """
    tops = {operation.path for operation in operations if operation.what is not What.SWITCH}
    if not tops:
        return []
    subjects = everybody(survey) if accounts is None else list(accounts)
    # Only what is changed, and what lies below, can be reached by others than before.
    before = cut_to(survey, tops)
    after = overlaid(before, operations)
    paths = [path for path in after.files.paths if _is_under(path, tops)]
    tables = [AccessTable(each.files, subjects) for each in (before, after)]
    turned = {o.path: o.value == "on" for o in operations if o.what is What.SWITCH}
    found: list[Opening] = []
    for need, what in _NEEDS:
        was = _all(tables[0], need, paths, guard, {})
        now = _all(tables[1], need, paths, guard, turned)
        for gains, bits in ((True, now & ~was), (False, was & ~now)):
            found += _grouped(tables[1], bits, paths, gains, what)
    return found


def _is_under(path: str, tops: set[str]) -> bool:
    here = path
    while here:
        if here in tops:
            return True
        here = here.rpartition("/")[0]
    return "/" in tops


def _all(
    table: AccessTable,
    need: int,
    paths: Sequence[str],
    guard: Guarding | None,
    turned: Mapping[str, bool],
) -> Bits:
    rows: Rows = np.array([table.files.row(path) for path in paths], np.int64)
    there = rows >= 0
    bits = np.zeros((len(paths), table.words), np.uint64)
    bits[there] = table.allowed(need, rows[there])
    if guard is not None:
        kept_out = there.copy()
        kept_out[there] = ~guard.lets(table.files, need, turned)[rows[there]]
        bits[kept_out] &= ~table.bits_of(guard.accounts)
    return bits


def _grouped(
    table: AccessTable, bits: Bits, paths: Sequence[str], gains: bool, what: str
) -> list[Opening]:
    """Accounts for whom the very same paths change stand together."""
    truth = table.members(bits)
    groups: dict[bytes, list[int]] = {}
    for account in np.flatnonzero(truth.any(axis=0)):
        groups.setdefault(truth[:, account].tobytes(), []).append(int(account))
    found = []
    for members in groups.values():
        changed = np.flatnonzero(truth[:, members[0]])
        names = [table.accounts[number].name for number in members]
        found.append(Opening(gains, what, names, len(changed), paths[int(changed[0])]))
    return sorted(found, key=lambda each: (-len(each.accounts), each.first))
