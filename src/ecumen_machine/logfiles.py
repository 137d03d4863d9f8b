"""Log files on disk: plain or gzip by content, read in bounded pieces, split over processes.

Source: RFC 1952 (several members may follow each other).
"""

from __future__ import annotations

import ipaddress
import os
import sys
import zlib
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from itertools import islice, pairwise
from typing import IO

from ecumen.errors import EcumenError
from ecumen.logs.entry import LONGEST_LINE
from ecumen.logs.forms import form_of
from ecumen.logs.tally import Counting, Tally
from ecumen.logs.template import NAMES, USUAL, Form, LineFormat

_LOOKED_AT = 1000  # lines, for a form that fits
_BLOCK = 15 << 16  # below the longest line, so that few blocks hold one
_WORTH_SPLITTING = {False: 32 << 20, True: 4 << 20}  # bytes, by whether they are packed


class LogError(EcumenError):
    """A log that cannot be read; says which and why."""


def tally_of(
    paths: Sequence[str], formats: Sequence[str], note: Callable[[str], None] = lambda line: None
) -> Tally:
    """All logs together, `-` for standard input. formats: names or templates, the first that fits
    a line takes it. note: is told of each log that none of them fits. Raises LogError,
    TemplateError.
    """
    compiled = [form_of(each) for each in formats]
    whole = Tally()
    for path in paths:
        found = _one(path, compiled)
        whole.add(found)
        if found.lines and not found.parsed:
            note(
                f"{path}: none of its lines is of the form {' or '.join(formats)}; {_nearest(path)}"
            )
        elif found.parsed and tuple(formats) == USUAL and (other := _led_by_a_site(path)):
            note(f"{path}: a site and a port seem to lead its lines: --format {other}")
        compiled = [form_of(each) for each in formats]
    return whole


def _nearest(path: str) -> str:
    """What to ask for in place of a form that no line fits, by the first lines of the log."""
    if not os.path.isfile(path):
        # What comes through a pipe comes once.
        return "say which with --format"
    lines = _first_lines(path)
    fitting = []
    for name in (*NAMES, "json", "w3c"):
        counting = Counting([form_of(name)])
        counting.take(lines)
        fitting.append((counting.tally.parsed, name))
    count, name = max(fitting, key=lambda each: each[0])
    if not count:
        return "nor of any other that has a name: give its template with --format"
    return f"--format {name} fits {count} of the first {len(lines)}"


def _first_lines(path: str) -> list[bytes]:
    """Some lines that are not empty, the last one perhaps cut."""
    with open(path, "rb") as stream:
        lines = b"".join(islice(_unpacked(stream), 2)).split(b"\n")
    return [line for line in lines[:_LOOKED_AT] if line]


def _led_by_a_site(path: str) -> str:
    """Such a line is of the usual form, too, with blanks in the name of its user: where what then
    stands in the second place is an address, it is the visitor's. The form, or "".
    """
    if not os.path.isfile(path):
        return ""
    lines = _first_lines(path)
    for name in ("vhost_combined", "vhost_common"):
        form = form_of(name)
        found = [form.fields(line) for line in lines]
        clients = [fields["client"] for fields in found if fields is not None]
        if 2 * sum(_is_address(client) for client in clients) > len(lines):
            return name
    return ""


def _is_address(client: bytes) -> bool:
    try:
        ipaddress.ip_address(client.decode("ascii", "replace"))
    except ValueError:
        return False
    return True


def _one(path: str, formats: Sequence[Form]) -> Tally:
    try:
        if path == "-":
            return _tallied(_unpacked(sys.stdin.buffer), Counting(formats))
        with open(path, "rb") as stream:
            size = os.fstat(stream.fileno()).st_size
            packed = stream.read(2) == b"\x1f\x8b"
            stream.seek(0)
            # Lines of other forms may mean what lines before them say.
            apart = all(isinstance(form, LineFormat) for form in formats)
            if apart and size >= _WORTH_SPLITTING[packed] and (os.cpu_count() or 1) > 1:
                return _shared(stream, formats) if packed else _split(path, size, formats)
            return _tallied(_unpacked(stream), Counting(formats))
    except (OSError, EOFError, zlib.error) as error:
        raise LogError(f"{path}: {error}") from error


def _tallied(blocks: Iterable[bytes], counting: Counting) -> Tally:
    for lines in _whole_lines(blocks, counting):
        counting.block(lines)
    return counting.tally


def _whole_lines(blocks: Iterable[bytes], counting: Counting) -> Iterator[bytes]:
    """The blocks again, cut where lines end; what is left behind the last end is a line, too."""
    rest = before = b""
    for block in blocks:
        data = rest + block
        end = data.rfind(b"\n") + 1
        if end:
            before = data[data.rfind(b"\n", 0, end - 1) + 1 : end - 1]
        # Of a line that is too long its beginning is enough to know so.
        rest = data[end:][: LONGEST_LINE + 1]
        yield data[:end]
    if rest:
        counting.unended(rest, before)


