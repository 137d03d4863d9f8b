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
import secrets
import shutil
import stat
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager

from ecumen.errors import ChangedError
from ecumen.operations.digest import digest
from ecumen.operations.file import SPECIAL
from ecumen.survey import HOSTS_FILE, Acl, Entry, Kind, leading, led_by
from ecumen_machine import service
from ecumen_machine.acl import encode
from ecumen_machine.capture import KIND_OF
from ecumen_machine.files import acl_at, context_at, entry_of
from ecumen_machine.handles import SwappedError, open_plain, reopened, within
from ecumen_machine.mounts import unescaped

_ACL, _CONTEXT = "system.posix_acl_access", "security.selinux"
_NOREPLACE, _EXCHANGE, _EMPTY_PATH = 1, 2, 0x1000
ASIDE = ".ecumen-aside"
MOST_CONTENT = 16 << 20  # bytes
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

    def names(self, path: str) -> list[str]:
        """What lies in a folder; nothing where it is none."""
        try:
            with within(path) as anchor:
                return sorted(os.listdir(anchor))
        except (FileNotFoundError, NotADirectoryError, SwappedError):
            return []

    def content(self, path: str) -> bytes | None:
        """What a file holds; None for what is none. Raises OSError for one of more than 16 MiB."""
        try:
            handle = open_plain(path, os.O_PATH | os.O_NOFOLLOW)
        except (FileNotFoundError, SwappedError):
            return None
        try:
            info = os.fstat(handle)
            if not stat.S_ISREG(info.st_mode):
                return None
            if info.st_size > MOST_CONTENT:
                raise OSError(errno.EFBIG, os.strerror(errno.EFBIG), path)
            with open(reopened(handle), "rb") as stream:
                return stream.read(MOST_CONTENT + 1)
        finally:
            os.close(handle)

    def text(self, path: str) -> None:
        """A machine is no survey."""

    def aside(self, path: str) -> str:
        """In a folder that is root's alone, on the same disk."""
        return f"{_mount_of(path).rstrip('/')}/{ASIDE}/{secrets.token_hex(8)}"

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

    def set_mode(self, entry: Entry, mode: int) -> None:
        with _held(entry) as (handle, info):
            if stat.S_ISLNK(info.st_mode):
                raise OSError(errno.ENOTSUP, "a link has no mode of its own", entry.path)
            os.chmod(f"/proc/self/fd/{handle}", mode)
            _settle(handle, info)

    def set_owner(self, entry: Entry, uid: int | None, gid: int | None) -> None:
        with _held(entry) as (handle, info):
            numbers = [0xFFFFFFFF if each is None else each for each in (uid, gid)]
            answer = _libc.fchownat(handle, b"", *map(ctypes.c_uint, numbers), _EMPTY_PATH)
            _checked(entry.path, answer)
            _settle(handle, info)

    def set_acl(self, entry: Entry, acl: Acl) -> None:
        with _held(entry) as (handle, info):
            if stat.S_ISLNK(info.st_mode):
                raise OSError(errno.ENOTSUP, "a link has no ACL", entry.path)
            _expect(entry, acl_at(f"/proc/self/fd/{handle}") == entry.acl)
            # Of owner, group and others alone the kernel makes the mode, and keeps no attribute.
            os.setxattr(f"/proc/self/fd/{handle}", _ACL, encode(acl))
            _settle(handle, info)

    def set_context(self, entry: Entry, context: str) -> None:
        with _held(entry) as (handle, info):
            if stat.S_ISLNK(info.st_mode):
                # Through its handle a link's attributes cannot be set: in its folder, by its name.
                folder, _, leaf = entry.path.rpartition("/")
                with within(folder) as anchor:
                    _put_context(f"{anchor}/{leaf}", context, of_link=True)
                    _settle_folder(anchor)
                return
            _expect(entry, context_at(f"/proc/self/fd/{handle}") == entry.context)
            _put_context(f"/proc/self/fd/{handle}", context, of_link=False)
            _settle(handle, info)

    def turn(self, name: str, on: bool) -> None:
        """For good: the policy's store has no other door than its own tool."""
        done = subprocess.run(
            ["setsebool", "-P", name, "1" if on else "0"], capture_output=True, text=True
        )
        if done.returncode:
            raise OSError(errno.EIO, done.stderr.strip() or "the switch could not be turned", name)

    def leads(self, name: str) -> tuple[str, ...]:
        return led_by(self.content(HOSTS_FILE) or b"", name)

    def lead(self, name: str, addresses: tuple[str, ...], there: str) -> None:
        entry, held = self.entry(HOSTS_FILE), self.content(HOSTS_FILE)
        if entry is None or held is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), HOSTS_FILE)
        self.write(entry, digest(held), leading(held, name, addresses), there)

    def make_folder(self, path: str, mode: int, uid: int, gid: int, there: str) -> None:
        self._aside_made(there)
        with _in_folder(there) as (folder, leaf):
            os.mkdir(leaf, 0o700, dir_fd=folder)
            handle = os.open(leaf, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=folder)
            try:
                _bare(handle)
                os.fchown(handle, uid, gid)
                os.fchmod(handle, mode)
                os.fsync(handle)
            finally:
                os.close(handle)
        # Whole from the first moment at which anybody sees it.
        self.rename(there, path)

    def make_link(self, path: str, target: str) -> None:
        with _in_folder(path) as (folder, leaf):
            os.symlink(target, leaf, dir_fd=folder)

    def make_file(self, path: str, content: bytes, mode: int, uid: int, gid: int) -> None:
        with _in_folder(path) as (folder, leaf):
            # Without a name until it is whole: nobody ever sees half of it, and nothing is left
            # behind by who is stopped in between.
            handle = os.open(".", os.O_TMPFILE | os.O_WRONLY | os.O_CLOEXEC, 0o600, dir_fd=folder)
            try:
                _fill(handle, content)
                _bare(handle)
                os.fchown(handle, uid, gid)
                os.fchmod(handle, mode)
                os.fsync(handle)
                os.link(f"/proc/self/fd/{handle}", leaf, dst_dir_fd=folder, follow_symlinks=True)
            finally:
                os.close(handle)

    def write(self, entry: Entry, was: str, content: bytes, there: str) -> None:
        self._aside_made(there)
        with _in_folder(there) as (folder, leaf), _in_folder(entry.path) as (home, name):
            with _held(entry) as (old, _):
                new = os.open(leaf, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600,
                              dir_fd=folder)  # fmt: skip
                try:
                    _fill(new, content)
                    _like(new, old)
                    os.fsync(new)
                finally:
                    os.close(new)
            os.fsync(folder)
            _renamed(home, name, folder, leaf, _EXCHANGE)
        # What was taken away is what the operation expected, or it comes back.
        if digest(self.content(there) or b"") != was:
            self.swap(entry.path, there)
            raise ChangedError(f"{entry.path} was changed by somebody else meanwhile")

    def swap(self, path: str, there: str) -> None:
        """What lies at both takes each other's place."""
        with _in_folder(path) as (one, leaf), _in_folder(there) as (other, name):
            _renamed(one, leaf, other, name, _EXCHANGE)

    def put_aside(self, entry: Entry, there: str) -> None:
        self._aside_made(there)
        self.rename(entry.path, there)
        now = self.entry(there)
        if now is None or (now.kind, now.mode, now.uid, now.gid, now.target) != (
            entry.kind, entry.mode, entry.uid, entry.gid, entry.target
        ):  # fmt: skip
            self.rename(there, entry.path)
            raise ChangedError(f"{entry.path} was changed by somebody else meanwhile")

    def forget(self, there: str) -> None:
        """What lies aside is gone for good, with all that lies in it."""
        entry = self.entry(there)
        if entry is None:
            return
        with _in_folder(there) as (folder, leaf):
            if entry.kind is Kind.DIR:
                shutil.rmtree(leaf, dir_fd=folder)
            else:
                os.unlink(leaf, dir_fd=folder)

    def reload(self, engine: str) -> None:
        """Raises ServiceError."""
        service.reload(engine)

    def running(self, engine: str) -> bool | None:
        return service.is_running(engine)

    def run(self, engine: str, on: bool) -> None:
        """Raises ServiceError."""
        (service.start if on else service.stop)(engine)

    def _aside_made(self, there: str) -> None:
        folder = there.rpartition("/")[0]
        if self.entry(folder) is None:
            with _in_folder(folder) as (around, leaf):
                os.mkdir(leaf, 0o700, dir_fd=around)
        found = self.entry(folder)
        if found is None or (found.kind, found.mode, found.uid) != (Kind.DIR, 0o700, 0):
            raise OSError(errno.EPERM, "what is kept aside would not be root's alone", folder)

    def rename(self, path: str, to: str) -> None:
        with _in_folder(path) as (one, leaf), _in_folder(to) as (other, name):
            _renamed(one, leaf, other, name, _NOREPLACE)

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
def _held(entry: Entry) -> Iterator[tuple[int, os.stat_result]]:
    """A handle of what lies there, of a link its own. It is what was looked at, or ChangedError."""
    handle = open_plain(entry.path, os.O_PATH | os.O_NOFOLLOW)
    try:
        info = os.fstat(handle)
        if stat.S_ISREG(info.st_mode) and info.st_nlink > 1:
            why = "it has another name, which may be somebody else's"
            raise OSError(errno.EMLINK, why, entry.path)
        now = KIND_OF[stat.S_IFMT(info.st_mode)], stat.S_IMODE(info.st_mode)
        owners = info.st_uid, info.st_gid
        _expect(entry, (*now, *owners) == (entry.kind, entry.mode, entry.uid, entry.gid))
        yield handle, info
    finally:
        os.close(handle)


