"""One writer a home: locks that the kernel lets go of when whoever has them ends, however it ends.

Source: flock(2).
"""

from __future__ import annotations

import fcntl
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ecumen.errors import EcumenError


class InUseError(EcumenError):
    """Somebody else writes there."""


@contextmanager
def held(path: Path, what: str, patience: float = 0.0) -> Iterator[None]:
    """Holds a lock. what: is done by whoever has it. patience: seconds to wait for it.

    Raises InUseError that says which process has it; OSError where the file cannot be made.
    """
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        until = time.monotonic() + patience
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() >= until:
                    who = os.pread(handle, 20, 0).decode("ascii", "replace").strip() or "another"
                    raise InUseError(f"{what} by process {who} already ({path})") from None
                time.sleep(0.1)
        os.ftruncate(handle, 0)
        os.pwrite(handle, f"{os.getpid()}\n".encode(), 0)
        yield
    finally:
        os.close(handle)
