"""Matching that may take for ever, in a process that is ended when its time is up.

One small process is started before anything large is in memory. It makes another one for each text,
with a bound of processor time that the kernel enforces (setitimer(2), ITIMER_VIRTUAL): the library
itself cannot be told to stop.
"""

from __future__ import annotations

import fcntl
import itertools
import os
import select
import signal
import socket
import struct
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

from ecumen.patterns import pcre, set_apart
from ecumen.patterns.pcre import MatchOutcome
from ecumen_machine.confine import confine

EACH = 0.05  # seconds of processor time, for one text
MEMORY = 1 << 30  # bytes
LONGEST_TEXT = 64 << 10  # bytes
# An owner may write thousands of such patterns: by then all that are costly are given up at once.
IN_ALL = 20.0  # seconds, in each span of time as follows
SPAN = 60.0  # seconds
_HEAD = struct.Struct("!QIIId")
_SIZE = struct.Struct("!I")
_NUMBER = struct.Struct("!Q")
# Between the time that a process is given and the one by which it must be gone, whatever else runs.
_GRACE = 8.0


class Matcher:
    """The small process, and the way to it. Threads take turns, and so do processes that are made
    of this one.
    """

    def __init__(self, each: float = EACH, in_all: float = IN_ALL) -> None:
        self.each = each
        self.in_all = in_all
        self._turn = threading.Lock()
        # Of processes: one that ends in its turn gives it back.
        self._turns = os.memfd_create("turns")
        self._asked = itertools.count()
        self._spent = 0.0
        self._since = time.monotonic()
        ours, theirs = socket.socketpair()
        if os.fork() == 0:
            ours.close()
            _serve(theirs)
        theirs.close()
        self._link = ours
        self.holds = _received(ours).decode()

    def __call__(
        self, source: bytes, options: int, text: bytes, seconds: float | None = None
    ) -> MatchOutcome:
        """With the engines' own limits, or UNKNOWN where that takes longer."""
        if len(text) > LONGEST_TEXT:
            return pcre.UNKNOWN
        with self._turn, self._in_turn():
            began = time.monotonic()
            if began - self._since > SPAN:
                self._since, self._spent = began, 0.0
            if self._spent > self.in_all:
                return pcre.UNKNOWN
            try:
                number = os.getpid() << 32 | next(self._asked) & 0xFFFFFFFF
                head = _HEAD.pack(number, len(source), options, len(text), seconds or self.each)
                self._link.sendall(head + source + text)
                data = self._answer(number)
            except (OSError, EOFError):
                return pcre.UNKNOWN
            self._spent += time.monotonic() - began
        return pcre.UNKNOWN if not data else _outcome(data)

    @contextmanager
    def _in_turn(self) -> Iterator[None]:
        fcntl.lockf(self._turns, fcntl.LOCK_EX)
        try:
            yield
        finally:
            fcntl.lockf(self._turns, fcntl.LOCK_UN)

    def _answer(self, number: int) -> bytes:
        """What was asked by a process that ended before it was told is passed over."""
        while True:
            data = _received(self._link)
            if _NUMBER.unpack_from(data) == (number,):
                return data[_NUMBER.size :]


def start(each: float = EACH) -> Matcher | None:
    """Starts the process, and has all costly patterns matched there. None where the engines'
    library is missing.
    """
    if not pcre.is_there():
        return None
    if not _started:
        _started.append(Matcher(each))
        set_apart(_started[0])
    return _started[0]


# The one of this process; its children ask it, too.
_started: list[Matcher] = []


def _received(link: socket.socket) -> bytes:
    (size,) = _SIZE.unpack(_exactly(link, _SIZE.size))
    return _exactly(link, size)


def _exactly(link: socket.socket, size: int) -> bytes:
    data = b""
    while len(data) < size:
        block = link.recv(size - len(data))
        if not block:
            raise EOFError
        data += block
    return data


def _outcome(data: bytes) -> MatchOutcome:
    """Kind and spans, in numbers: what comes back from there is not trusted with more."""
    kind, *ends = struct.unpack(f"!B{(len(data) - 1) // 4}i", data)
    spans = tuple(
        None if start < 0 else (start, end)
        for start, end in zip(ends[::2], ends[1::2], strict=True)
    )
    return MatchOutcome(_KINDS[kind], spans)


_KINDS = tuple(pcre.MatchKind)


def _packed(outcome: MatchOutcome) -> bytes:
    ends = [end for span in outcome.spans for end in (span or (-1, -1))]
    return struct.pack(f"!B{len(ends)}i", _KINDS.index(outcome.kind), *ends)


# --- the process ---


def _serve(link: socket.socket) -> None:
    """Never returns. Ends when nobody asks any more."""
    try:
        for number in (signal.SIGTERM, signal.SIGINT, signal.SIGCHLD):
            signal.signal(number, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        _close_others(link.fileno())
        # So that nothing needs to be loaded later.
        pcre.as_the_engines_do(b"a+", 0, b"aa")
        holds = confine(memory=MEMORY, processor=24 * 3600, forks=True)
        said = ", ".join(holds).encode()
        link.sendall(_SIZE.pack(len(said)) + said)
        while True:
            number, size, options, length, seconds = _HEAD.unpack(_exactly(link, _HEAD.size))
            source, text = _exactly(link, size), _exactly(link, length)
            data = _NUMBER.pack(number) + _in_time(source, options, text, seconds)
            link.sendall(_SIZE.pack(len(data)) + data)
    except (EOFError, OSError):
        pass
    finally:
        os._exit(0)


def _close_others(keep: int) -> None:
    os.closerange(3, keep)
    os.closerange(keep + 1, 1 << 16)


def _in_time(source: bytes, options: int, text: bytes, seconds: float) -> bytes:
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            signal.signal(signal.SIGVTALRM, signal.SIG_DFL)
            signal.setitimer(signal.ITIMER_VIRTUAL, seconds)
            os.write(write, _packed(pcre.as_the_engines_do(source, options, text)))
        finally:
            os._exit(0)
    os.close(write)
    ready, _, _ = select.select([read], [], [], seconds * _GRACE)
    data = os.read(read, 1 << 16) if ready else b""
    os.close(read)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    return data
