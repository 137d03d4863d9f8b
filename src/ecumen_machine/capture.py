"""Metadata of whole trees, straight into columns: a process a core, and what is left of a subtree
is handed out again as they finish.

Every name is looked at by statx(2), which also tells what may not be changed, and its attributes
are asked for where it has any; the kernel's records become columns as they are. Links are not
followed.
"""

from __future__ import annotations

import ctypes
import gc
import os
import stat
from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from functools import cache, lru_cache
from itertools import repeat
from math import ceil
from typing import Any

import numpy as np
import numpy.typing as npt

from ecumen.survey import Acl
from ecumen.survey.files import (
    COLUMNS,
    KINDS,
    ColumnBlock,
    Columns,
    Extra,
    FolderColumns,
    Kind,
)
from ecumen_machine.acl import decode
from ecumen_machine.flags import names_of
from ecumen_machine.handles import SwappedError, open_plain

# Made up by the kernel as one looks: nothing in there belongs to a site.
PSEUDO = ("/proc", "/sys", "/dev")
AT_ONCE = 4096  # records of the kernel before they become columns
TOGETHER = 64  # names that one call after the other is made for: what it found is still near then
ENOUGH = 8192  # names that a process looks at before it hands in what it has
ALONE = 2_000  # names for which no further process is worth its start

# struct statx, where it holds what is wanted; statx(2).
_STATX = np.dtype(
    {
        "names": ["attributes", "uid", "gid", "mode", "size", "ctime", "cnsec", "mtime", "mnsec"],
        "formats": ["u8", "u4", "u4", "u2", "u8", "i8", "u4", "i8", "u4"],
        "offsets": [8, 20, 24, 28, 40, 96, 104, 112, 120],
        "itemsize": 256,
    }
)
_MODE_AT, _STEP = 14, 128  # in units of two bytes
_FLAGS = 0x30  # immutable and append-only
# Arguments as C takes them, made once: making them takes as long as a short call.
_AT_FDCWD = ctypes.c_int.from_param(-100)
_AS_IT_IS = ctypes.c_int.from_param(0x100 | 0x4000)  # AT_SYMLINK_NOFOLLOW, AT_STATX_DONT_SYNC
_BASIC = ctypes.c_uint.from_param(0x7FF)
_USUAL = 256  # bytes: no usual context or ACL is longer
_USUAL_SIZE, _NO_SIZE = ctypes.c_size_t.from_param(_USUAL), ctypes.c_size_t.from_param(0)
_CONTEXT, _ACL = "security.selinux", "system.posix_acl_access"
_CONTEXT_NAME, _ACL_NAME = _CONTEXT.encode(), _ACL.encode()

# The calls are short: letting other threads in between takes longer than they do. What they take
# is not declared, as looking each argument over takes longer, too.
_LIBC = ctypes.PyDLL(None)
_statx, _llistxattr, _lgetxattr = _LIBC.statx, _LIBC.llistxattr, _LIBC.lgetxattr
# Lists of attributes that are shorter name no context, or no ACL.
_WITH_CONTEXT, _WITH_ACL = len(_CONTEXT) + 1, len(_ACL) + 1

KIND_OF = {
    stat.S_IFREG: Kind.FILE,
    stat.S_IFDIR: Kind.DIR,
    stat.S_IFLNK: Kind.LINK,
    stat.S_IFSOCK: Kind.SOCKET,
    stat.S_IFIFO: Kind.PIPE,
    stat.S_IFCHR: Kind.CHAR,
    stat.S_IFBLK: Kind.BLOCK,
}
_KIND_BY_FORMAT = np.zeros(16, np.uint8)
for _format, _kind in KIND_OF.items():
    _KIND_BY_FORMAT[_format >> 12] = KINDS.index(_kind)


@dataclass(slots=True)
class TreePart:
    """What one process saw. folders: each with the names in it, joined by NUL, with how many there
    are and whether these are all. more: by the number of the name: a link's text, ACL and default
    ACL as attributes. flags: of what has any, by its number. gaps: what, where and why. left:
    folders that it did not come to.
    """

    folders: list[tuple[bytes, bytes, int, bool]] = field(default_factory=list)
    rows: list[dict[str, npt.NDArray[Any]]] = field(default_factory=list)
    contexts: array[int] = field(default_factory=lambda: array("H"))
    context_names: list[bytes] = field(default_factory=list)
    more: dict[int, tuple[bytes | None, bytes | None, bytes | None]] = field(default_factory=dict)
    flags: dict[int, int] = field(default_factory=dict)
    gaps: list[tuple[str, bytes, str]] = field(default_factory=list)
    left: list[bytes] = field(default_factory=list)