def _expect(entry: Entry, same: bool) -> None:
    if not same:
        raise ChangedError(f"{entry.path} was changed by somebody else meanwhile")


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


def _fill(handle: int, content: bytes) -> None:
    left = memoryview(content)
    while left:
        left = left[os.write(handle, left) :]


def _bare(handle: int) -> None:
    """What the folder around it hands down to new ones is not asked for."""
    for name in os.listxattr(handle):
        if name.startswith("system.posix_acl"):
            os.removexattr(handle, name)


def _like(new: int, old: int) -> None:
    """Gives a new file owner, mode, ACL and context of an old one, and not the right to run as its
    owner or with more: that was given to what it held. In this order: a change of owner takes
    rights of the mode away, and an ACL follows a change of the mode.
    """
    at, info = f"/proc/self/fd/{old}", os.fstat(old)
    os.fchown(new, info.st_uid, info.st_gid)
    os.fchmod(new, stat.S_IMODE(info.st_mode) & ~SPECIAL)
    kept = set(os.listxattr(at)) - {"security.capability"}
    for name in set(os.listxattr(new)) - kept:
        os.removexattr(new, name)
    for name in sorted(kept):
        os.setxattr(new, name, os.getxattr(at, name))


def _renamed(one: int, name: str, other: int, to: str, flags: int) -> None:
    answer = _libc.renameat2(one, os.fsencode(name), other, os.fsencode(to), flags)
    if answer < 0 and ctypes.get_errno() == errno.EBUSY:
        # As the hosts file of a container often is.
        raise OSError(errno.EBUSY, "something is mounted right there: it cannot be replaced", name)
    _checked(name, answer)


def _mount_of(path: str) -> str:
    """Where the file system of a path is mounted. Source: proc(5), mountinfo."""
    with open("/proc/self/mountinfo", "rb") as stream:
        points = [os.fsdecode(unescaped(line.split()[4])) for line in stream]
    # The folder around it: what is mounted over a file is the file's own file system.
    folder = path.rpartition("/")[0] or "/"
    inside = [at for at in points if at == "/" or f"{folder}/".startswith(f"{at}/")]
    return max(inside, key=len, default="/")


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
