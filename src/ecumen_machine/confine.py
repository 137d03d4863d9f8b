"""Limits that a process sets itself before it reads what owners wrote: an account that nobody has,
bounds, no new privileges, no way to files but the program's own, no network, few calls.

Source: setresuid(2), setrlimit(2), landlock(7), seccomp(2), unshare(2), prctl(2). What the kernel
does not give is left out, and said; nothing here is taken back.
"""

from __future__ import annotations

import ctypes
import os
import pwd
import resource
import signal
import struct
import sys
from collections.abc import Sequence

import psutil

try:
    # It asks the system where its library is, which must be done before that is refused.
    import pyseccomp
except (ImportError, RuntimeError, OSError):
    pyseccomp = None

MEMORY = 4 << 30  # bytes of address space
PROCESSOR = 1800  # seconds
OPEN_FILES = 64

# systemd gives services accounts from these; they belong to nobody at other times.
_FIRST, _LAST = 61184, 65519
_NO_NEW_PRIVS, _DUMPABLE, _PDEATHSIG = 38, 4, 1
_NEWNET, _NEWIPC, _NEWUTS = 0x40000000, 0x8000000, 0x4000000
_READS = 4 | 8  # LANDLOCK_ACCESS_FS_READ_FILE, _READ_DIR
_CREATE, _ADD, _RESTRICT = 444, 445, 446
_libc = ctypes.CDLL(None, use_errno=True)
_libc.syscall.restype = ctypes.c_long

# What reading, counting and answering need; measured with NumPy, zip, JSON, SQLite left out.
_CALLS = """
read write readv writev pread64 pwrite64 recvmsg sendmsg sendto recvfrom close close_range fstat
newfstatat stat lstat statx lseek mmap munmap mprotect mremap madvise brk futex clock_gettime
clock_nanosleep nanosleep clock_getres gettimeofday time getrandom rt_sigreturn rt_sigaction
rt_sigprocmask sigaltstack exit exit_group poll ppoll select pselect6 epoll_wait epoll_ctl
epoll_create1 fcntl getpid gettid getppid getuid geteuid getgid getegid sched_yield
sched_getaffinity restart_syscall open openat readlink readlinkat access faccessat faccessat2
getdents64 getcwd dup dup2 dup3 pipe2 ftruncate fsync fdatasync fallocate uname sysinfo
getrlimit prlimit64 getrusage mbind set_robust_list rseq tgkill setitimer rt_sigpending shutdown
getsockopt umask ioctl
""".split()

_FORKS = "clone clone3 fork vfork wait4 waitid kill pipe set_tid_address".split()


def free_uid() -> int:
    """The number of an account that does not exist and runs nothing."""
    taken = {row.pw_uid for row in pwd.getpwall()}
    for process in psutil.process_iter():
        try:
            taken |= set(process.uids())
        except psutil.Error:
            continue
    span = _LAST - _FIRST + 1
    start = int.from_bytes(os.urandom(4))
    return next(
        uid for uid in (_FIRST + (start + step) % span for step in range(span)) if uid not in taken
    )


def become_nobody_else() -> None:
    """Leaves root for an account of which nobody else has a process. Without root, stays."""
    if os.geteuid() != 0:
        return
    uid = free_uid()
    os.setgroups([])
    os.setresgid(uid, uid, uid)
    os.setresuid(uid, uid, uid)


def end_with(parent: int) -> None:
    """Has this process ended when the one that made it ends."""
    _libc.prctl(_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    if os.getppid() != parent:
        os._exit(1)


def confine(*, memory: int = MEMORY, processor: int = PROCESSOR, forks: bool = False) -> list[str]:
    """Sets all limits; what holds, in words. Handles that are open stay usable. forks: processes
    like itself may be made.
    """
    holds = []
    if os.geteuid() == 0 and _libc.unshare(_NEWNET | _NEWIPC | _NEWUTS) == 0:
        holds.append("no network")
    _limit(resource.RLIMIT_AS, memory)
    _limit(resource.RLIMIT_CPU, processor)
    _limit(resource.RLIMIT_NOFILE, OPEN_FILES)
    _limit(resource.RLIMIT_CORE, 0)
    holds.append(f"{memory >> 20} MiB, {processor} s")
    if os.geteuid() == 0:
        become_nobody_else()
        holds.append("an account of its own")
    if not forks:
        # To root it would say nothing.
        _limit(resource.RLIMIT_NPROC, 0)
    # Another account undoes this, so that it comes behind.
    _libc.prctl(_PDEATHSIG, 9, 0, 0, 0)
    _libc.prctl(_DUMPABLE, 0, 0, 0, 0)
    _libc.prctl(_NO_NEW_PRIVS, 1, 0, 0, 0)
    if _landlock(_libraries()):
        holds.append("no files")
    if _seccomp([*_CALLS, *(_FORKS if forks else ())]):
        holds.append("few calls")
    return holds


def _limit(what: int, most: int) -> None:
    _, hard = resource.getrlimit(what)
    most = most if hard == resource.RLIM_INFINITY else min(most, hard)
    resource.setrlimit(what, (most, most))


def _libraries() -> list[str]:
    """Where the program itself may yet be loaded from."""
    own = [path for path in sys.path if path and os.path.isdir(path)]
    return [*own, sys.base_prefix, "/usr/lib", "/lib", "/usr/share/zoneinfo", "/dev/null"]


def _landlock(readable: Sequence[str]) -> bool:
    """Lets files be opened below these folders alone, and for reading alone."""
    abi = _libc.syscall(ctypes.c_long(_CREATE), None, ctypes.c_size_t(0), ctypes.c_uint(1))
    if abi < 1:
        return False
    rights = (1 << (13 if abi < 2 else 14 if abi < 3 else 15)) - 1
    handled = struct.pack("=Q", rights)
    rules = _libc.syscall(
        ctypes.c_long(_CREATE), handled, ctypes.c_size_t(len(handled)), ctypes.c_uint(0)
    )
    if rules < 0:
        return False
    for path in readable:
        try:
            handle = os.open(path, os.O_PATH | os.O_CLOEXEC)
        except OSError:
            continue
        allowed = _READS if os.path.isdir(path) else 4
        rule = struct.pack("=Qi", allowed, handle)
        _libc.syscall(
            ctypes.c_long(_ADD), ctypes.c_int(rules), ctypes.c_int(1), rule, ctypes.c_uint(0)
        )
        os.close(handle)
    done = _libc.syscall(ctypes.c_long(_RESTRICT), ctypes.c_int(rules), ctypes.c_uint(0))
    os.close(int(rules))
    return bool(done == 0)


def _seccomp(calls: Sequence[str]) -> bool:
    """Refuses every call that is not on the list: the caller gets EPERM."""
    if pyseccomp is None:
        return False
    rules = pyseccomp.SyscallFilter(pyseccomp.ERRNO(1))
    for name in calls:
        try:
            rules.add_rule(pyseccomp.ALLOW, name)
        except (OSError, ValueError):
            continue  # this kind of machine has no such call
    try:
        rules.load()
    except OSError:
        return False
    return True
