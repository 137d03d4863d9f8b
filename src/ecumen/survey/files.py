"""The file table: metadata of up to millions of paths, kept in columns."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from ecumen.caches import Bounded


class Kind(StrEnum):
    """File types of stat(2)."""

    FILE = "file"
    DIR = "dir"
    LINK = "link"
    SOCKET = "socket"
    PIPE = "pipe"
    CHAR = "char"
    BLOCK = "block"


KINDS = tuple(Kind)
_KIND_CODE: dict[str, int] = {kind: code for code, kind in enumerate(KINDS)}


@dataclass(frozen=True, slots=True)
class AclEntry:
    """One entry of a POSIX ACL (acl(5)). `id` is None for the owner, owning group, mask, other."""

    tag: str
    id: int | None
    perms: int

    def text(self) -> str:
        bits = "".join(c if self.perms & b else "-" for c, b in (("r", 4), ("w", 2), ("x", 1)))
        return f"{self.tag}:{'' if self.id is None else self.id}:{bits}"


Acl = tuple[AclEntry, ...]


def parse_acl(text: str) -> Acl:
    """`user::rwx,user:1001:r-x,...` with numeric ids. Raises ValueError."""
    entries = []
    for part in text.split(","):
        tag, who, bits = part.split(":")
        if tag not in ("user", "group", "mask", "other") or len(bits) != 3:
            raise ValueError(f"no access-control entry: {part}")
        perms = sum(b for c, b in zip(bits, (4, 2, 1), strict=True) if c != "-")
        entries.append(AclEntry(tag, int(who) if who else None, perms))
    return tuple(entries)


def acl_text(acl: Acl) -> str:
    return ",".join(entry.text() for entry in acl)


@dataclass(frozen=True, slots=True)
class Entry:
    """Metadata of one path, as lstat(2) tells it.

    mode: 0 to 0o7777. size: bytes. mtime, ctime: nanoseconds since 1970, UTC. target: a link's
    text. listed: a folder whose children all stand in the table. flags: `immutable`, `append-only`
    (chattr(1)).
    """

    path: str
    kind: Kind
    mode: int
    uid: int
    gid: int
    size: int = 0
    mtime: int = 0
    ctime: int = 0
    target: str | None = None
    acl: Acl | None = None
    default_acl: Acl | None = None
    context: str | None = None
    listed: bool = False
    flags: tuple[str, ...] = ()


MOST_RECENT = 50_000


@dataclass(frozen=True, slots=True)
class Extra:
    """What few paths have."""

    target: str | None
    acl: Acl | None
    default_acl: Acl | None
    flags: tuple[str, ...]


_PLAIN = Extra(None, None, None, ())
# path, kind, mode, uid, gid, size, mtime, ctime, listed, context
PlainRow = tuple[str, str, int, int, int, int, int, int, bool, str | None]
# A path's numbers, and of which type of array they are. context: a number among the names of
# contexts.
COLUMNS = {
    "kind": "B", "mode": "H", "uid": "I", "gid": "I", "size": "q", "mtime": "q", "ctime": "q",
    "context": "H",
}  # fmt: skip


def _columns() -> dict[str, array[int]]:
    return {name: array(kind) for name, kind in COLUMNS.items()}


@dataclass(slots=True)
class ColumnBlock:
    """The numbers of what lies in several folders: by the name of the column, one for each path."""

    columns: dict[str, array[int]] = field(default_factory=_columns)


@dataclass(slots=True)
class FolderColumns:
    """What lies directly in one folder. names: sorted, joined by NUL; their numbers stand in the
    block from `start` to `end`.

    listed: these are all. extra: by the number of the name.
    """

    names: bytes
    block: ColumnBlock
    start: int
    end: int
    listed: bool
    extra: dict[int, Extra] = field(default_factory=dict)

    @property
    def leaves(self) -> list[str]:
        return _leaves(self.names) if self.names else []

    def column(self, name: str) -> npt.NDArray[Any]:
        column = np.frombuffer(self.block.columns[name], COLUMNS[name])
        return column[self.start : self.end]


@dataclass(slots=True)
class Columns:
    """Folders by their paths. context_names: what stands behind the numbers of contexts."""

    folders: dict[str, FolderColumns] = field(default_factory=dict)
    context_names: list[str | None] = field(default_factory=lambda: [None])

    def __len__(self) -> int:
        return sum(folder.end - folder.start for folder in self.folders.values())

    @property
    def blocks(self) -> list[ColumnBlock]:
        return list({id(each.block): each.block for each in self.folders.values()}.values())

    def join(self, other: Columns) -> None:
        """Adds the folders of others; of two of one path the later one stands."""
        codes = {name: number for number, name in enumerate(self.context_names)}
        known = np.array(
            [codes.setdefault(name, len(codes)) for name in other.context_names], np.uint16
        )
        for block in other.blocks:
            # Two parts of a survey that were made side by side number contexts each in its own way.
            codes_before = np.frombuffer(block.columns["context"], np.uint16)
            block.columns["context"] = array("H", known[codes_before].tobytes())
        self.folders |= other.folders
        self.context_names = list(codes)


def _leaves(names: bytes) -> list[str]:
    return names.decode("utf-8", "surrogateescape").split("\0")


def _base(folder: str) -> str:
    """What stands in front of the names in a folder."""
    return folder if folder.endswith("/") else f"{folder}/"


@dataclass(frozen=True, slots=True)
class Split:
    """Paths as folders and names in them. folders, names: the different ones, without a slash at
    the end or in front; folder_of, name_of: their numbers, one for each row.
    """

    folders: list[str]
    folder_of: npt.NDArray[np.int32]
    names: list[str]
    name_of: npt.NDArray[np.int32]


def _numbered(texts: list[str]) -> tuple[list[str], npt.NDArray[np.int32]]:
    """The different ones, and the number of each."""
    different = list(dict.fromkeys(texts))
    numbers = dict(zip(different, range(len(different)), strict=True))
    return different, np.fromiter(map(numbers.__getitem__, texts), np.int32, len(texts))


class FileTable:
    """Rows by path. Built once, never changed afterwards.

    A million rows take about 250 MB; a lookup is one dictionary access.
    """

    def __init__(self, entries: Iterable[Entry] = ()) -> None:
        # Paths, and behind them runs of rows in one folder as long as nobody asked for more paths:
        # what stands in front of their names, and these, with NUL between. Both in one, so that
        # several threads may ask.
        self._held: tuple[list[str], list[tuple[str, bytes]]] = ([], [])
        self.kind = array("B")
        self.mode = array("H")
        self.uid = array("I")
        self.gid = array("I")
        self.size = array("q")
        self.mtime = array("q")
        self.ctime = array("q")
        self.listed = array("B")
        self.context = array("H")
        self.context_names: list[str | None] = [None]
        self._context_code: dict[str | None, int] = {None: 0}
        self._extra: dict[int, Extra] = {}
        self._children: dict[str, list[str]] = {}
        # The folders on the way to everything are asked for again and again.
        self._recent: dict[str, Entry] = Bounded(MOST_RECENT)
        for entry in entries:
            self._add(entry)

    @classmethod
    def of(cls, columns: Columns, entries: Iterable[Entry] = ()) -> FileTable:
        """First the entries that no folder of the columns holds, then folder by folder. The columns
        are used up.
        """
        table = cls()
        held: dict[str, set[str]] = {}
        # Sorted, so that a folder stands in front of what is in it.
        for entry in sorted(entries, key=lambda each: each.path):
            around, _, leaf = entry.path.rpartition("/")
            around = around or "/"
            if around in columns.folders and around not in held:
                held[around] = set(columns.folders[around].leaves)
            if leaf not in held.get(around, ()):
                table._add(entry)
        table._recode(columns.context_names)
        folders = sorted(columns.folders.items())
        at = len(table)
        table.listed.frombytes(bytes(len(columns)))
        rows = {entry.path: row for row, entry in enumerate(table) if entry.kind is Kind.DIR}
        for path, folder in folders:
            base = _base(path)
            inner = np.flatnonzero(folder.column("kind") == _KIND_CODE[Kind.DIR]).tolist()
            leaves = folder.leaves if inner else []
            for number in inner:
                rows[base + leaves[number]] = at + number
            for number, extra in folder.extra.items():
                table._extra[at + number] = extra
            at += folder.end - folder.start
        for path, folder in folders:
            if folder.listed and path in rows:
                table.listed[rows[path]] = 1
        blocks = columns.blocks
        for name in COLUMNS if folders else ():
            # One column after the other, as two of all would lie in memory together.
            column = np.concatenate([folder.column(name) for _, folder in folders])
            getattr(table, name).frombytes(column.tobytes())
            for block in blocks:
                del block.columns[name]
        named = [(_base(path), folder.names) for path, folder in folders if folder.names]
        table._held = table._held[0], named
        # Is made anew where it is asked for.
        table.__dict__.pop("_row", None)
        return table

    @classmethod
    def whole(
        cls,
        runs: list[tuple[str, bytes]],
        columns: Mapping[str, array[int]],
        context_names: list[str | None],
        extras: dict[int, Extra],
    ) -> FileTable:
        """A table whose parts are there. runs: as `runs` gives them; no path stands there twice.
        columns: by name, all of `COLUMNS` and `listed`.
        """
        table = cls()
        table._held = [], runs
        for name, column in columns.items():
            setattr(table, name, column)
        table.context_names, table._extra = context_names, extras
        table._context_code = {name: code for code, name in enumerate(context_names)}
        return table

    @property
    def runs(self) -> tuple[list[str], list[tuple[str, bytes]]]:
        """The first paths, and for the rows behind them runs of those that follow each other in one
        folder: what stands in front of their names, and these, with NUL between.
        """
        return self._held

    @property
    def extras(self) -> Mapping[int, Extra]:
        """By row, what few have."""
        return self._extra

    @property
    def paths(self) -> list[str]:
        """The path of each row."""
        if self._held[1]:
            self._held = list(self._each_path()), []
        return self._held[0]

    def _each_path(self) -> Iterator[str]:
        first, runs = self._held
        yield from first
        for base, names in runs:
            yield from [base + leaf for leaf in _leaves(names)]

    def _recode(self, names: list[str | None]) -> None:
        """Numbers contexts as in another list, behind which its own stand."""
        codes = {name: number for number, name in enumerate(names)}
        known = [codes.setdefault(name, len(codes)) for name in self.context_names]
        self.context = array("H", [known[code] for code in self.context])
        self.context_names, self._context_code = list(codes), codes

    def _add(self, entry: Entry) -> None:
        self.add_row(
            entry.path,
            entry.kind,
            entry.mode,
            entry.uid,
            entry.gid,
            entry.size,
            entry.mtime,
            entry.ctime,
            entry.listed,
            entry.context,
            entry.target,
            entry.acl,
            entry.default_acl,
            entry.flags,
        )

    def add_row(
        self,
        path: str,
        kind: str,
        mode: int,
        uid: int,
        gid: int,
        size: int,
        mtime: int,
        ctime: int,
        listed: bool,
        context: str | None,
        target: str | None,
        acl: Acl | None,
        default_acl: Acl | None,
        flags: tuple[str, ...] = (),
    ) -> None:
        """Adds a row while the table is being built; of two for one path the first stands."""
        row = len(self.kind)
        # A second row of one path would give two answers, by whichever way it is asked.
        if self._row.setdefault(path, row) != row:
            return
        self._held[0].append(path)
        self.kind.append(_KIND_CODE[kind])
        self.mode.append(mode)
        self.uid.append(uid)
        self.gid.append(gid)
        self.size.append(size)
        self.mtime.append(mtime)
        self.ctime.append(ctime)
        self.listed.append(listed)
        self.context.append(0 if context is None else self._code(context))
        if target is not None or acl or default_acl or flags:
            self._extra[row] = Extra(target, acl, default_acl, flags)

    def _code(self, context: str | None) -> int:
        code = self._context_code.get(context)
        if code is None:
            code = self._context_code[context] = len(self.context_names)
            self.context_names.append(context)
        return code

    def __len__(self) -> int:
        return len(self.kind)

    def entry(self, row: int) -> Entry:
        """The entry in a row, counted from 0 in the order of `paths`."""
        return self._entry(row, self.paths[row])

    def row(self, path: str) -> int:
        """The row of a path; -1 where the table does not hold it."""
        return self._row.get(path, -1)

    @cached_property
    def _row(self) -> dict[str, int]:
        return dict(zip(self.paths, range(len(self.paths)), strict=True))

    @cached_property
    def split(self) -> Split:
        """Every path as a folder and a name in it."""
        paths = self.paths
        folders, folder_of = _numbered([path[: path.rindex("/")] for path in paths])
        names, name_of = _numbered([path[path.rindex("/") + 1 :] for path in paths])
        return Split(folders, folder_of, names, name_of)

    @cached_property
    def parents(self) -> npt.NDArray[np.int64]:
        """The row of the folder around each row; -1 where the table does not hold it."""
        split, row = self.split, self._row
        around = [row.get(folder or "/", -1) for folder in split.folders]
        found = np.array(around, np.int64)[split.folder_of]
        top = row.get("/")
        if top is not None:
            found[top] = -1
        return found

    def acl_codes(self) -> tuple[list[Acl | None], npt.NDArray[np.uint64]]:
        """The ACLs in use, and the number of each row's: 0 for none."""
        codes = np.zeros(len(self.paths), np.uint64)
        numbers: dict[Acl, int] = {}
        for number, extra in self._extra.items():
            if extra.acl:
                codes[number] = numbers.setdefault(extra.acl, len(numbers) + 1)
        return [None, *numbers], codes

    def __contains__(self, path: str) -> bool:
        return path in self._row

    def __iter__(self) -> Iterator[Entry]:
        return (self._entry(row, path) for row, path in enumerate(self._each_path()))

    def get(self, path: str) -> Entry | None:
        recent = self._recent.get(path)
        if recent is not None:
            return recent
        row = self._row.get(path)
        if row is None:
            return None
        entry = self._recent[path] = self._entry(row, path)
        return entry

    def _entry(self, row: int, path: str) -> Entry:
        extra = self._extra.get(row, _PLAIN)
        return Entry(
            path,
            KINDS[self.kind[row]],
            self.mode[row],
            self.uid[row],
            self.gid[row],
            self.size[row],
            self.mtime[row],
            self.ctime[row],
            extra.target,
            extra.acl,
            extra.default_acl,
            self.context_names[self.context[row]],
            bool(self.listed[row]),
            extra.flags,
        )

    def add_plain(self, rows: Sequence[PlainRow]) -> None:
        """Adds rows of files and folders without anything that few have, all at once."""
        if not rows:
            return
        begin, known = len(self.kind), self._row
        for at, row in enumerate(rows, begin):
            if known.setdefault(row[0], at) != at:
                break
        else:
            paths, kinds, *numbers, listed, contexts = zip(*rows, strict=True)
            self._held[0].extend(paths)
            self.kind.extend(map(_KIND_CODE.__getitem__, kinds))
            columns = (self.mode, self.uid, self.gid, self.size, self.mtime, self.ctime)
            for column, values in zip(columns, numbers, strict=True):
                column.extend(values)
            self.listed.extend(listed)
            self.context.extend(map(self._code, contexts))
            return
        # Two rows of one path: each is looked at by itself.
        for path in [row[0] for row in rows[: at - begin]]:
            del known[path]
        for row in rows:
            self.add_row(*row, None, None, None)

    def children(self, path: str) -> list[str]:
        """Names in a folder that the table holds, sorted. Complete only where it is `listed`."""
        found = self._children.get(path)
        if found is None:
            split = self.split
            rows = self._by_folder.get("" if path == "/" else path)
            numbers = [] if rows is None else split.name_of[rows].tolist()
            found = sorted(split.names[number] for number in numbers)
            if path == "/":
                found = [name for name in found if name]
            self._children[path] = found
        return found

    def folders_with(self, wanted: Callable[[str], bool]) -> set[str]:
        """The folders in which a wanted name lies; each different name is looked at once."""
        split = self.split
        found = np.array([wanted(name) for name in split.names], bool)
        numbers = np.unique(split.folder_of[found[split.name_of]]) if len(found) else ()
        return {split.folders[number] or "/" for number in numbers}

    @cached_property
    def _by_folder(self) -> dict[str, npt.NDArray[np.int64]]:
        """The rows of what lies in each folder."""
        split = self.split
        order = np.argsort(split.folder_of, kind="stable")
        ends = np.cumsum(np.bincount(split.folder_of, minlength=len(split.folders)))
        parts = np.split(order, ends[:-1]) if len(ends) else []
        return dict(zip(split.folders, parts, strict=True))
