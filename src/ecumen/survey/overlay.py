"""A survey as a base and what is different: 50 changed paths on a million take milliseconds.

The base is shared and never changed. What is asked by path is answered from the changes first;
whole columns are copied only where somebody asks for them.
"""

from __future__ import annotations

from array import array
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt

from ecumen.survey.files import COLUMNS, KINDS, Acl, Entry, Extra, FileTable, Split
from ecumen.survey.model import Account, Group, Listener, NameRecord, Survey

_K = TypeVar("_K", bound=Hashable)
_V = TypeVar("_V")
_NUMBERS = (*COLUMNS, "listed")


@dataclass(frozen=True, slots=True)
class Delta:
    """What is otherwise than in a survey; by its key each, None where it is gone.

    entries: by path. texts: of configuration files, by path. accounts, groups: by name. names: by
    the name in lower case. listeners: by address and port. rules: the texts of the contexts' rules,
    by file name. switches: of the policy, by name. running: whether engines do, by their kinds.
    """

    entries: Mapping[str, Entry | None] = field(default_factory=dict)
    texts: Mapping[str, bytes | None] = field(default_factory=dict)
    accounts: Mapping[str, Account | None] = field(default_factory=dict)
    groups: Mapping[str, Group | None] = field(default_factory=dict)
    names: Mapping[str, NameRecord | None] = field(default_factory=dict)
    listeners: Mapping[tuple[str, int], Listener | None] = field(default_factory=dict)
    rules: Mapping[str, str | None] = field(default_factory=dict)
    switches: Mapping[str, bool] = field(default_factory=dict)
    running: Mapping[str, bool] = field(default_factory=dict)

    def then(self, later: Delta) -> Delta:
        """Both, of which the later one stands where they say different things."""
        names = [each.name for each in fields(self)]
        return Delta(**{name: {**getattr(self, name), **getattr(later, name)} for name in names})


def after(survey: Survey, delta: Delta) -> Survey:
    """The survey with what is different. Switches are lost where it holds no policy."""
    changed: dict[str, Any] = {}
    if delta.entries:
        changed["files"] = OverlaidTable(survey.files, delta.entries)
    if delta.texts:
        changed["texts"] = _merged(survey.texts, delta.texts)
    if delta.accounts:
        changed["accounts"] = _listed(survey.accounts, lambda each: each.name, delta.accounts)
    if delta.groups:
        changed["groups"] = _listed(survey.groups, lambda each: each.name, delta.groups)
    if delta.names:
        changed["names"] = _listed(survey.names, lambda each: each.name.lower(), delta.names)
    if delta.listeners:
        at = delta.listeners
        changed["listeners"] = _listed(survey.listeners, lambda x: (x.address, x.port), at)
    if delta.running:
        changed["engines"] = tuple(
            replace(each, running=delta.running[each.kind]) if each.kind in delta.running else each
            for each in survey.engines
        )
    labels = survey.labels
    if delta.rules:
        labels = replace(labels, files=_merged(labels.files, delta.rules))
    if delta.switches and labels.policy is not None:
        active = {**labels.policy.active, **delta.switches}
        labels = replace(labels, policy=replace(labels.policy, active=active))
    if labels is not survey.labels:
        changed["labels"] = labels
    return replace(survey, **changed) if changed else survey


def _merged(base: Mapping[str, _V], changed: Mapping[str, _V | None]) -> dict[str, _V]:
    whole = dict(base)
    for key, value in changed.items():
        if value is None:
            whole.pop(key, None)
        else:
            whole[key] = value
    return whole


def _listed(
    base: Iterable[_V], key: Callable[[_V], _K], changed: Mapping[_K, _V | None]
) -> tuple[_V, ...]:
    """In the order of the base, what is new behind it. Of several with one key the first stands."""
    left = dict(changed)
    found = []
    for each in base:
        name = key(each)
        now = left.pop(name, None) if name in changed else each
        if now is not None:
            found.append(now)
    return (*found, *(each for each in left.values() if each is not None))


