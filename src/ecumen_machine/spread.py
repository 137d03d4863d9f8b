"""Work spread over the processors of this machine, by processes that are made of this one."""

from __future__ import annotations

import os
import pickle
import signal
import struct
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from typing import IO, TypeVar

from ecumen_machine.confine import end_with

T = TypeVar("T")

TOGETHER = 64  # numbers that a process takes at a time
_FEWEST = 4 * TOGETHER  # so few are worked out before a process is made
_MOST_TAKEN = 16_384  # what a pipe holds without anybody reading (pipe(7))
_TAKEN = struct.Struct("=I")


def spread(work: Callable[[int], T], count: int, told: Callable[[int], None], /) -> Sequence[T]:
    """What work makes of each number from 0, in their order: in as many processes as may run at a
    time. Whatever one of them fails at is worked out here, and raises here. told: is told, here,
    of how many work has begun.
    """
    cores = len(os.sched_getaffinity(0))
    together = max(TOGETHER, -(-count // _MOST_TAKEN))
    # A process that is made of one with several threads may wait for ever for what one of them
    # held.
    if cores < 2 or count < _FEWEST or threading.active_count() > 1:
        cores = 1
    numbers, theirs = os.pipe()
    os.write(theirs, b"".join(map(_TAKEN.pack, range(0, count, together))))
    os.close(theirs)
    others = [_begun(work, numbers, count, together) for _ in range(cores - 1)]
    found: dict[int, list[T]] = {}
    try:
        for start in _taken(numbers):
            told(start)
            found[start] = _worked(work, start, count, together)
        while others:
            process, file = others.pop()
            os.waitpid(process, 0)
            found |= _read(file)
    finally:
        os.close(numbers)
        for process, file in others:
            os.kill(process, signal.SIGKILL)
            os.waitpid(process, 0)
            file.close()
    for start in range(0, count, together):
        if start not in found:
            found[start] = _worked(work, start, count, together)
    return [each for start in range(0, count, together) for each in found[start]]


def _taken(numbers: int) -> Iterator[int]:
    """Takes the next numbers, each once among all processes, until there are none."""
    while data := os.read(numbers, _TAKEN.size):
        yield int(_TAKEN.unpack(data)[0])


def _worked(work: Callable[[int], T], start: int, count: int, together: int) -> list[T]:
    return [work(number) for number in range(start, min(start + together, count))]


def _begun(
    work: Callable[[int], T], numbers: int, count: int, together: int
) -> tuple[int, IO[bytes]]:
    """A process that works, and the file in which it leaves what it found."""
    file = os.fdopen(os.memfd_create("found"), "w+b")
    parent = os.getpid()
    process = os.fork()
    if process:
        return process, file
    try:
        end_with(parent)
        found = {at: _worked(work, at, count, together) for at in _taken(numbers)}
        pickle.dump(found, file, pickle.HIGHEST_PROTOCOL)
        file.flush()
    finally:
        # Nothing of what the process that made it has open is written or given back twice.
        os._exit(0)


def _read(file: IO[bytes]) -> dict[int, list[T]]:
    """Nothing, of a process that ended before it was done."""
    file.seek(0)
    with file, suppress(EOFError, pickle.UnpicklingError):
        # Made by a process of this very program, in memory without a name.
        return pickle.load(file)  # type: ignore[no-any-return]
    return {}