@cache
def labels_by_itself() -> bool:
    """Whether the kernel gives a context to what has none of its own: it lists none then, and tells
    it to whoever asks (selinux_inode_getsecurity).
    """
    return os.path.exists("/sys/fs/selinux/enforce")


class _Looker:
    """Looks at folders until it has had enough of them."""

    def __init__(self, enough: int) -> None:
        self.enough = enough
        self.part = TreePart()
        records = ctypes.create_string_buffer(_STATX.itemsize * AT_ONCE)
        self._records = memoryview(records).cast("B")
        self._records_at = _places(records, _STATX.itemsize)
        self._modes = self._records.cast("H")
        self._filled = 0
        self._values = ctypes.create_string_buffer(_USUAL * TOGETHER)
        self._values_at = _places(self._values, _USUAL)
        acl = ctypes.create_string_buffer(_USUAL)
        self._acl = memoryview(acl).cast("B")
        self._acl_at = ctypes.byref(acl)
        self._codes: dict[bytes, int] = {}
        self._labelled = labels_by_itself()

    def look(self, folders: Sequence[bytes], *, inside: bool) -> TreePart:
        """inside: the process goes into each folder, which makes paths short."""
        part = self.part = TreePart()
        self._codes.clear()
        stack = list(folders)
        while stack and len(part.contexts) < self.enough:
            folder = stack.pop()
            if not f"{os.fsdecode(folder)}/".startswith(_PSEUDO):
                self._folder(folder, stack, inside)
        self._flush()
        part.left = stack
        return part

    def _folder(self, folder: bytes, stack: list[bytes], inside: bool) -> None:
        part = self.part
        try:
            # Whatever its owner swaps for a link meanwhile: nothing beyond it is looked at.
            handle = open_plain(folder, os.O_RDONLY | os.O_DIRECTORY)
        except SwappedError:
            return
        except OSError as error:
            part.gaps.append(("folder", folder, error.strerror or str(error)))
            return
        base = folder if folder.endswith(b"/") else folder + b"/"
        before = b"" if inside else b"/proc/self/fd/%d/" % handle
        try:
            if inside:
                os.fchdir(handle)
            names = sorted(map(os.fsencode, os.listdir(handle)))
            seen = [
                name
                for at in range(0, len(names), TOGETHER)
                for name in self._names(names[at : at + TOGETHER], base, before, stack)
            ]
        except OSError as error:
            part.gaps.append(("folder", folder, error.strerror or str(error)))
            return
        finally:
            os.close(handle)
        gone = len(names) - len(seen)
        complete = not gone or not any(gap[1].startswith(base) for gap in part.gaps[-gone:])
        part.folders.append((folder, b"\0".join(seen), len(seen), complete))

    def _names(
        self, names: list[bytes], base: bytes, before: bytes, stack: list[bytes]
    ) -> list[bytes]:
        """Looks at a few names of one folder; returns those that could be looked at."""
        if self._filled + len(names) > AT_ONCE:
            self._flush()
        first, end = self._filled, self._filled + len(names)
        paths = [before + name for name in names] if before else names
        failed = list(
            map(
                _statx,
                repeat(_AT_FDCWD),
                paths,
                repeat(_AS_IT_IS),
                repeat(_BASIC),
                self._records_at[first:end],
            )
        )
        if any(failed):
            there = [name for name, bad in zip(names, failed, strict=True) if not bad]
            for name, bad in zip(names, failed, strict=True):
                if bad:
                    self._gone(base + name, before + name)
            return self._names(there, base, before, stack) if there else []
        self._filled = end
        part = self.part
        number = len(part.contexts)
        modes = self._modes[_MODE_AT + _STEP * first : _STEP * end : _STEP].tolist()
        if min(modes) < stat.S_IFREG or max(modes) >= stat.S_IFREG + 0o10000:
            for at, mode in enumerate(modes):
                if stat.S_ISDIR(mode):
                    stack.append(base + names[at])
                elif stat.S_ISLNK(mode):
                    part.more[number + at] = (_target(paths[at]), None, None)
        # A file system without attributes has none to tell; where the kernel labels by itself (a
        # mount with a context, or by the kind of file system), it lists none and tells it.
        lists = list(map(_llistxattr, paths, repeat(None), repeat(_NO_SIZE)))
        if max(lists) <= 0 and not self._labelled:
            part.contexts.extend(repeat(0, len(paths)))
            return names
        part.contexts.extend(self._contexts(paths, lists))
        for at in [at for at, length in enumerate(lists) if length >= _WITH_ACL]:
            acl, default = self._acls(paths[at], stat.S_ISDIR(modes[at]))
            if acl or default:
                part.more[number + at] = (part.more.get(number + at, _NOTHING)[0], acl, default)
        return names

    def _contexts(self, paths: list[bytes], lists: list[int]) -> Iterable[int]:
        """The number of each one's context."""
        lengths = list(
            map(_lgetxattr, paths, repeat(_CONTEXT_NAME), self._values_at, repeat(_USUAL_SIZE))
        )
        count, length = len(paths), lengths[0]
        values = self._values.raw[: count * _USUAL]
        if length > 0 and lengths.count(length) == count and values == values[:_USUAL] * count:
            # All alike, as mostly within a folder.
            return repeat(self._number(values[:length]), count)
        ctypes.memset(self._values, 0, count * _USUAL)
        return [
            self._number(
                values[at * _USUAL : at * _USUAL + length]
                if length > 0
                # None, or one that is longer than usual.
                else _value(paths[at], _CONTEXT)
                if lists[at] >= _WITH_CONTEXT
                else b""
            )
            for at, length in enumerate(lengths)
        ]

    def _acls(self, path: bytes, folder: bool) -> tuple[bytes | None, bytes | None]:
        """The ACL and the default ACL, which folders alone have."""
        length = _lgetxattr(path, _ACL_NAME, self._acl_at, _USUAL_SIZE)
        acl = bytes(self._acl[:length]) if length > 0 else _value(path, _ACL)
        return acl, _value(path, "system.posix_acl_default") if folder else None

    def _number(self, context: bytes) -> int:
        """A context's number; 0 for none, or what could not be read."""
        code = self._codes.get(context, 0)
        if context and not code:
            self.part.context_names.append(context)
            code = self._codes[context] = len(self._codes) + 1
        return code

    def _gone(self, path: bytes, at: bytes) -> None:
        """Says what could not be looked at, unless it simply is no longer there."""
        try:
            os.lstat(at)
        except FileNotFoundError:
            return
        except OSError as error:
            self.part.gaps.append(("metadata", path, error.strerror or str(error)))
            return
        self.part.gaps.append(("metadata", path, "it could not be looked at"))

    def _flush(self) -> None:
        """Takes what is wanted out of the kernel's own records."""
        if not self._filled:
            return
        seen = np.frombuffer(self._records, _STATX, self._filled)
        found = {
            "kind": _KIND_BY_FORMAT[seen["mode"] >> 12],
            "mode": seen["mode"] & 0o7777,
            "uid": seen["uid"],
            "gid": seen["gid"],
            "size": seen["size"],
            "mtime": seen["mtime"] * 1_000_000_000 + seen["mnsec"],
            "ctime": seen["ctime"] * 1_000_000_000 + seen["cnsec"],
        }
        part = self.part
        part.rows.append({name: found[name].astype(COLUMNS[name]) for name in found})
        first = len(part.contexts) - self._filled
        flags = seen["attributes"] & _FLAGS
        part.flags |= {first + at: int(flags[at]) for at in np.flatnonzero(flags).tolist()}
        self._filled = 0


