"""A machine of its own for a test: its configuration, logs and network are copies, and all that it
starts ends with it.
"""

from __future__ import annotations

import ctypes
import functools
import os
import subprocess
import tempfile
import traceback
from collections.abc import Callable
from typing import ParamSpec

_P = ParamSpec("_P")
_libc = ctypes.CDLL(None, use_errno=True)
_NEW = 0x20000 | 0x20000000 | 0x40000000  # mount, pid, net
OVER = ("/etc", "/var/log", "/var/lib", "/srv")


def on_a_machine_of_its_own(test: Callable[_P, None]) -> Callable[_P, None]:
    """Runs a test there; its failure comes back as its text."""

    @functools.wraps(test)
    def run(*args: _P.args, **kwargs: _P.kwargs) -> None:
        read, write = os.pipe()
        child = os.fork()
        if child == 0:
            said = b""
            try:
                os.close(read)
                _apart()
                inner = os.fork()
                if inner == 0:
                    _laid_over()
                    test(*args, **kwargs)
                    os._exit(0)
                status = os.waitstatus_to_exitcode(os.waitpid(inner, 0)[1])
                said = f"it ended with {status}".encode() if status else b""
            except BaseException:
                said = traceback.format_exc().encode()
            os.write(write, said)
            os._exit(0)
        os.close(write)
        with open(read) as stream:
            said = stream.read()
        os.waitpid(child, 0)
        assert not said, said

    return run


def _apart() -> None:
    if _libc.unshare(_NEW) < 0:
        raise OSError(ctypes.get_errno(), "no name spaces")


def _laid_over() -> None:
    subprocess.run(["mount", "--make-rprivate", "/"], check=True)
    subprocess.run(["mount", "-t", "proc", "proc", "/proc"], check=True)
    subprocess.run(["ip", "link", "set", "lo", "up"], check=True)
    top = tempfile.mkdtemp()
    subprocess.run(["mount", "-t", "tmpfs", "t", top], check=True)
    for number, folder in enumerate(OVER):
        for name in ("u", "w"):
            os.makedirs(f"{top}/{number}/{name}")
        data = f"lowerdir={folder},upperdir={top}/{number}/u,workdir={top}/{number}/w"
        subprocess.run(["mount", "-t", "overlay", "-o", data, "o", folder], check=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "mode=755", "t", "/run"], check=True)
    os.makedirs("/run/lock/apache2")
    os.makedirs("/run/apache2")
