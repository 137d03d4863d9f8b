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
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from ecumen.survey import Acl
from ecumen.survey.files import COLUMNS, KINDS, Columns, Extra, FolderColumns, Kind
from ecumen_machine.acl import decode
from ecumen_machine.flags import names_of

# Made up by the kernel as one looks: nothing in there belongs to a site.
PSEUDO = ("/proc", "/sys", "/dev")
AT_ONCE = 16_384  # names that a process looks at before it hands in what it has
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
_AT_FDCWD = -100
_AS_IT_IS = 0x100 | 0x4000  # AT_SYMLINK_NOFOLLOW, AT_STATX_DONT_SYNC
_BASIC = 0x7FF

# The call is short: letting other threads in between takes longer than it does. Its arguments
# are not declared, as looking each over takes longer, too.
_statx = ctypes.PyDLL(None).statx

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
class Part:
    """What one process saw. folders: each with how many of the names lie in it, and whether these
    are all. more: by the number of the name: a link's text, ACL and default ACL as attributes.
    gaps: what, where and why. left: folders that it did not come to.
    """

    folders: list[tuple[bytes, int, bool]] = field(default_factory=list)
    names: list[bytes] = field(default_factory=list)
    rows: list[npt.NDArray[np.void]] = field(default_factory=list)
    contexts: array[int] = field(default_factory=lambda: array("H"))
    context_names: list[bytes] = field(default_factory=list)
    more: dict[int, tuple[bytes | None, bytes | None, bytes | None]] = field(default_factory=dict)
    gaps: list[tuple[str, bytes, str]] = field(default_factory=list)
    left: list[bytes] = field(default_factory=list)

    def packed(self) -> tuple[bytes, Part]:
        """As it goes from one process to another: the names as one text."""
        text = b"\0".join(self.names)
        self.names = []
        return text, self


class _Looker:
    """Looks at folders until it has had enough of them."""

    def __init__(self, enough: int) -> None:
        self.enough = enough
        self.part = Part()
        self._buffer = ctypes.create_string_buffer(_STATX.itemsize * AT_ONCE)
        start = ctypes.addressof(self._buffer)
        self._pointers = [
            ctypes.c_void_p(start + number * _STATX.itemsize) for number in range(AT_ONCE)
        ]
        self._records = memoryview(self._buffer).cast("B")
        self._modes = self._records.cast("H")
        self._filled = 0
        self._codes: dict[bytes, int] = {}

    def look(self, folders: Sequence[bytes], *, inside: bool) -> Part:
        """inside: the process goes into each folder, which makes paths short."""
        part = self.part
        stack = list(folders)
        while stack and len(part.names) < self.enough:
            folder = stack.pop()
            if not f"{os.fsdecode(folder)}/".startswith(_PSEUDO):
                self._folder(folder, stack, inside)
        self._flush()
        part.left = stack
        return part

    def _folder(self, folder: bytes, stack: list[bytes], inside: bool) -> None:
        part = self.part
        try:
            handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
        except NotADirectoryError:
            return
        except OSError as error:
            part.gaps.append(("folder", folder, error.strerror or str(error)))
            return
        try:
            if inside:
                os.fchdir(handle)
            names = sorted(os.listdir(b"." if inside else folder))
        except OSError as error:
            part.gaps.append(("folder", folder, error.strerror or str(error)))
            return
        finally:
            os.close(handle)
        before = len(part.names)
        base = folder if folder.endswith(b"/") else folder + b"/"
        complete = self._names(names, base, b"" if inside else base, stack)
        part.folders.append((folder, len(part.names) - before, complete))

    def _names(
        self, names: Sequence[bytes], base: bytes, before: bytes, stack: list[bytes]
    ) -> bool:
        """False where one of them could not be looked at."""
        part, codes, modes, pointers = self.part, self._codes, self._modes, self._pointers
        kept, contexts, more = part.names, part.contexts, part.more
        statx, listed = _statx, os.listxattr
        complete = True
        for name in names:
            if self._filled == AT_ONCE:
                self._flush()
            path = before + name if before else name
            if statx(_AT_FDCWD, path, _AS_IT_IS, _BASIC, pointers[self._filled]):
                complete = self._gone(base + name) and complete
                continue
            kind = modes[_MODE_AT + _STEP * self._filled] & 0o170000
            self._filled += 1
            try:
                attributes = listed(path, follow_symlinks=False)
            except OSError:
                # A file system without attributes has none to tell.
                attributes = []
            code, acl, default = 0, None, None
            for attribute in attributes:
                if attribute == "security.selinux":
                    context = _value(path, attribute)
                    code = codes.get(context, 0) or self._numbered(context)
                elif attribute == "system.posix_acl_access":
                    acl = _value(path, attribute)
                elif attribute == "system.posix_acl_default":
                    default = _value(path, attribute)
            contexts.append(code)
            if kind == 0o040000:
                stack.append(base + name)
            target = _target(path) if kind == 0o120000 else None
            if acl or default or target is not None:
                more[len(kept)] = (target, acl, default)
            kept.append(name)
        return complete

    def _numbered(self, context: bytes) -> int:
        """A new context's number; 0 for what could not be read."""
        if not context:
            return 0
        self.part.context_names.append(context)
        code = self._codes[context] = len(self._codes) + 1
        return code

    def _gone(self, path: bytes) -> bool:
        """Whether what could not be looked at simply is no longer there."""
        try:
            os.lstat(path)
        except FileNotFoundError:
            return True
        except OSError as error:
            self.part.gaps.append(("metadata", path, error.strerror or str(error)))
            return False
        self.part.gaps.append(("metadata", path, "it could not be looked at"))
        return False

    def _flush(self) -> None:
        """Takes what is wanted out of the kernel's own records."""
        if not self._filled:
            return
        seen = np.frombuffer(self._records, _STATX, self._filled)
        rows = np.zeros(self._filled, COLUMNS)
        rows["kind"] = _KIND_BY_FORMAT[seen["mode"] >> 12]
        rows["mode"] = seen["mode"] & 0o7777
        for name in ("uid", "gid", "size"):
            rows[name] = seen[name]
        rows["mtime"] = seen["mtime"] * 1_000_000_000 + seen["mnsec"]
        rows["ctime"] = seen["ctime"] * 1_000_000_000 + seen["cnsec"]
        # Immutable and append-only; statx(2).
        rows["flags"] = seen["attributes"] & 0x30
        self.part.rows.append(rows)
        self._filled = 0


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


