"""Logs that grow, are rotated, copied and truncated, or packed: each line is read once.

What was read is known by the file's device and inode, and by its first bytes: a file that was
renamed goes on where it stopped, so does a copy or a packed one, and one that was truncated begins
anew. A copy that stands beside what it is made of is left alone until that is gone.

Not seen are lines that were written and lost between two looks, as between the copying and the
truncating of a log.
"""

from __future__ import annotations

import gzip
import hashlib
import os
import zlib
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import IO, cast

from ecumen.logs.entry import LONGEST_LINE
from ecumen.logs.rotation import OTHERWISE_PACKED, logs_of
from ecumen_machine.logdoor import OWN, LogDoor

HEAD = 1024  # bytes by which a file is known again
BLOCK = 1 << 20  # bytes
_MAGIC = b"\x1f\x8b"


MOST_UNPACKED = 64 << 30  # bytes


class Unpacked(gzip.GzipFile):
    """What a packed file holds, in bounded pieces, as far as it is no trap.

    Raises EOFError for a file of more bytes than a log has.
    """

    def __init__(self, stream: IO[bytes]) -> None:
        super().__init__(fileobj=stream, mode="rb")
        self._left = MOST_UNPACKED
        self._packed = stream

    def fileno(self) -> int:
        return self._packed.fileno()

    def read(self, size: int | None = -1) -> bytes:
        data = super().read(size)
        self._left -= len(data)
        if self._left < 0:
            raise EOFError(f"it unpacks to more than {MOST_UNPACKED} bytes")
        return data


@dataclass(frozen=True, slots=True)
class FileMark:
    """How far a file was read. offset: of its content, in bytes, behind a whole line.

    head: digest of its first head_size bytes. done: of a packed file that was read to its end, its
    size on disk.
    """

    device: int
    inode: int
    offset: int
    head: str
    head_size: int
    done: int = 0


@dataclass(frozen=True, slots=True)
class FilePart:
    """A file of a log from which something may be new. before: the mark that it continues."""

    path: str
    packed: bool
    mark: FileMark
    before: FileMark | None


@dataclass(frozen=True, slots=True)
class Chunk:
    """Whole lines, with their ends. start: where they begin; mark: when they have been read."""

    start: int
    data: bytes
    mark: FileMark
    cut: bool = False


class Folders:
    """The folders of logs, as they are when a log of theirs is first asked for: each is looked at
    once, however many logs lie in it.
    """

    def __init__(self, logs: Collection[str], door: LogDoor = OWN) -> None:
        """logs: paths that are logs of their own, whatever they are called."""
        self._logs = logs
        self.door = door
        self._folders: dict[str, dict[str, list[str]]] = {}

    def files_of(self, path: str) -> tuple[list[str], list[str]]:
        """The files of a log, the oldest first, and those that are not read, each with the reason
        where it is not that it is packed in another way.
        """
        folder, name = os.path.split(path)
        if folder not in self._folders:
            self._folders[folder] = self._look(folder)
        found: list[tuple[bool, float, str]] = []
        unread: list[str] = []
        for each in dict.fromkeys(self._folders[folder].get(name, ())):
            whole = os.path.join(folder, each)
            if each.endswith(OTHERWISE_PACKED):
                unread.append(whole)
                continue
            try:
                handle = self.door.open(whole)
            except FileNotFoundError:
                continue
            except OSError as error:
                unread.append(f"{whole}: {error.strerror or error}")
                continue
            try:
                found.append((whole == path, os.fstat(handle).st_mtime, whole))
            finally:
                os.close(handle)
        return [whole for *_, whole in sorted(found)], sorted(unread)

    def _look(self, folder: str) -> dict[str, list[str]]:
        """Names of files by the names of the logs that they may belong to."""
        found: dict[str, list[str]] = {}
        try:
            names = self.door.names(folder)
        except OSError:
            return found
        for name in names:
            found.setdefault(name, []).append(name)
            if os.path.join(folder, name) not in self._logs:
                for log in logs_of(name):
                    found.setdefault(log, []).append(name)
        return found


def parts_of(
    files: Sequence[str], marks: Sequence[FileMark], door: LogDoor = OWN
) -> list[FilePart]:
    """What there is to read of a log's files. marks: how far they were read before."""
    left = {(mark.device, mark.inode): mark for mark in marks}
    found: list[FilePart] = []
    unknown: list[tuple[str, os.stat_result, bool]] = []
    for path in files:
        try:
            with os.fdopen(door.open(path), "rb") as stream:
                known = os.fstat(stream.fileno())
                packed = stream.read(2) == _MAGIC
        except OSError:
            continue
        mark = left.get((known.st_dev, known.st_ino))
        if mark is not None and _continues(door, path, packed, mark):
            found.append(FilePart(path, packed, mark, mark))
            del left[mark.device, mark.inode]
        else:
            unknown.append((path, known, packed))
    # A copy is made of a log, or a packed file of a plain one: what it is made of goes first.
    unknown.sort(key=lambda each: (each[2], each[0] != files[-1]))
    for path, known, packed in unknown:
        again = next((mark for mark in left.values() if _continues(door, path, packed, mark)), None)
        if again is not None:
            del left[again.device, again.inode]
            mark = replace(again, device=known.st_dev, inode=known.st_ino, done=0)
            found.append(FilePart(path, packed, mark, again))
        elif not any(_copied(door, path, packed, part) for part in found):
            fresh = FileMark(known.st_dev, known.st_ino, 0, "", 0)
            found.append(FilePart(path, packed, fresh, None))
    order: dict[str, float] = {path: number for number, path in enumerate(files)}
    places = {(part.mark.device, part.mark.inode): order[part.path] for part in found}
    for part in found:
        # What was read of a file is taken over before that file is begun anew.
        anew = places.get((part.before.device, part.before.inode)) if part.before else None
        if anew is not None:
            order[part.path] = min(order[part.path], anew - 0.5)
    return sorted(found, key=lambda part: order[part.path])


