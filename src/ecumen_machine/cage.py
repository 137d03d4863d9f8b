"""An engine's own check of its configuration, run where it can change nothing: in name spaces of
its own, over a view of the tree in which all writing goes to memory, within a bound of time.

Source: unshare(2), mount(2), mount_namespaces(7), the kernel's overlayfs document, rtnetlink(7).
The engines' check opens logs, makes folders, writes its process number and binds ports (measured).
"""

from __future__ import annotations

import ctypes
import ipaddress
import os
import select
import signal
import socket
import struct
import time
from collections.abc import Callable, Mapping, Sequence

from ecumen.errors import EcumenError
from ecumen_machine.mounts import unescaped
from ecumen_machine.programs import PLACES

LONGEST_CHECK = 30.0  # seconds
MOST_SAID = 20_000  # bytes of what a check says
MOST_MEMORY = 64 << 20  # bytes that may be written

_NEW = 0x20000 | 0x4000000 | 0x8000000 | 0x20000000 | 0x40000000  # mount, uts, ipc, pid, net
_RDONLY, _NOSUID, _NODEV, _NOEXEC, _REMOUNT, _BIND, _REC = 1, 2, 4, 8, 32, 4096, 16384
_PRIVATE = 1 << 18
_DETACH = 2
# What is written in memory by the kernel itself, or holds nothing of the tree.
_OWN_KINDS = frozenset(
    "proc sysfs devtmpfs devpts mqueue cgroup cgroup2 securityfs debugfs tracefs configfs bpf "
    "pstore efivarfs fusectl hugetlbfs autofs binfmt_misc rpc_pipefs nsfs selinuxfs".split()
)
_SCRATCH = ("/mnt", "/media", "/opt", "/srv", "/tmp")
_libc = ctypes.CDLL(None, use_errno=True)


class CageError(EcumenError):
    """The check could not be run without changing anything."""


def command(words: Sequence[str], environment: Mapping[str, str]) -> Callable[[], int]:
    """What becomes a command."""

    def become() -> int:
        os.execve(words[0], list(words), {"PATH": PLACES, **environment})

    return become


def caged(
    act: Callable[[], int],
    hosts: Sequence[tuple[str, str]] = (),
    addresses: Sequence[str] = (),
    folders: Sequence[str] = (),
) -> tuple[int, bytes]:
    """Does something in a cage, as its first process: with that one ends all that it has started.
    hosts: further lines (address, name) of its hosts file. addresses: those of this machine, which
    it may bind. folders: made there, as a service's unit would.

    Returns the exit status, which is what `act` returns, and what was said. Raises CageError.
    """
    read, write = os.pipe2(os.O_CLOEXEC)
    child = os.fork()
    if child == 0:
        os.close(read)
        _outer(lambda: _inner(act, hosts, addresses, folders, write), write)
    os.close(write)
    try:
        said, late = _heard(read)
    finally:
        os.close(read)
    if late:
        os.kill(child, signal.SIGKILL)
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    if late:
        raise CageError(f"it was not done within {LONGEST_CHECK:.0f} s")
    if status == _NO_CAGE:
        why = said.decode("utf-8", "replace").strip()
        raise CageError(f"no place could be made where it changes nothing ({why})")
    return status, said


_NO_CAGE = 125


def _heard(read: int) -> tuple[bytes, bool]:
    """What is said until nobody says anything any more, or it is too late."""
    said, until = b"", time.monotonic() + LONGEST_CHECK
    while (left := until - time.monotonic()) > 0:
        if not select.select([read], [], [], left)[0]:
            break
        block = os.read(read, 1 << 16)
        if not block:
            return said, False
        said += block[: max(0, MOST_SAID - len(said))]
    return said, True


def _outer(inside: Callable[[], None], write: int) -> None:
    """In a process of its own: makes the name spaces and becomes their first process's parent. With
    that one ends all that is in them. Never returns.
    """
    status = _NO_CAGE
    try:
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, signal.SIG_DFL)
        # Ends with whoever asked.
        _libc.prctl(1, signal.SIGKILL)
        _called("unshare", _libc.unshare(_NEW))
        inner = os.fork()
        if inner == 0:
            inside()
        os.close(write)
        status = os.waitstatus_to_exitcode(os.waitpid(inner, 0)[1])
        status = 128 - status if status < 0 else status
    except BaseException as error:
        os.write(write, str(error).encode("utf-8", "replace"))
    finally:
        os._exit(status)


def _inner(
    act: Callable[[], int],
    hosts: Sequence[tuple[str, str]],
    addresses: Sequence[str],
    folders: Sequence[str],
    write: int,
) -> None:
    status = _NO_CAGE
    try:
        _libc.prctl(1, signal.SIGKILL)
        _lay_over(hosts)
        for folder in folders:
            os.makedirs(folder, mode=0o755, exist_ok=True)
        _links_up(addresses)
        nothing = os.open(os.devnull, os.O_RDONLY)
        os.dup2(nothing, 0)
        os.dup2(write, 1)
        os.dup2(write, 2)
        os.umask(0o022)
        os.setsid()
        status = act()
    except BaseException as error:
        os.write(write, str(error).encode("utf-8", "replace"))
    finally:
        os._exit(status)


def _called(what: str, result: int) -> None:
    if result < 0:
        raise OSError(ctypes.get_errno(), f"{what}: {os.strerror(ctypes.get_errno())}")