class OverlaidTable(FileTable):
    """A file table of which some paths are different. Rows are numbered as the base has them where
    it holds the same paths; else anew, with what is added at the end.
    """

    def __init__(self, base: FileTable, changed: Mapping[str, Entry | None]) -> None:
        # Nothing of the table above is set up: what is asked by number comes from `_flat`.
        # A change of a change is one change of the first base: however often a plan is tried, a
        # question never goes through more than two tables.
        under = base if isinstance(base, OverlaidTable) else None
        self.base: FileTable = base if under is None else under.base
        self.changed: dict[str, Entry | None] = {
            **({} if under is None else under.changed),
            **changed,
        }
        self._children = {}

    def __getattr__(self, name: str) -> Any:
        if name not in _NUMBERS and name not in ("context_names", "_extra"):
            # What is set up when it is first asked for, and pickling, look for attributes that may
            # not be there.
            raise AttributeError(name)
        return getattr(self._flat, name)

    @cached_property
    def _moved(self) -> dict[str, tuple[set[str], set[str]]]:
        """By folder: the names that are in it now, and those that are no more."""
        found: dict[str, tuple[set[str], set[str]]] = {}
        for path, entry in self.changed.items():
            folder, _, name = path.rpartition("/")
            there = found.setdefault(folder or "/", (set(), set()))
            if name:
                there[entry is None].add(name)
        return found

    @cached_property
    def _same_paths(self) -> bool:
        return all(
            (entry is not None) == (path in self.base) for path, entry in self.changed.items()
        )

    @cached_property
    def _flat(self) -> FileTable:
        """The same as one table of its own."""
        base, table = self.base, FileTable()
        for name in _NUMBERS:
            setattr(table, name, array(getattr(base, name).typecode, getattr(base, name)))
        table.context_names = list(base.context_names)
        table._context_code = dict(base._context_code)
        table._extra = dict(base._extra)
        gone = []
        for path, entry in self.changed.items():
            row = base.row(path)
            if row < 0:
                continue
            if entry is None:
                gone.append(row)
            else:
                _write(table, row, entry)
        if self._same_paths:
            table._held = base._held
            for name in ("_row", "split", "parents", "_by_folder"):
                if name in base.__dict__:
                    table.__dict__[name] = base.__dict__[name]
            return table
        paths = base.paths
        if gone:
            paths = _without(table, paths, gone)
        table._held = (list(paths), [])
        for path, entry in self.changed.items():
            if entry is not None and path not in base:
                table._add(entry)
        return table

    @property
    def paths(self) -> list[str]:
        return self.base.paths if self._same_paths else self._flat.paths

    def __len__(self) -> int:
        if self._same_paths:
            return len(self.base)
        moved = ((entry is not None) - (path in self.base) for path, entry in self.changed.items())
        return len(self.base) + sum(moved)

    def row(self, path: str) -> int:
        return self.base.row(path) if self._same_paths else self._flat.row(path)

    def entry(self, row: int) -> Entry:
        if not self._same_paths:
            return self._flat.entry(row)
        return self.changed.get(self.base.paths[row]) or self.base.entry(row)

    @cached_property
    def _row(self) -> dict[str, int]:
        return self.base._row if self._same_paths else self._flat._row

    @cached_property
    def split(self) -> Split:
        return self.base.split if self._same_paths else self._flat.split

    @cached_property
    def parents(self) -> npt.NDArray[np.int64]:
        return self.base.parents if self._same_paths else self._flat.parents

    @cached_property
    def _by_folder(self) -> dict[str, npt.NDArray[np.int64]]:
        return self.base._by_folder if self._same_paths else self._flat._by_folder

    def acl_codes(self) -> tuple[list[Acl | None], npt.NDArray[np.uint64]]:
        return self._flat.acl_codes()

    def __contains__(self, path: str) -> bool:
        if path in self.changed:
            return self.changed[path] is not None
        return path in self.base

    def __iter__(self) -> Iterator[Entry]:
        for entry in self.base:
            now = self.changed.get(entry.path, entry)
            if now is not None:
                yield now
        yield from (
            e for path, e in self.changed.items() if e is not None and path not in self.base
        )

    def get(self, path: str) -> Entry | None:
        return self.changed[path] if path in self.changed else self.base.get(path)

    def children(self, path: str) -> list[str]:
        moved = self._moved.get(path)
        if moved is None:
            return self.base.children(path)
        found = self._children.get(path)
        if found is None:
            there, gone = moved
            found = self._children[path] = sorted((there | set(self.base.children(path))) - gone)
        return found


def nothing_moved(before: FileTable, after: FileTable) -> bool:
    """Whether every path of one table leads where it leads in the other: both are changes of one
    base, and of what is different only owners, modes and the like are. What is new leads nowhere
    that anything led before.
    """
    if before is after:
        return True
    bases = [each.base if isinstance(each, OverlaidTable) else each for each in (before, after)]
    if bases[0] is not bases[1]:
        return False
    paths = {p for t in (before, after) if isinstance(t, OverlaidTable) for p in t.changed}
    for path in paths:
        was, now = before.get(path), after.get(path)
        if was is not None and (now is None or (was.kind, was.target) != (now.kind, now.target)):
            return False
    return True


def _write(table: FileTable, row: int, entry: Entry) -> None:
    table.kind[row] = KINDS.index(entry.kind)
    for name in ("mode", "uid", "gid", "size", "mtime", "ctime", "listed"):
        getattr(table, name)[row] = getattr(entry, name)
    table.context[row] = 0 if entry.context is None else table._code(entry.context)
    extra = Extra(entry.target, entry.acl, entry.default_acl, entry.flags)
    table._extra.pop(row, None)
    if extra != Extra(None, None, None, ()):
        table._extra[row] = extra


def _without(table: FileTable, paths: list[str], gone: list[int]) -> list[str]:
    """Takes rows out of a table; the paths that are left."""
    kept = np.ones(len(paths), bool)
    kept[gone] = False
    for name in _NUMBERS:
        column = getattr(table, name)
        left = np.frombuffer(column, column.typecode)[kept]
        setattr(table, name, array(column.typecode, left.tobytes()))
    # Where each row that is kept comes to stand.
    numbers = np.cumsum(kept) - 1
    table._extra = {int(numbers[row]): each for row, each in table._extra.items() if kept[row]}
    return [path for path, there in zip(paths, kept.tolist(), strict=True) if there]