def _continues(door: LogDoor, path: str, packed: bool, mark: FileMark) -> bool:
    """Whether a file is the one that was read, or a copy of all of it."""
    if not mark.head_size:
        return False
    try:
        with _content(door, path, packed) as stream:
            first = stream.read(mark.head_size)
            size = os.fstat(stream.fileno()).st_size
    except (OSError, EOFError, zlib.error):
        return False
    if len(first) != mark.head_size or _digest(first) != mark.head:
        return False
    return packed or size >= mark.offset


def _copied(door: LogDoor, path: str, packed: bool, part: FilePart) -> bool:
    """Whether a file begins as another one does, as far as both go."""
    one, two = _first_lines(door, path, packed), _first_lines(door, part.path, part.packed)
    size = min(len(one), len(two))
    return size > 0 and one[:size] == two[:size]


def _first_lines(door: LogDoor, path: str, packed: bool) -> bytes:
    try:
        with _content(door, path, packed) as stream:
            first = stream.read(HEAD)
    except (OSError, EOFError, zlib.error):
        return b""
    return first if len(first) == HEAD else first[: first.rfind(b"\n") + 1]


def _digest(data: bytes) -> str:
    return hashlib.blake2b(data, digest_size=16).hexdigest()


@contextmanager
def _content(door: LogDoor, path: str, packed: bool) -> Iterator[IO[bytes]]:
    with os.fdopen(door.open(path), "rb") as stream:
        if not packed:
            yield stream
            return
        with Unpacked(stream) as whole:
            yield cast(IO[bytes], whole)


def chunks(part: FilePart, door: LogDoor = OWN) -> Iterator[Chunk]:
    """What is new in a file, in bounded pieces. A line that is not ended yet is left for the next
    time, but for one at the end of a packed file, which stays cut.

    Raises OSError, EOFError, zlib.error where the file cannot be read on; what came before holds.
    """
    if part.packed and part.mark.done:
        return
    with _content(door, part.path, part.packed) as stream:
        on_disk = os.fstat(stream.fileno()).st_size
        head = stream.read(HEAD)
        stream.seek(part.mark.offset)
        offset, rest, dropped = part.mark.offset, b"", 0

        def mark(at: int, done: int = 0) -> FileMark:
            size = min(HEAD, at)
            return FileMark(part.mark.device, part.mark.inode, at, _digest(head[:size]), size, done)

        while block := stream.read(BLOCK):
            data = rest + block
            end = data.rfind(b"\n") + 1
            if not end:
                # Of a line that is too long the beginning is enough to know so.
                rest = data[: LONGEST_LINE + 1]
                dropped += len(data) - len(rest)
                continue
            if dropped:
                # The line that was too long, by itself: what is dropped of it moves the others.
                first = data.find(b"\n") + 1
                after = offset + first + dropped
                yield Chunk(offset, data[:first], mark(after))
                offset, data, dropped, end = after, data[first:], 0, end - first
            if end:
                yield Chunk(offset, data[:end], mark(offset + end))
            offset, rest = offset + end, data[end:]
        if part.packed:
            whole = offset + len(rest) + dropped
            yield Chunk(offset, rest, mark(whole, on_disk), cut=bool(rest))


def lines_between(
    path: str, packed: bool, low: int, high: int, word: bytes = b"", door: LogDoor = OWN
) -> Iterator[tuple[int, bytes]]:
    """The lines of a file that begin from `low` on and before `high`, each with where it begins
    and without its end. word: in lower case, stands in each in any case. What is too long for a
    line is passed over. Raises OSError, EOFError, zlib.error.
    """
    with _content(door, path, packed) as stream:
        stream.seek(low)
        at, rest = low, b""
        while at < high and (block := stream.read(BLOCK)):
            data = rest + block
            end = data.rfind(b"\n") + 1
            if not end and len(data) > LONGEST_LINE:
                at, rest = at + len(data), b""
                continue
            for start, line in _with(data[:end], word):
                if at + start >= high:
                    return
                yield at + start, line.removesuffix(b"\r")
            at, rest = at + end, data[end:]


def content(path: str, most: int, door: LogDoor = OWN) -> bytes:
    """What a packed file holds, and no more than so many bytes of it. Raises OSError, EOFError,
    zlib.error.
    """
    with _content(door, path, packed=True) as stream:
        return stream.read(most)


def lines_of(data: bytes, start: int, word: bytes = b"") -> Iterator[tuple[int, bytes]]:
    """The whole lines of a stretch that begins at `start`, as `lines_between` gives them."""
    for at, line in _with(data[: data.rfind(b"\n") + 1], word):
        yield start + at, line.removesuffix(b"\r")


def _with(data: bytes, word: bytes) -> Iterator[tuple[int, bytes]]:
    """The lines of a block that hold a word, each with where it begins."""
    if not word:
        at = 0
        for line in data.split(b"\n")[:-1]:
            yield at, line
            at += len(line) + 1
        return
    lower = data.lower()
    at = lower.find(word)
    while at >= 0:
        start = data.rfind(b"\n", 0, at) + 1
        end = data.find(b"\n", at)
        if end < 0:
            return
        if b"\n" not in word:
            yield start, data[start:end]
        at = lower.find(word, end + 1)