def _looked(folders: Sequence[bytes]) -> tuple[bytes, Part]:
    gc.disable()
    return _Looker(AT_ONCE).look(folders, inside=True).packed()


def _parts(tops: Sequence[bytes], seen: Callable[[int], None]) -> Iterator[tuple[bytes, Part]]:
    """What lies below the tops, in parts; none of them holds what another does."""
    part = _Looker(ALONE).look(tops, inside=False)
    count, todo = len(part.names), part.left
    yield part.packed()
    if not todo:
        return
    cores = min(os.cpu_count() or 1, 4)
    with ProcessPoolExecutor(cores) as pool:
        running: set[Future[tuple[bytes, Part]]] = set()
        while todo or running:
            while todo and len(running) < cores:
                share = -(-len(todo) // (cores - len(running)))
                running.add(pool.submit(_looked, todo[-share:]))
                del todo[-share:]
            done, running = wait(running, return_when=FIRST_COMPLETED)
            for future in done:
                names, part = future.result()
                count += len(part.contexts)
                todo += part.left
                seen(count)
                yield names, part


def capture(
    tops: Sequence[str], seen: Callable[[int], None] = lambda count: None
) -> tuple[Columns, list[tuple[str, str, str]]]:
    """Everything below these folders, which do not lie in each other; they themselves are not in
    it. Returns columns, and gaps as (what, where, why). Raises nothing for what it meets.
    """
    columns = Columns()
    gaps: list[tuple[str, str, str]] = []
    codes: dict[str | None, int] = {None: 0}
    for names, part in _parts([os.fsencode(top) for top in tops], seen):
        leaves = names.decode("utf-8", "surrogateescape").split("\0")
        known = [0, *(_numbered(codes, _text(name)) for name in part.context_names)]
        rows = np.concatenate(part.rows) if part.rows else np.zeros(0, COLUMNS)
        rows["context"] = np.array(known, np.uint16)[np.frombuffer(part.contexts, np.uint16)]
        extra = _extras(rows, part)
        at = 0
        for path, count, complete in part.folders:
            end = at + count
            folder = FolderColumns(leaves[at:end], rows[at:end], complete)
            columns.folders[os.fsdecode(path)] = folder
            while extra and extra[-1][0] < end:
                number, more = extra.pop()
                folder.extra[number - at] = more
            at = end
        gaps += [(what, os.fsdecode(path), why) for what, path, why in part.gaps]
    columns.context_names = list(codes)
    return columns, gaps


def _extras(rows: npt.NDArray[np.void], part: Part) -> list[tuple[int, Extra]]:
    """What few paths have, by their numbers, the last one first."""
    marked = np.flatnonzero(rows["flags"]).tolist()
    return [
        (number, _extra(*part.more.get(number, _NOTHING), names_of(int(rows["flags"][number]))))
        for number in sorted({*marked, *part.more}, reverse=True)
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
