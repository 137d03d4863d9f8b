"""Counts plain lines of the usual formats a block at a time, in columns.

A line is plain where it has no backslash, the quotes of its format and no others, `- -` for its
user, a usual method, and nothing odd in between. Whatever is not plain is given back, to be read
by itself: what is counted here is what would be counted there.

Eight bytes are looked at together: a view of the block has a 64-bit word at each byte. Texts are
counted by keyed 64-bit hashes of theirs; the text itself is fetched when a hash is first seen.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Words = npt.NDArray[np.uint64]
Bools = npt.NDArray[np.bool_]
Bytes = npt.NDArray[np.uint8]
Rows = npt.NDArray[np.void]

ROW_WORDS = 8  # that are fetched at once
_PAD = 8 * ROW_WORDS
_U = np.uint64
# The first so many bytes of a word, which is read with its lowest byte first.
_FIRST = np.array([(1 << (8 * n)) - 1 for n in range(9)], dtype=_U)
_ONES = _U(0x0101010101010101)
_HIGH = _U(0x8080808080808080)
_ZEROS = _U(0x3030303030303030)
_LETTERS = _U(0x4040404040404040)
_MARKS = _U(0x3F3F3F3F3F3F3F3F)  # question marks
_METHODS = (b"GET ", b"POST ", b"HEAD ", b"OPTIONS ", b"PUT ", b"DELETE ")
_QUOTE, _BACKSLASH, _SPACE, _CR = 34, 92, 32, 13
_DATE = 28  # bytes from the date to the request's quote
_BEFORE = 35  # the least that stands in front of the request's quote
_MOST_DIGITS = 12  # of a size
_LONGEST = 1 << 18  # bytes of a line whose texts are hashed whole


def _word(text: bytes) -> np.uint64:
    return _U(int.from_bytes(text.ljust(8, b"\0")[:8], "little"))


_METHOD_WORDS = [(_word(m), _FIRST[len(m[:8])], len(m), m[:-1]) for m in _METHODS]
_PROTOCOLS = [_word(b"HTTP/1.1"), _word(b"HTTP/1.0"), _word(b"HTTP/2.0")]
_NOBODY = (_word(b" - - ["), _FIRST[6])
# The two digits of the second, within the words that hold them.
_NO_SECONDS = ~_U(0x00000000FFFF0000)
_NO_SECOND = ~_U(0xFF)


class _Block(NamedTuple):
    """Whole lines: as bytes, as numbers, as a word and as a row at each byte. before: how many
    quotes stand in front of each line.
    """

    data: bytes
    a: Bytes
    u: Words
    wide: Rows
    starts: Ints
    ends: Ints
    quotes: Ints
    before: Ints


class TextCounts:
    """How often each text came, by its hash. Most are found in a table by the top of their hash."""

    BITS = 17

    def __init__(self) -> None:
        size = 1 << self.BITS
        self._hashes = np.zeros(size, dtype=_U)
        self._counts = np.zeros(size, dtype=np.int64)
        self._texts: dict[int, bytes] = {}
        self._others: dict[int, int] = {}

    def add(self, hashes: Words, text: Callable[[int], bytes]) -> None:
        """text: that of a row, fetched where its hash is new."""
        slots = (hashes >> _U(64 - self.BITS)).astype(np.int64)
        known = self._hashes[slots] == hashes
        if known.all():
            np.add.at(self._counts, slots, 1)
            return
        np.add.at(self._counts, slots[known], 1)
        rows = np.flatnonzero(~known)
        # Each text has a second place beside its first.
        beside = slots[rows] ^ 1
        found = self._hashes[beside] == hashes[rows]
        np.add.at(self._counts, beside[found], 1)
        rows = rows[~found]
        if not len(rows):
            return
        fresh, first, counts = np.unique(hashes[rows], return_index=True, return_counts=True)
        for value, row, count in zip(
            fresh.tolist(), rows[first].tolist(), counts.tolist(), strict=True
        ):
            if value in self._others:
                self._others[value] += count
                continue
            self._texts[value] = text(row)
            slot = value >> (64 - self.BITS)
            for place in (slot, slot ^ 1):
                if self._hashes[place] == 0:
                    self._hashes[place] = value
                    self._counts[place] = count
                    break
            else:
                self._others[value] = count

    def counts(self) -> Counter[bytes]:
        """By text."""
        found: Counter[bytes] = Counter()
        slots = np.flatnonzero(self._hashes)
        for value, count in zip(
            self._hashes[slots].tolist(), self._counts[slots].tolist(), strict=True
        ):
            found[self._texts[value]] += count
        for value, count in self._others.items():
            found[self._texts[value]] += count
        return found


@dataclass(slots=True)
class Plain:
    """What plain lines of a block came to. others: where lines begin and end that are not plain."""

    lines: int = 0
    size: int = 0
    others: list[tuple[int, int]] = field(default_factory=list)


@dataclass(slots=True)
class Minute:
    """One minute. text: with its seconds as 00. first, last: seconds within it."""

    text: bytes
    can_be: bool
    lines: int = 0
    first: int = 60
    last: int = 0


class LineColumns:
    """Counts blocks of lines of one or both of the usual formats. key: of the hashes, 128 bits.
    is_minute: whether a text like `02/Apr/2031:15:04:00 +0200` is a moment.
    """

    def __init__(self, names: frozenset[str], key: int, is_minute: Callable[[bytes], bool]) -> None:
        self.names = names
        self.is_minute = is_minute
        self._seed = _U(key & 0xFFFFFFFFFFFFFFFF)
        self._factor = _U((key >> 64) & 0xFFFFFFFFFFFFFFFF | 1)
        self._minutes: dict[int, Minute] = {}
        self.statuses = np.zeros(1000, dtype=np.int64)
        self.methods: Counter[bytes] = Counter()
        self.clients = TextCounts()
        self.paths = TextCounts()
        self.referrers = TextCounts()
        self.agents = TextCounts()

    def block(self, data: bytes) -> Plain:
        """Whole lines, each with its end."""
        padded = data + b"\0" * _PAD
        a = np.frombuffer(padded, dtype=np.uint8)
        u: Words = np.ndarray((len(padded) - 7,), dtype="<u8", buffer=padded, strides=(1,))
        wide: Rows = np.ndarray(
            (len(padded) - _PAD + 1,), dtype=f"V{_PAD}", buffer=padded, strides=(1,)
        )
        body = a[: len(data)]
        ends = np.flatnonzero(body == 10)
        starts = np.empty_like(ends)
        starts[0] = 0
        starts[1:] = ends[:-1] + 1
        quotes = np.flatnonzero(body == _QUOTE)
        found = Plain()
        plain = np.zeros(len(ends), dtype=bool)
        clean = np.ones(len(ends), dtype=bool)
        if b"\\" in data:
            clean[np.searchsorted(ends, np.flatnonzero(body == _BACKSLASH))] = False
        before = np.searchsorted(quotes, starts)
        count = np.append(before[1:], len(quotes)) - before
        block = _Block(data, a, u, wide, starts, ends, quotes, before)
        if "combined" in self.names:
            self._rows(found, plain, block, clean & (count == 6), combined=True)
        if "common" in self.names:
            self._rows(found, plain, block, clean & (count == 2), combined=False)
        left = ~plain
        found.others = list(zip(starts[left].tolist(), ends[left].tolist(), strict=True))
        return found

    def _rows(
        self, found: Plain, plain: Bools, block: _Block, which: Bools, *, combined: bool
    ) -> None:
        """Counts the plain ones of some lines, and marks them."""
        rows = np.flatnonzero(which)
        if not len(rows):
            return
        data, a, u, wide, starts, ends, quotes, before = block
        base, s, e = before[rows], starts[rows], ends[rows]
        q0, q1 = quotes[base], quotes[base + 1]
        e = e - (a[e - 1] == _CR)
        good = (q0 - s >= _BEFORE) & (q1 - q0 >= 15) & (e - s < _LONGEST)
        if combined:
            q2, q3, q4, q5 = (quotes[base + n] for n in (2, 3, 4, 5))
            good &= (q4 == q3 + 2) & (a[q3 + 1] == _SPACE) & (q5 + 1 == e) & (q2 - q1 >= 8)
            good &= a[q2 - 1] == _SPACE
            tail = q2 - 1
        else:
            good &= e - q1 >= 7
            tail = e
        if not good.any():
            return
        # What is wrong so far may point outside of its line, though never outside of the block: it
        # holds a line that is long enough.
        q0 = np.where(good, q0, _BEFORE)
        q1 = np.where(good, q1, _BEFORE + 20)
        tail = np.where(good, tail, _BEFORE + 30)
        s = np.where(good, s, 0)
        user, mask = _NOBODY
        good &= (u[q0 - _DATE - 6] & mask) == user
        good &= (a[q0 - 2] == 93) & (a[q0 - 1] == _SPACE)
        status = self._status(good, a, q1)
        size = self._size(good, u, q1 + 6, tail)
        second = (a[q0 - 10].astype(np.int64) - 48) * 10 + (a[q0 - 9].astype(np.int64) - 48)
        good &= _digit(a[q0 - 10]) & _digit(a[q0 - 9]) & (second <= 60)
        good &= (a[q1 - 9] == _SPACE) & _among(u[q1 - 8], _PROTOCOLS)
        method, length = self._method(u[q0 + 1])
        path = q0 + 1 + length
        good &= (method >= 0) & (a[path] == 47) & (q1 - 9 > path)
        self._blanks(wide, s, q0 - _DATE - 6 - s, good)
        lengths = self._blanks(wide, path, q1 - 9 - path, good)
        self._count_minutes(good, block, q0, second)
        if not good.all():
            keep = np.flatnonzero(good)
            rows, s, q0, q1, path = rows[keep], s[keep], q0[keep], q1[keep], path[keep]
            status, size, method = status[keep], size[keep], method[keep]
            lengths = lengths[keep]
            if combined:
                q2, q3, q4, q5 = q2[keep], q3[keep], q4[keep], q5[keep]
        if not len(rows):
            return
        plain[rows] = True
        found.lines += len(rows)
        found.size += int(size.sum())
        self.statuses += np.bincount(status, minlength=1000)
        for number, count in enumerate(np.bincount(method, minlength=len(_METHODS)).tolist()):
            if count:
                self.methods[_METHOD_WORDS[number][3]] += count
        client = self._hashed(wide, s, q0 - _DATE - 6 - s)
        self.clients.add(client, lambda row: data[s[row] : q0[row] - _DATE - 6])
        where = self._hashed(wide, path, lengths)
        self.paths.add(where, lambda row: data[path[row] : path[row] + lengths[row]])
        if combined:
            referrer = self._hashed(wide, q2 + 1, q3 - q2 - 1)
            self.referrers.add(referrer, lambda row: data[q2[row] + 1 : q3[row]])
            agent = self._hashed(wide, q4 + 1, q5 - q4 - 1)
            self.agents.add(agent, lambda row: data[q4[row] + 1 : q5[row]])

    # --- one column each; what is not plain is taken out of `good` ---

    def _status(self, good: Bools, a: Bytes, q1: Ints) -> Ints:
        digits = [a[q1 + n].astype(np.int64) - 48 for n in (2, 3, 4)]
        for digit in digits:
            good &= (digit >= 0) & (digit <= 9)
        good &= (a[q1 + 1] == _SPACE) & (a[q1 + 5] == _SPACE)
        return np.where(good, digits[0] * 100 + digits[1] * 10 + digits[2], 0)

    def _size(self, good: Bools, u: Words, start: Ints, end: Ints) -> Ints:
        """A number of at most 12 digits, or `-`."""
        length = end - start
        good &= (length >= 1) & (length <= _MOST_DIGITS)
        low = _number(u[end - 8], np.clip(length, 0, 8))
        high = _number(u[end - 16], np.clip(length - 8, 0, 8))
        dash = (length == 1) & ((u[start] & _U(0xFF)) == _U(45))
        good &= dash | ((low >= 0) & (high >= 0))
        return np.where(dash | ~good, 0, high * 100_000_000 + low)

    def _method(self, word: Words) -> tuple[Ints, Ints]:
        method = np.full(len(word), -1, dtype=np.int64)
        length = np.zeros(len(word), dtype=np.int64)
        for number, (text, mask, size, _) in enumerate(_METHOD_WORDS):
            same = (word & mask) == text
            if same.any():
                method[same], length[same] = number, size
        return method, length

    def _hashed(self, rows: Rows, start: Ints, length: Ints) -> Words:
        """Of texts; what lies behind them does not go in. All of no length are one."""
        # The longest first, so that those that go on are always the first ones.
        full = np.minimum(length >> 3, 32767).astype(np.int16)
        order = np.argsort(-full, kind="stable")
        down, at, size = -full[order], start[order], length[order]
        h = (size.astype(_U) ^ self._seed) * self._factor
        most = -int(down[0]) if len(order) else 0
        window = np.zeros((0, ROW_WORDS), dtype=_U)
        for word in range(most):
            going = int(np.searchsorted(down, -word, side="left"))
            if word % ROW_WORDS == 0:
                window = rows[at[:going] + 8 * word].view("<u8").reshape(going, ROW_WORDS)
            part = h[:going]
            part ^= window[:going, word % ROW_WORDS]
            part *= self._factor
            part ^= part >> _U(29)
        last = rows[at + (size & -8)].view("<u8").reshape(len(at), ROW_WORDS)[:, 0]
        h ^= last & _FIRST[size & 7]
        h *= self._factor
        h ^= h >> _U(32)
        found = np.empty_like(h)
        found[order] = h
        found[found == 0] = 1
        return found

    def _blanks(self, rows: Rows, start: Ints, length: Ints, good: Bools) -> Ints:
        """Takes texts out of `good` that hold a blank or anything below it. Returns the length in
        front of the first `?` of each.
        """
        path = length.copy()
        which = np.flatnonzero(good)
        at, left = start[which], length[which]
        open_ = np.ones(len(good), dtype=bool)
        done = 0
        while len(which):
            window = rows[at].view("<u8").reshape(len(at), ROW_WORDS)
            most = int(left.max())
            for word in range(min(ROW_WORDS, -(-most // 8))):
                beyond = ~_FIRST[np.minimum(np.maximum(left - 8 * word, 0), 8)]
                text = window[:, word] & ~beyond
                odd = _below(text | (beyond & _LETTERS), 33)
                if odd.any():
                    good[which[odd]] = False
                x = text ^ _MARKS
                marks = (x - _ONES) & ~x & _HIGH
                if marks.any():
                    hit = np.flatnonzero((marks != 0) & open_[which])
                    low = marks[hit] & (~marks[hit] + _U(1))
                    place = np.bitwise_count(low - _U(1)).astype(np.int64) >> 3
                    path[which[hit]] = done + 8 * word + place
                    open_[which[hit]] = False
            keep = np.flatnonzero(left > 8 * ROW_WORDS)
            which, at, left = which[keep], at[keep] + 8 * ROW_WORDS, left[keep] - 8 * ROW_WORDS
            done += 8 * ROW_WORDS
        return path

    def _count_minutes(self, good: Bools, block: _Block, q0: Ints, second: Ints) -> None:
        """Counts good lines by their minutes; takes those out whose minute cannot be."""
        rows = np.flatnonzero(good)
        if not len(rows):
            return
        at, u = q0[rows], block.u
        h = (u[at - 28] ^ self._seed) * self._factor
        for word in (u[at - 20], u[at - 12] & _NO_SECONDS, u[at - 9] & _NO_SECOND):
            h ^= h >> _U(29)
            h ^= word
            h *= self._factor
        new = np.ones(len(rows), dtype=bool)
        new[1:] = h[1:] != h[:-1]
        starts = np.flatnonzero(new)
        if len(starts) * 4 > len(rows):
            order = np.argsort(h, kind="stable")
            h, rows = h[order], rows[order]
            new[1:] = h[1:] != h[:-1]
            starts = np.flatnonzero(new)
        seconds = second[rows]
        ends = np.append(starts[1:], len(rows))
        for key, begin, end, first, last in zip(
            h[starts].tolist(), starts.tolist(), ends.tolist(),
            np.minimum.reduceat(seconds, starts).tolist(),
            np.maximum.reduceat(seconds, starts).tolist(),
            strict=True,
        ):  # fmt: skip
            known = self._minutes.get(key)
            if known is None:
                place, data = int(q0[rows[begin]]), block.data
                text = data[place - 28 : place - 10] + b"00" + data[place - 8 : place - 2]
                known = self._minutes[key] = Minute(text, self.is_minute(text))
            if not known.can_be:
                good[rows[begin:end]] = False
                continue
            known.lines += end - begin
            known.first = min(known.first, first)
            known.last = max(known.last, last)

    @property
    def minutes(self) -> list[Minute]:
        """Those in which lines were counted."""
        return [minute for minute in self._minutes.values() if minute.lines]


def _digit(byte: Bytes) -> Bools:
    return (byte >= 48) & (byte <= 57)


def _among(words: Words, known: Sequence[np.uint64]) -> Bools:
    found: Bools = words == known[0]
    for each in known[1:]:
        if not found.all():
            found |= words == each
    return found


def _below(words: Words, limit: int) -> Bools:
    """Whether any byte of a word is below a limit (of at most 128)."""
    found: Bools = ((words - _ONES * _U(limit)) & ~words & _HIGH) != 0
    return found


def _number(words: Words, digits: Ints) -> Ints:
    """The last so many bytes of each word as a decimal number; -1 where they are no digits."""
    mask = ~_FIRST[8 - digits]
    text = (words & mask) | (_ZEROS & ~mask)
    value = text - _ZEROS
    wrong = (((text + _ONES * _U(0x46)) | value) & _HIGH) != 0
    wrong |= (text & _HIGH) != 0
    # Two digits, then four, then eight at once.
    value = (value * _U(10)) + (value >> _U(8))
    pairs = _U(0x000000FF000000FF)
    value = (
        (value & pairs) * _U(0x000F424000000064)
        + ((value >> _U(16)) & pairs) * _U(0x0000271000000001)
    ) >> _U(32)
    return np.where(wrong, -1, value.astype(np.int64))
