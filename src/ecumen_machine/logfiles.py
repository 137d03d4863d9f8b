"""Log files on disk: plain or gzip by content, read in bounded pieces, split over processes.

Source: RFC 1952 (several members may follow each other).
"""

from __future__ import annotations

import gzip
import io
import os
import sys
import zlib
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from typing import IO

from ecumen.errors import EcumenError
from ecumen.logs.entry import LONGEST_LINE
from ecumen.logs.forms import form_of
from ecumen.logs.tally import Counting, Tally
from ecumen.logs.template import Form, LineFormat

_BLOCK = 15 << 16  # below the longest line, so that few blocks hold one
_WORTH_SPLITTING = 32 << 20  # bytes


class LogError(EcumenError):
    """A log that cannot be read; says which and why."""


def tally_of(paths: Sequence[str], formats: Sequence[str]) -> Tally:
    """All logs together, `-` for standard input. formats: names or templates, the first that fits
    a line takes it. Raises LogError, TemplateError.
    """
    compiled = [form_of(each) for each in formats]
    whole = Tally()
    for path in paths:
        whole.add(_one(path, compiled))
        compiled = [form_of(each) for each in formats]
    return whole


def _one(path: str, formats: Sequence[Form]) -> Tally:
    try:
        if path == "-":
            return _tallied(_unpacked(sys.stdin.buffer), formats)
        with open(path, "rb") as stream:
            size = os.fstat(stream.fileno()).st_size
            packed = stream.read(2) == b"\x1f\x8b"
            stream.seek(0)
            # Lines of other forms may mean what lines before them say.
            apart = all(isinstance(form, LineFormat) for form in formats)
            if apart and not packed and size >= _WORTH_SPLITTING and (os.cpu_count() or 1) > 1:
                return _split(path, size, formats)
            return _tallied(_unpacked(stream), formats)
    except (OSError, EOFError, zlib.error) as error:
        raise LogError(f"{path}: {error}") from error


def _tallied(blocks: Iterable[bytes], formats: Sequence[Form]) -> Tally:
    counting = Counting(formats)
    rest = b""
    for block in blocks:
        data = rest + block
        end = data.rfind(b"\n") + 1
        # Of a line that is too long its beginning is enough to know so.
        rest = data[end:][: LONGEST_LINE + 1]
        counting.block(data[:end])
    if rest:
        counting.reject()
    return counting.tally


def _unpacked(stream: IO[bytes]) -> Iterator[bytes]:
    """The bytes of a stream in blocks. What gzip packed is known by its first two bytes."""
    first = stream.read(2)
    if first == b"\x1f\x8b":
        whole = io.BufferedReader(_Joined(first, stream))  # type: ignore[type-var]
        with gzip.GzipFile(fileobj=whole) as unpacked:
            while block := unpacked.read(_BLOCK):
                yield block
        return
    if first:
        yield first
    while block := stream.read(_BLOCK):
        yield block


class _Joined(io.RawIOBase):
    """A stream with a piece put back in front, as standard input cannot go back."""

    def __init__(self, first: bytes, rest: IO[bytes]) -> None:
        self.first = first
        self.rest = rest

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: bytearray) -> int:  # type: ignore[override]
        found = self.first or self.rest.read(len(buffer))
        self.first = b""
        buffer[: len(found)] = found
        return len(found)


# --- one file over several processes ---


def _split(path: str, size: int, formats: Sequence[Form]) -> Tally:
    parts = min(os.cpu_count() or 1, 4)
    bounds = [size * number // parts for number in range(parts + 1)]
    names = [each.name for each in formats]
    whole = Tally()
    with ProcessPoolExecutor(parts) as pool:
        for part in [pool.submit(_range, path, names, *each) for each in pairwise(bounds)]:
            whole.add(part.result())
    return whole


def _range(path: str, names: Sequence[str], start: int, end: int) -> Tally:
    """The lines that begin in a range of bytes; what the file grew by since is left out."""
    with open(path, "rb") as stream:
        # The line that goes over a border belongs to the range before it.
        first, behind = _end_of_line(stream, start), _end_of_line(stream, end)
        stream.seek(first)
        return _tallied(_blocks(stream, behind - first), [form_of(name) for name in names])


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
