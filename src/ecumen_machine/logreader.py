"""Log lines are read in a process that has nothing but the handles it is given: whoever writes the
records never takes a line apart.

The process asks for files by name and gets them opened for reading. What it hands over is made of a
few kinds of values, and nothing else is taken from it. Source: unix(7), SCM_RIGHTS; the manual of
pickle, "Restricting Globals".
"""

from __future__ import annotations

import io
import os
import pickle
import signal
import socket
import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from multiprocessing.reduction import recv_handle, send_handle
from typing import Any

from ecumen.causes import LogOfSites, SourceKind
from ecumen.engines.engine import error_entry
from ecumen.logs.entry import EntryReader, LogEntry
from ecumen.logs.forms import form_of
from ecumen.logs.ledger import Failure, Ledger, Sum, Visit, ledger_of
from ecumen_machine.confine import confine
from ecumen_machine.following import Chunk, FileMark, FilePart, chunks, parts_of
from ecumen_machine.logdoor import LogDoor

AT_ONCE = 50_000  # entries, or lines of an error log, that are handed over together
STANDS_STILL = 120.0  # seconds without a word, after which a log is given up
MOST_REJECTED = 1_000  # lines of a log that are kept
LONGEST_KEPT = 500  # bytes of such a line
_LARGEST = 1 << 30  # bytes that are handed over at once


@dataclass(slots=True)
class Stretch:
    """What was read of one log since something was handed over; it is written down together.

    parts: the files that were begun, in their order, each with how far it was read, None where
    nothing was new. spans: by number of the part and hour, the bytes between which its lines lie.
    rejected: path, place, reason and text of lines. errors: moment as if the server's time were
    UTC, level, reason, path and message. unread: what could not be read on, and why.
    """

    parts: list[tuple[FilePart, FileMark | None]] = field(default_factory=list)
    lines: int = 0
    lost: int = 0
    rejected: list[tuple[str, int, str, bytes]] = field(default_factory=list)
    spans: dict[tuple[int, int], tuple[int, int]] = field(default_factory=dict)
    ledger: Ledger | None = None
    errors: list[tuple[int, str, str, bytes, str]] = field(default_factory=list)
    unread: list[str] = field(default_factory=list)


class LogReader:
    """The process, and the way to it. It is started when it is first asked, and anew where it
    ended.
    """

    def __init__(self, found: Sequence[LogOfSites], door: LogDoor) -> None:
        self._found = found
        self._door = door
        self._link: Connection | None = None
        self._child = 0

    def read(
        self, number: int, files: Sequence[str], marks: Sequence[FileMark]
    ) -> Iterator[Stretch]:
        """What is new in the files of a log, by its number among those that were given."""
        path = self._found[number].path
        try:
            link = self._started()
            _send(link, (number, list(files), list(marks)))
            while True:
                what = self._received(link)
                if isinstance(what, str):
                    self._hand_over(link, what, files)
                elif isinstance(what, Stretch):
                    yield what
                else:
                    return
        except (OSError, EOFError, pickle.UnpicklingError) as error:
            self.close()
            yield Stretch(unread=[f"{path}: given up: {_why(error)}"])

    def _started(self) -> Connection:
        if self._link is None:
            ours, theirs = socket.socketpair()
            self._child = os.fork()
            if self._child == 0:
                ours.close()
                _read(theirs, self._found)
            theirs.close()
            self._link = Connection(ours.detach())
        return self._link

    def _received(self, link: Connection) -> object:
        if not link.poll(STANDS_STILL):
            raise EOFError(f"nothing came of it for {STANDS_STILL:.0f} seconds")
        return _Careful(io.BytesIO(link.recv_bytes(_LARGEST))).load()

    def _hand_over(self, link: Connection, path: str, files: Sequence[str]) -> None:
        try:
            if path not in files:
                raise PermissionError(13, "it is no file of this log")
            handle = self._door.open(path)
        except OSError as error:
            link.send_bytes(pickle.dumps((error.errno, error.strerror)))
            return
        try:
            link.send_bytes(pickle.dumps(None))
            send_handle(link, handle, self._child)
        finally:
            os.close(handle)

    def close(self) -> None:
        if self._link is not None:
            self._link.close()
            self._link = None
            os.kill(self._child, signal.SIGKILL)
            os.waitpid(self._child, 0)


def _why(error: Exception) -> str:
    return str(error) or "the process that read it ended"


def _send(link: Connection, what: object) -> None:
    link.send_bytes(pickle.dumps(what, pickle.HIGHEST_PROTOCOL))


_KINDS = frozenset(
    f"{kind.__module__}.{kind.__qualname__}"
    for kind in (Stretch, FilePart, FileMark, Ledger, Sum, Visit, Failure)
)