def _places(buffer: ctypes.Array[ctypes.c_char], step: int) -> list[Any]:
    """Where calls may write, every so many bytes."""
    return [ctypes.byref(buffer, at) for at in range(0, len(buffer), step)]


def _value(path: bytes, attribute: str) -> bytes:
    try:
        return os.getxattr(path, attribute, follow_symlinks=False)
    except OSError:
        return b""


def _target(path: bytes) -> bytes:
    try:
        return os.readlink(path)
    except OSError:
        # It was a link a moment ago.
        return b""


_PSEUDO = tuple(f"{path}/" for path in PSEUDO)


@cache
def _looker() -> _Looker:
    """The one of this process: its buffers are large."""
    gc.disable()
    return _Looker(ENOUGH)


def _looked(folders: Sequence[bytes]) -> TreePart:
    return _looker().look(folders, inside=True)


def _parts(tops: Sequence[bytes], seen: Callable[[int], None]) -> Iterator[TreePart]:
    """What lies below the tops, in parts; none of them holds what another does."""
    part = _Looker(ALONE).look(tops, inside=False)
    count, todo = len(part.contexts), part.left
    yield part
    if not todo:
        return
    for part in _shared(todo):
        count += len(part.contexts)
        seen(count)
        yield part


def _shared(todo: list[bytes]) -> Iterator[TreePart]:
    """Parts, as processes hand them in; and without these where one of them is ended."""
    cores = min(os.cpu_count() or 1, 4)
    running: dict[Future[TreePart], list[bytes]] = {}
    try:
        with ProcessPoolExecutor(cores) as pool:
            while todo or running:
                # One waits for each that runs, so that no core waits for what was seen to be taken
                # in.
                while todo and len(running) < 2 * cores:
                    share = todo[-ceil(len(todo) / (2 * cores - len(running))) :]
                    running[pool.submit(_looked, share)] = share
                    del todo[-len(share) :]
                for future in wait(running, return_when=FIRST_COMPLETED).done:
                    part = future.result()
                    del running[future]
                    todo += part.left
                    yield part
    except BrokenProcessPool:
        # Perhaps for want of memory: on alone, and slower, with what no part holds.
        todo += [folder for share in running.values() for folder in share]
        looker = _Looker(ENOUGH)
        while todo:
            part = looker.look(todo, inside=False)
            todo = part.left
            yield part


