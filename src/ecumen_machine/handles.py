"""Opening what others may swap under our hands: by handles, without links that are not root's.

Source: openat2(2), open(2) (O_PATH), path_resolution(7), proc(5) ("protected_hardlinks"). A path is
walked component by component; what was looked at is what is opened, whoever renames meanwhile.
"""

from __future__ import annotations

import ctypes
import os
import stat
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cache

MOST_LINKS = 40
ANYBODY = -1  # of those who may write: several accounts, or all
_NO_MAGIC, _NO_LINKS = 2, 4  # RESOLVE_NO_MAGICLINKS, RESOLVE_NO_SYMLINKS
_OPENAT2 = 437
_PATH = os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC
_libc = ctypes.CDLL(None, use_errno=True)
_libc.syscall.restype = ctypes.c_long


class SwappedError(OSError):
    """What lies there is not what was looked at: a link where a folder was."""


def open_plain(path: str | bytes, flags: int) -> int:
    """A handle of a path of which no component is a link. Raises OSError, SwappedError."""
    how = struct.pack("=QQQ", flags | os.O_CLOEXEC, 0, _NO_MAGIC | _NO_LINKS)
    if not _with_openat2():
        return _walked_plain(os.fsencode(path), flags)
    handle = _libc.syscall(
        ctypes.c_long(_OPENAT2), ctypes.c_int(-100), ctypes.c_char_p(os.fsencode(path)),
        ctypes.create_string_buffer(how, len(how)), ctypes.c_size_t(len(how)),
    )  # fmt: skip
    if handle < 0:
        error = ctypes.get_errno()
        kind = SwappedError if error in (40, 20) else OSError  # ELOOP, ENOTDIR
        raise kind(error, os.strerror(error), os.fsdecode(path))
    return int(handle)


@cache
def _with_openat2() -> bool:
    """Kernels before 5.6 have no such call, and filters of calls may refuse it."""
    how = struct.pack("=QQQ", os.O_PATH | os.O_CLOEXEC, 0, _NO_LINKS)
    handle = _libc.syscall(
        ctypes.c_long(_OPENAT2), ctypes.c_int(-100), ctypes.c_char_p(b"/"),
        ctypes.create_string_buffer(how, len(how)), ctypes.c_size_t(len(how)),
    )  # fmt: skip
    if handle >= 0:
        os.close(handle)
    return bool(handle >= 0)