class _Careful(pickle.Unpickler):
    """Makes what a reader of logs hands over, and no other kind of thing."""

    def find_class(self, module: str, name: str) -> Any:
        if f"{module}.{name}" not in _KINDS:
            raise pickle.UnpicklingError(f"it hands over what is none of it: {module}.{name}")
        return super().find_class(module, name)


# --- the process ---


class _Handed:
    """The door as this process has it: it asks."""

    def __init__(self, link: Connection) -> None:
        self._link = link

    def names(self, folder: str) -> list[str]:
        raise PermissionError(13, "only files are handed over", folder)

    def open(self, path: str) -> int:
        _send(self._link, path)
        refused = pickle.loads(self._link.recv_bytes())
        if refused is not None:
            raise OSError(*refused, path)
        return recv_handle(self._link)


def _read(theirs: socket.socket, found: Sequence[LogOfSites]) -> None:
    """The whole of the process. Never returns."""
    try:
        signal.signal(signal.SIGTERM, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        keep = theirs.fileno()
        os.closerange(3, keep)
        os.closerange(keep + 1, 1 << 16)
        confine()
        link = Connection(theirs.detach())
        door = _Handed(link)
        while True:
            number, files, marks = pickle.loads(link.recv_bytes())
            log = _Log(found[number], lambda stretch: _send(link, stretch))
            log.read(parts_of(files, marks, door), door)
            _send(link, None)
    except (EOFError, OSError):
        pass
    except BaseException as error:
        # Said without what was read: that goes to no terminal as it stands.
        os.write(2, f"ecumen: reading a log: {type(error).__name__}\n".encode())
    finally:
        os._exit(0)


class _Log:
    """One log, while it is read. hand_over: takes what was read so far."""

    def __init__(self, source: LogOfSites, hand_over: Callable[[Stretch], None]) -> None:
        self._source = source
        self._hand_over = hand_over
        access = source.kind is SourceKind.ACCESS
        self._reader = EntryReader([form_of(t) for t in source.templates]) if access else None
        self._entries: list[LogEntry] = []
        self._stretch = Stretch()

    def read(self, parts: Sequence[FilePart], door: LogDoor) -> None:
        for part in parts:
            self._stretch.parts.append((part, None))
            try:
                for chunk in chunks(part, door):
                    self._chunk(part, chunk)
                    if max(len(self._entries), len(self._stretch.errors)) >= AT_ONCE:
                        self._give()
                        self._stretch.parts.append((part, None))
            except (OSError, EOFError, zlib.error) as error:
                self._stretch.unread.append(f"{part.path}: {error}")
        self._give()

    def _give(self) -> None:
        stretch, self._stretch = self._stretch, Stretch()
        entries, self._entries = self._entries, []
        if entries:
            assert self._source.books is not None
            stretch.ledger = ledger_of(entries, self._source.books)
        self._hand_over(stretch)

    def _chunk(self, part: FilePart, chunk: Chunk) -> None:
        self._stretch.parts[-1] = (part, chunk.mark)
        if chunk.cut:
            self._reject(part, chunk.start, "cut at the end of the file", chunk.data)
            self._stretch.lines += 1
            return
        lines = chunk.data.split(b"\n")[:-1]
        if self._reader is None:
            self._errors(lines)
        elif lines:
            self._accesses(self._reader, part, chunk, lines)

    def _accesses(
        self, reader: EntryReader, part: FilePart, chunk: Chunk, lines: list[bytes]
    ) -> None:
        stretch = self._stretch
        starts = [chunk.start]
        for line in lines:
            starts.append(starts[-1] + len(line) + 1)
        found = reader.all(lines)
        for number, why in found.rejected:
            self._reject(part, starts[number], why, lines[number])
        stretch.lines += len(found.entries) + len(found.rejected)
        place = len(stretch.parts) - 1
        for entry, number in zip(found.entries, found.numbers, strict=True):
            key = (place, entry.at // 3600)
            low, high = stretch.spans.get(key, (starts[number], 0))
            stretch.spans[key] = (min(low, starts[number]), max(high, starts[number + 1]))
        self._entries += found.entries

    def _errors(self, lines: list[bytes]) -> None:
        """What a line goes on with on the next one is not told apart: such lines are rejected."""
        stretch = self._stretch
        for line in lines:
            entry = error_entry(self._source.engine, line)
            if entry is None:
                stretch.lost += 1
                continue
            path = entry.path.encode("utf-8", "surrogateescape")
            stretch.errors.append(
                (entry.at, entry.level, entry.reason.name.lower(), path, entry.message)
            )
        stretch.lines += len(lines)

    def _reject(self, part: FilePart, at: int, why: str, text: bytes) -> None:
        self._stretch.lost += 1
        if len(self._stretch.rejected) < MOST_REJECTED:
            self._stretch.rejected.append((part.path, at, why, text[:LONGEST_KEPT]))