def _unpacked(stream: IO[bytes]) -> Iterator[bytes]:
    """The bytes of a stream in blocks. What gzip packed is known by its first two bytes."""
    first = stream.read(2)
    if first == b"\x1f\x8b":
        yield from _ahead(_inflated(first, stream))
        return
    if first:
        yield first
    while block := stream.read(_BLOCK):
        yield block


def _inflated(first: bytes, stream: IO[bytes]) -> Iterator[bytes]:
    """What gzip packed, in one member or several. Raises EOFError where the last one is cut."""
    member, within = zlib.decompressobj(_GZIP), False
    packed, at, step = memoryview(first), 0, _FEW
    left = MOST_UNPACKED
    whole: list[bytes] = []
    size = 0
    while True:
        if at == len(packed):
            packed, at = memoryview(stream.read(_PACKED)), 0
            if not packed:
                break
        if not within and packed[at] == 0:
            # Zeros may fill what is left of a tape.
            at += 1
            continue
        within = True
        # What stands behind a member is copied: of thousands of small ones only a little each time.
        given = packed[at : at + step]
        block = member.decompress(given, _BLOCK)
        # At its end, what is left may stand in both.
        at += len(given) - len(member.unused_data if member.eof else member.unconsumed_tail)
        step = min(step * 2, _PACKED)
        if member.eof:
            member, within, step = zlib.decompressobj(_GZIP), False, _FEW
        left -= len(block)
        if left < 0:
            raise EOFError(f"it unpacks to more than {MOST_UNPACKED} bytes")
        # Small members are put together: whoever counts a block takes a while to begin.
        whole.append(block)
        size += len(block)
        if size >= _WORTH_A_BLOCK:
            yield b"".join(whole)
            whole, size = [], 0
    if size:
        yield b"".join(whole)
    if within:
        raise EOFError("the packed file ends before its end")


_GZIP = zlib.MAX_WBITS | 16
_FEW = 1 << 10  # bytes
_WORTH_A_BLOCK = 1 << 18  # bytes
_PACKED = 1 << 18
MOST_UNPACKED = 256 << 30  # bytes


def _ahead(blocks: Iterator[bytes]) -> Iterator[bytes]:
    """The same, made a few blocks ahead in a thread of its own: unpacking lets others work."""
    with ThreadPoolExecutor(1) as pool:
        made: deque[Future[bytes | None]] = deque()
        while True:
            while len(made) < _AHEAD:
                made.append(pool.submit(next, blocks, None))
            block = made.popleft().result()
            if block is None:
                return
            yield block


_AHEAD = 4


# --- one file over several processes ---


def _split(path: str, size: int, formats: Sequence[Form]) -> Tally:
    parts = min(os.cpu_count() or 1, 4)
    bounds = [size * number // parts for number in range(parts + 1)]
    names = [each.name for each in formats]
    whole = Tally()
    # What is compiled is read here once, and the processes have it.
    Counting(formats, compiled=True).warm()
    with ProcessPoolExecutor(parts) as pool:
        for part in [pool.submit(_range, path, names, *each) for each in pairwise(bounds)]:
            whole.add(part.result())
    return whole


def _shared(stream: IO[bytes], formats: Sequence[Form]) -> Tally:
    """What is packed can be unpacked from its beginning alone: another process counts the blocks
    that it can take, this one the others.
    """
    counting = Counting(formats, compiled=True)
    counting.warm()
    names = [each.name for each in formats]
    with ProcessPoolExecutor(1, initializer=_begin, initargs=(names,)) as other:
        taken: deque[Future[None]] = deque()
        for lines in _whole_lines(_unpacked(stream), counting):
            while taken and taken[0].done():
                taken.popleft().result()
            if len(taken) < _AHEAD:
                taken.append(other.submit(_count_there, lines))
            else:
                counting.block(lines)
        whole = counting.tally
        whole.add(other.submit(_counted_there).result())
    return whole


# What the other process counts; one of its own in each.
_there: list[Counting] = []


def _begin(names: Sequence[str]) -> None:
    _there[:] = [Counting([form_of(name) for name in names], compiled=True)]


def _count_there(lines: bytes) -> None:
    _there[0].block(lines)


def _counted_there() -> Tally:
    return _there[0].tally


def _range(path: str, names: Sequence[str], start: int, end: int) -> Tally:
    """The lines that begin in a range of bytes; what the file grew by since is left out."""
    with open(path, "rb") as stream:
        # The line that goes over a border belongs to the range before it.
        first, behind = _end_of_line(stream, start), _end_of_line(stream, end)
        stream.seek(first)
        counting = Counting([form_of(name) for name in names], compiled=True)
        return _tallied(_blocks(stream, behind - first), counting)


def _blocks(stream: IO[bytes], left: int) -> Iterator[bytes]:
    while left > 0 and (block := stream.read(min(_BLOCK, left))):
        left -= len(block)
        yield block


def _end_of_line(stream: IO[bytes], at: int) -> int:
    """Where the line ends that goes over a border; the border itself where one ends there."""
    if at == 0:
        return 0
    stream.seek(at - 1)
    return at - 1 + len(stream.readline())
