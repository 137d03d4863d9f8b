"""Hands on this machine: each change through a handle of the very thing, durable before it returns.

No component of a path may be a link, and what was opened is what is changed, whoever renames
meanwhile. A file with a second name is left alone: the other name may be somebody else's.
Source: openat2(2), open(2) (O_PATH), proc(5), fsync(2), renameat2(2); measured with a thread that
swaps names.
"""

from __future__ import annotations

import ctypes
import errno
import os
import stat
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager

from ecumen.survey import Acl, Entry
from ecumen_machine.acl import encode
from ecumen_machine.files import entry_of
from ecumen_machine.handles import SwappedError, open_plain, within

_ACL, _CONTEXT = "system.posix_acl_access", "security.selinux"
_NOREPLACE, _EMPTY_PATH = 1, 0x1000
_libc = ctypes.CDLL(None, use_errno=True)


class MachineHands:
    """What operations do to this machine. Each raises OSError, SwappedError for a link where none
    may be.
    """

    def entry(self, path: str) -> Entry | None:
        """What lies at a path; None for nothing."""
        try:
            return entry_of(path)
        except (FileNotFoundError, NotADirectoryError):
            return None

    def below(self, path: str) -> Iterator[str]:
        """All that lies below a folder, the upper first; an owner may nest any number."""
        stack = [path]
        while stack:
            folder = stack.pop()
            try:
                with within(folder) as anchor:
                    names = sorted(os.scandir(anchor), key=lambda each: os.fsencode(each.name))
                    found = [(each.name, each.is_dir(follow_symlinks=False)) for each in names]
            except (FileNotFoundError, NotADirectoryError, SwappedError):
                continue
            for name, is_folder in found:
                inner = f"{folder.rstrip('/')}/{name}"
                yield inner
                if is_folder:
                    stack.append(inner)

    def switch(self, name: str) -> bool | None:
        """How a switch of the policy in force stands."""
        try:
            with open(f"/sys/fs/selinux/booleans/{name}") as stream:
                return stream.read().split()[:1] == ["1"]
        except OSError:
            return None

    def set_mode(self, path: str, mode: int) -> None:
        with _held(path) as (handle, info):
            if stat.S_ISLNK(info.st_mode):
                raise OSError(errno.ENOTSUP, "a link has no mode of its own", path)
            os.chmod(f"/proc/self/fd/{handle}", mode)
            _settle(handle, info)

    def set_owner(self, path: str, uid: int | None, gid: int | None) -> None:
        with _held(path) as (handle, info):
            numbers = [0xFFFFFFFF if each is None else each for each in (uid, gid)]
            answer = _libc.fchownat(handle, b"", *map(ctypes.c_uint, numbers), _EMPTY_PATH)
            _checked(path, answer)
            _settle(handle, info)

    def set_acl(self, path: str, acl: Acl) -> None:
        with _held(path) as (handle, info):
            if stat.S_ISLNK(info.st_mode):
                raise OSError(errno.ENOTSUP, "a link has no ACL", path)
            # Of owner, group and others alone the kernel makes the mode, and keeps no attribute.
            os.setxattr(f"/proc/self/fd/{handle}", _ACL, encode(acl))
            _settle(handle, info)

    def set_context(self, path: str, context: str) -> None:
        with _held(path) as (handle, info):
            if stat.S_ISLNK(info.st_mode):
                # Through its handle a link's attributes cannot be set: in its folder, by its name.
                folder, _, leaf = path.rpartition("/")
                with within(folder) as anchor:
                    _put_context(f"{anchor}/{leaf}", context, of_link=True)
                    _settle_folder(anchor)
                return
            _put_context(f"/proc/self/fd/{handle}", context, of_link=False)
            _settle(handle, info)

    def turn(self, name: str, on: bool) -> None:
        """For good: the policy's store has no other door than its own tool."""
        done = subprocess.run(
            ["setsebool", "-P", name, "1" if on else "0"], capture_output=True, text=True
        )
        if done.returncode:
            raise OSError(errno.EIO, done.stderr.strip() or "the switch could not be turned", name)

    def make_folder(self, path: str, mode: int, uid: int, gid: int) -> None:
        with _in_folder(path) as (folder, leaf):
            os.mkdir(leaf, 0o700, dir_fd=folder)
            handle = os.open(leaf, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=folder)
            try:
                # What the folder around it hands down to new ones is not asked for.
                for name in os.listxattr(handle):
                    if name.startswith("system.posix_acl"):
                        os.removexattr(handle, name)
                os.fchown(handle, uid, gid)
                os.fchmod(handle, mode)
                os.fsync(handle)
            finally:
                os.close(handle)

    def make_link(self, path: str, target: str) -> None:
        with _in_folder(path) as (folder, leaf):
            os.symlink(target, leaf, dir_fd=folder)

    def rename(self, path: str, to: str) -> None:
        with _in_folder(path) as (one, leaf), _in_folder(to) as (other, name):
            answer = _libc.renameat2(one, os.fsencode(leaf), other, os.fsencode(name), _NOREPLACE)
            _checked(path, answer)

    def remove(self, path: str) -> None:
        """A link, or an empty folder."""
        with _in_folder(path) as (folder, leaf):
            mode = os.stat(leaf, dir_fd=folder, follow_symlinks=False).st_mode
            if stat.S_ISDIR(mode):
                os.rmdir(leaf, dir_fd=folder)
            elif stat.S_ISLNK(mode):
                os.unlink(leaf, dir_fd=folder)
            else:
                raise OSError(errno.EPERM, "neither a link nor a folder", path)


@contextmanager
def _held(path: str) -> Iterator[tuple[int, os.stat_result]]:
    """A handle of what lies there, of a link its own."""
    handle = open_plain(path, os.O_PATH | os.O_NOFOLLOW)
    try:
        info = os.fstat(handle)
        if stat.S_ISREG(info.st_mode) and info.st_nlink > 1:
            raise OSError(errno.EMLINK, "it has another name, which may be somebody else's", path)
        yield handle, info
    finally:
        os.close(handle)


@contextmanager
def _in_folder(path: str) -> Iterator[tuple[int, str]]:
    """A handle of the folder around a path, which is on the disk afterwards, and the last name."""
    folder, _, leaf = path.rpartition("/")
    if leaf in ("", ".", ".."):
        raise OSError(errno.EINVAL, os.strerror(errno.EINVAL), path)
    handle = open_plain(folder or "/", os.O_RDONLY | os.O_DIRECTORY)
    try:
        yield handle, leaf
        os.fsync(handle)
    finally:
        os.close(handle)


def _settle(handle: int, info: os.stat_result) -> None:
    """Has what was changed on the disk. Of what is no file and no folder, with its folder's."""
    if stat.S_ISREG(info.st_mode) or stat.S_ISDIR(info.st_mode):
        again = os.open(f"/proc/self/fd/{handle}", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            os.fsync(again)
        finally:
            os.close(again)


def _settle_folder(anchor: str) -> None:
    handle = os.open(anchor, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _put_context(at: str, context: str, *, of_link: bool) -> None:
    if context:
        # As chcon(1) stores it.
        os.setxattr(at, _CONTEXT, context.encode() + b"\0", follow_symlinks=not of_link)
    else:
        os.removexattr(at, _CONTEXT, follow_symlinks=not of_link)


def _checked(path: str, answer: int) -> None:
    """Of a call that Python has no word for. Raises OSError."""
    if answer < 0:
        error = ctypes.get_errno()
        raise OSError(error, os.strerror(error), path)
