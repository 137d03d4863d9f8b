"""Work that a process of its own does, as an account that nobody has, and what it says of it."""

from __future__ import annotations

import os
import select
import signal
import time
from collections.abc import Callable
from typing import IO

from ecumen_machine.confine import become_nobody_else


def said_by_nobody(
    work: Callable[[IO[str]], None], within: float, told: Callable[[int], None] = lambda lines: None
) -> list[str]:
    """The lines that the work writes, those of them that are whole by then. within: seconds; told:
    how many there are.
    """
    read, write = os.pipe2(os.O_CLOEXEC)
    child = os.fork()
    if child == 0:
        try:
            os.close(read)
            become_nobody_else()
            with os.fdopen(write, "w") as stream:
                work(stream)
        finally:
            os._exit(0)
    os.close(write)
    said, until = bytearray(), time.monotonic() + within
    while (left := until - time.monotonic()) > 0 and select.select([read], [], [], left)[0]:
        block = os.read(read, 1 << 20)
        if not block:
            break
        said += block
        told(said.count(b"\n"))
    os.close(read)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    return said.decode("utf-8", "replace").split("\n")[:-1]