def _mount(source: str | None, target: str, kind: str | None, flags: int, data: str = "") -> None:
    _called(
        f"mount {target}",
        _libc.mount(
            None if source is None else os.fsencode(source),
            os.fsencode(target),
            None if kind is None else kind.encode(),
            ctypes.c_ulong(flags),
            os.fsencode(data) if data else None,
        ),
    )


def _mounts() -> list[tuple[str, str]]:
    """(path, kind) of what is mounted, in order."""
    found = []
    with open("/proc/self/mounts", "rb") as stream:
        for line in stream:
            _, path, kind = line.split()[:3]
            found.append((os.fsdecode(unescaped(path)), kind.decode()))
    return found


def _lay_over(hosts: Sequence[tuple[str, str]]) -> None:
    """Makes a new root: each file system under a layer in memory, and goes there."""
    _mount(None, "/", None, _PRIVATE | _REC)
    mounts = list(dict(_mounts()).items())
    free = [at for at in _SCRATCH if not any(f"{path}/".startswith(f"{at}/") for path, _ in mounts)]
    scratch = next(filter(os.path.isdir, free), None)
    if scratch is None:
        raise OSError("no folder to lay the new root out in")
    _mount("tmpfs", scratch, "tmpfs", _NOSUID | _NODEV, f"size={MOST_MEMORY},mode=0700")
    root = f"{scratch}/root"
    os.mkdir(root)
    for number, (path, kind) in enumerate(sorted(mounts)):
        if any(path == own or path.startswith(f"{own}/") for own in ("/proc", "/sys", "/dev")):
            continue
        target = root if path == "/" else root + path
        if kind in _OWN_KINDS or not os.path.isdir(target):
            if os.path.isfile(target) and os.path.isfile(path):
                # A file that is mounted over another, as /etc/hosts in a container.
                _mount(path, target, None, _BIND)
                _mount(None, target, None, _REMOUNT | _BIND | _RDONLY)
            continue
        layers = f"{scratch}/{number}"
        for folder in (layers, f"{layers}/upper", f"{layers}/work"):
            os.mkdir(folder)
        _copy_root(path, f"{layers}/upper")
        lower = path.replace("\\", "\\\\").replace(":", "\\:").replace(",", "\\,")
        data = f"lowerdir={lower},upperdir={layers}/upper,workdir={layers}/work,redirect_dir=on"
        _mount("overlay", target, "overlay", 0, data)
    for path in ("/dev", "/sys"):
        # Devices can be written to all the same, files there not.
        _mount(path, root + path, None, _BIND)
        _mount(None, root + path, None, _REMOUNT | _BIND | _RDONLY | _NOSUID)
    if os.path.isdir(f"{root}/dev/shm"):
        _mount("tmpfs", f"{root}/dev/shm", "tmpfs", _NOSUID | _NODEV, f"size={MOST_MEMORY}")
    _mount("proc", f"{root}/proc", "proc", _NOSUID | _NODEV | _NOEXEC)
    if hosts:
        text = "".join(f"{address} {name}\n" for address, name in hosts)
        with open(f"{scratch}/hosts", "w", encoding="utf-8") as stream, open("/etc/hosts") as own:
            stream.write(own.read() + "\n" + text)
        os.chmod(f"{scratch}/hosts", 0o644)
        _mount(f"{scratch}/hosts", f"{root}/etc/hosts", None, _BIND)
    os.chdir(root)
    _called("pivot_root", _libc.syscall(ctypes.c_long(_PIVOT_ROOT), b".", b"."))
    _called("umount", _libc.umount2(b".", _DETACH))
    os.chdir("/")


_PIVOT_ROOT = {"x86_64": 155, "aarch64": 41}.get(os.uname().machine, 155)


def _copy_root(path: str, upper: str) -> None:
    """The layer's own folder stands for that of the file system: owner and mode are its own."""
    info = os.stat(path)
    os.chown(upper, info.st_uid, info.st_gid)
    os.chmod(upper, info.st_mode & 0o7777)


# --- the network of the cage: loopback alone, with the machine's addresses on it ---


def _links_up(addresses: Sequence[str]) -> None:
    with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, 0) as link:
        index = socket.if_nametoindex("lo")
        up = struct.pack("=BxHiII", 0, 0, index, 1, 1)
        _netlink(link, 16, 0, up)  # RTM_NEWLINK
        for text in addresses:
            address = ipaddress.ip_address(text.partition("%")[0])
            if address.is_loopback:
                continue
            family = socket.AF_INET if address.version == 4 else socket.AF_INET6
            length = address.max_prefixlen
            # Without asking whether somebody else has it (IFA_F_NODAD).
            head = struct.pack("=BBBBi", family, length, 0x02, 0, index)
            pairs = b"".join(
                struct.pack("=HH", 4 + len(address.packed), kind) + address.packed
                for kind in (2, 1)
            )
            _netlink(link, 20, 0x400 | 0x200, head + pairs)  # RTM_NEWADDR; create, exclusive


def _netlink(link: socket.socket, kind: int, flags: int, body: bytes) -> None:
    link.send(struct.pack("=IHHII", 16 + len(body), kind, flags | 5, 0, 0) + body)
    answer = link.recv(1 << 16)
    (code,) = struct.unpack_from("=i", answer, 16)
    if code and code != -17:  # EEXIST
        raise OSError(-code, os.strerror(-code))