def _walked_plain(path: bytes, flags: int) -> int:
    here = os.open("/", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    parts = [part for part in path.split(b"/") if part]
    try:
        for part in parts[:-1]:
            after = os.open(part, _PATH | os.O_DIRECTORY, dir_fd=here)
            os.close(here)
            here = after
        last = parts[-1] if parts else b"."
        return os.open(last, flags | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=here)
    except OSError as error:
        if error.errno in (40, 20):
            raise SwappedError(error.errno, error.strerror, os.fsdecode(path)) from error
        raise
    finally:
        os.close(here)


@contextmanager
def within(folder: str) -> Iterator[str]:
    """A path that leads into a folder through a handle of it, whatever takes its place meanwhile.

    No component of `folder` is a link. Raises OSError, SwappedError.
    """
    handle = open_plain(folder or "/", os.O_PATH | os.O_DIRECTORY)
    try:
        yield f"/proc/self/fd/{handle}"
    finally:
        os.close(handle)


def reopened(handle: int) -> int:
    """For reading, what a handle stands for: a plain file, which no opening can hold up."""
    return os.open(f"/proc/self/fd/{handle}", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)


@dataclass(slots=True)
class Reached:
    """What a path leads to. handle: O_PATH, the caller's to close. path: without links.

    writers: accounts but root that could have led the way here: who may rename or replace a
    component. linked_by: owners of links that were followed and are not root's. folders: those
    passed, with their metadata.
    """

    handle: int
    info: os.stat_result
    path: str
    writers: set[int] = field(default_factory=set)
    linked_by: set[int] = field(default_factory=set)
    folders: list[os.stat_result] = field(default_factory=list)

    @property
    def roots(self) -> bool:
        """Whether nobody but root decides what lies here and what it holds."""
        return not self.writers and not self.linked_by and not writers_of(self.info)

    def readable_by(self, uid: int) -> bool:
        """Whether an account could read it without our help. Groups are left out: they only give
        more.
        """
        if uid == ANYBODY:
            return all(_others(each, 1) for each in self.folders) and _others(self.info, 4)
        passes = all(each.st_uid == uid or _others(each, 1) for each in self.folders)
        return passes and (self.info.st_uid == uid or _others(self.info, 4))


def _others(info: os.stat_result, bit: int) -> bool:
    return bool(info.st_mode & bit)


def writers_of(info: os.stat_result) -> set[int]:
    """Who but root may write, by owner and mode; an ACL's entries show in the group's bits."""
    found = {info.st_uid} - {0, _own()}
    if info.st_mode & 0o002 or (info.st_mode & 0o020 and info.st_gid != 0):
        found.add(ANYBODY)
    return found


@cache
def _own() -> int:
    """Whoever runs this without being root trusts itself."""
    return os.geteuid()


def _replacers(info: os.stat_result) -> set[int]:
    """Who but root may replace what lies in a folder. In a sticky one the owner of each entry."""
    if info.st_mode & stat.S_ISVTX:
        return {info.st_uid} - {0, _own()}
    return writers_of(info)


@contextmanager
def reached(path: str) -> Iterator[Reached]:
    """Walks to what a path leads to, links followed, and notes who may lead it astray.

    Raises OSError; ELOOP for too many links.
    """
    here = os.open("/", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    found = Reached(here, os.fstat(here), "/")
    links = 0
    parts = [part for part in path.split("/") if part]
    try:
        while parts:
            part = parts.pop(0)
            if part == ".":
                continue
            if part == "..":
                parts = [*_parts(os.path.dirname(found.path)), *parts]
                _start_again(found)
                continue
            found.folders.append(found.info)
            found.writers |= _replacers(found.info)
            after = os.open(part, _PATH, dir_fd=found.handle)
            info = os.fstat(after)
            if stat.S_ISLNK(info.st_mode):
                links += 1
                try:
                    target = os.readlink("", dir_fd=after)
                finally:
                    os.close(after)
                if links > MOST_LINKS:
                    raise OSError(40, os.strerror(40), path)
                found.folders.pop()
                found.linked_by |= ({info.st_uid} - {0, _own()}) | set(found.writers)
                parts = _parts(target) + parts
                if target.startswith("/"):
                    _start_again(found)
                continue
            os.close(found.handle)
            found.handle, found.info = after, info
            found.path = f"{found.path.rstrip('/')}/{part}"
            if parts and not stat.S_ISDIR(info.st_mode):
                raise NotADirectoryError(20, os.strerror(20), path)
        yield found
    finally:
        os.close(found.handle)


def _parts(path: str) -> list[str]:
    return [part for part in path.split("/") if part]


def _start_again(found: Reached) -> None:
    after = os.open("/", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    os.close(found.handle)
    found.handle, found.info, found.path = after, os.fstat(after), "/"
    found.folders.clear()


@cache
def links_are_guarded() -> bool:
    """Whether the kernel keeps accounts from linking files that they could not write (proc(5))."""
    try:
        with open("/proc/sys/fs/protected_hardlinks") as stream:
            return stream.read().strip() == "1"
    except OSError:
        return False


def is_its_own(found: Reached) -> bool:
    """Whether reading this for those who led the way tells them nothing that they may not know.

    A link of somebody else's leads only to what that one may read. Where others than root may write
    on the way, a file lies there because its owner or root put it there, unless it has a second
    name: then it is theirs, or they may read it.
    """
    if not all(found.readable_by(uid) for uid in found.linked_by):
        return False
    if not found.writers:
        return True
    if found.info.st_nlink == 1 and links_are_guarded():
        return True
    return found.info.st_uid in found.writers or all(map(found.readable_by, found.writers))