def capture(
    tops: Sequence[str], seen: Callable[[int], None] = lambda count: None
) -> tuple[Columns, list[tuple[str, str, str]]]:
    """Everything below these folders, which do not lie in each other; they themselves are not in
    it. Returns columns, and gaps as (what, where, why). Raises nothing for what it meets.
    """
    columns = Columns()
    gaps: list[tuple[str, str, str]] = []
    codes: dict[str | None, int] = {None: 0}
    block = ColumnBlock()
    at = 0
    for part in _parts([os.fsencode(top) for top in tops], seen):
        for rows in part.rows:
            for name, column in rows.items():
                block.columns[name].frombytes(column.tobytes())
        known = [0, *(_numbered(codes, _text(name)) for name in part.context_names)]
        contexts = np.array(known, np.uint16)[np.frombuffer(part.contexts, np.uint16)]
        block.columns["context"].frombytes(contexts.tobytes())
        first, extra = at, _extras(part)
        for path, text, count, complete in part.folders:
            folder = FolderColumns(text, block, at, at + count, complete)
            columns.folders[os.fsdecode(path)] = folder
            while extra and first + extra[-1][0] < folder.end:
                number, more = extra.pop()
                folder.extra[first + number - at] = more
            at = folder.end
        gaps += [(what, os.fsdecode(path), why) for what, path, why in part.gaps]
    columns.context_names = list(codes)
    return columns, gaps


def _extras(part: TreePart) -> list[tuple[int, Extra]]:
    """What few paths have, by their numbers, the last one first."""
    return [
        (number, _extra(*part.more.get(number, _NOTHING), names_of(part.flags.get(number, 0))))
        for number in sorted({*part.flags, *part.more}, reverse=True)
    ]


_NOTHING = (None, None, None)


def _numbered(codes: dict[str | None, int], name: str) -> int:
    return codes.setdefault(name, len(codes))


def _text(context: bytes) -> str:
    return context.rstrip(b"\0").decode("utf-8", "replace")


@lru_cache(maxsize=4096)
def _extra(
    target: bytes | None, acl: bytes | None, default: bytes | None, flags: tuple[str, ...]
) -> Extra:
    return Extra(None if target is None else os.fsdecode(target), _acl(acl), _acl(default), flags)


def _acl(value: bytes | None) -> Acl | None:
    return decode(value) if value else None
