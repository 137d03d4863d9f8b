"""Counts plain lines of the usual formats in one pass, compiled when it is first used.

A line is plain as `columns` says; texts in quotes behind the request may hold escapes besides. What
is not plain is given back, to be read by itself: what is counted here is what would be counted
there. Texts are counted by keyed 64-bit hashes of theirs, in open tables; the text itself is
fetched when a hash is first seen.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

import numba
import numpy as np
import numpy.typing as npt

from ecumen.logs.columns import Bytes, Ints, Minute, Plain, Words
from ecumen.logs.template import unescaped

Words2 = npt.NDArray[np.uint64]  # rows of them

CLIENT, PATH, REFERRER, AGENT = range(4)
_SMALLEST = 1 << 14  # places in a table
_U = np.uint64
_METHODS = (b"GET", b"POST", b"HEAD", b"OPTIONS", b"PUT", b"DELETE")
_MONTHS = tuple(
    int.from_bytes(name, "big")
    for name in (
        b"Jan", b"Feb", b"Mar", b"Apr", b"May", b"Jun", b"Jul", b"Aug", b"Sep", b"Oct", b"Nov",
        b"Dec",
    )
)  # fmt: skip
_ONES, _HIGH = _U(0x0101010101010101), _U(0x8080808080808080)
_ENDS, _QUOTES, _SLASHES = _U(10) * _ONES, _U(34) * _ONES, _U(92) * _ONES
_PAD = 8
_LONGEST = 1 << 18
# What a pass tells: where it is, how many lines it counted, their bytes, how many it gives back,
# where the request of the line begins whose minute is new, how many minutes there are and how many
# of them are new in this block; and of each kind of text how many bytes are kept, and how many
# texts.
_AT, _LINES, _SIZE, _OTHERS, _REQUEST, _MINUTES, _FRESH, _KEPT, _HELD = 0, 1, 2, 3, 4, 5, 6, 7, 11
_TOLD = _HELD + 4


@numba.njit(cache=True, inline="always")
def _hashed(u, at, length, seed, factor):  # type: ignore[no-untyped-def]
    h = (np.uint64(length) ^ seed) * factor
    end = at + (length & -8)
    while at < end:
        h = (h ^ u[at]) * factor
        h ^= h >> np.uint64(29)
        at += 8
    left = length & 7
    if left:
        h ^= u[at] & ((np.uint64(1) << np.uint64(8 * left)) - np.uint64(1))
    h *= factor
    h ^= h >> np.uint64(32)
    # Nothing stands for an empty place.
    return h if h else np.uint64(1)


@numba.njit(cache=True, inline="always")
def _count(a, u, begin, end, table, kept, told, kind, seed, factor):  # type: ignore[no-untyped-def]
    """Counts a text; one that is new is kept behind the others of its kind."""
    h = _hashed(u, begin, end - begin, seed, factor)
    mask = np.uint64(len(table) - 1)
    place = h & mask
    while table[place, 0] != 0 and table[place, 0] != h:
        place = (place + np.uint64(1)) & mask
    if table[place, 0] == h:
        table[place, 1] += np.uint64(1)
        return
    to = told[_KEPT + kind]
    table[place, 0], table[place, 1] = h, np.uint64(1)
    table[place, 2], table[place, 3] = np.uint64(to), np.uint64(end - begin)
    for at in range(begin, end):
        kept[to + at - begin] = a[at]
    told[_KEPT + kind] = to + end - begin
    told[_HELD + kind] += 1


@numba.njit(cache=True)
def _move(table, wider):  # type: ignore[no-untyped-def]
    mask = np.uint64(len(wider) - 1)
    for at in range(len(table)):
        if table[at, 0]:
            place = table[at, 0] & mask
            while wider[place, 0]:
                place = (place + np.uint64(1)) & mask
            wider[place] = table[at]


@numba.njit(cache=True, inline="always")
def _is_usual(a, at):  # type: ignore[no-untyped-def]
    """Whether `02/Apr/2031:15:04` and a zone are surely a minute that there is."""
    for n in (0, 1, 7, 8, 9, 10, 12, 13, 15, 16, 22, 23, 24, 25):
        if not 48 <= a[at + n] <= 57:
            return False
    if not (
        a[at + 2] == 47 and a[at + 6] == 47 and a[at + 11] == 58 and a[at + 14] == 58
        and a[at + 17] == 58 and a[at + 20] == 32 and (a[at + 21] == 43 or a[at + 21] == 45)
    ):  # fmt: skip
        return False
    day = (a[at] - 48) * 10 + a[at + 1] - 48
    hour = (a[at + 12] - 48) * 10 + a[at + 13] - 48
    month = (np.int64(a[at + 3]) << 16) | (np.int64(a[at + 4]) << 8) | np.int64(a[at + 5])
    known = False
    for name in _MONTHS:
        known = known or name == month
    return (
        known and 1 <= day <= 28 and hour < 24 and a[at + 15] < 54 and a[at + 22] < 49
        and a[at + 24] < 54 and (a[at + 7] == 49 or a[at + 7] == 50)
        and (a[at + 7] != 49 or a[at + 8] == 57)
    )  # fmt: skip


@numba.njit(cache=True, inline="always")
def _method(a, at):  # type: ignore[no-untyped-def]
    """Its number, and how long it is with the blank behind it; -1 for an unusual one."""
    first, second = a[at], a[at + 1]
    if first == 71 and second == 69 and a[at + 2] == 84 and a[at + 3] == 32:
        return 0, 4
    if first == 80 and second == 79 and a[at + 2] == 83 and a[at + 3] == 84 and a[at + 4] == 32:
        return 1, 5
    if first == 72 and second == 69 and a[at + 2] == 65 and a[at + 3] == 68 and a[at + 4] == 32:
        return 2, 5
    if (
        first == 79 and second == 80 and a[at + 2] == 84 and a[at + 3] == 73 and a[at + 4] == 79
        and a[at + 5] == 78 and a[at + 6] == 83 and a[at + 7] == 32
    ):  # fmt: skip
        return 3, 8
    if first == 80 and second == 85 and a[at + 2] == 84 and a[at + 3] == 32:
        return 4, 4
    if (
        first == 68 and second == 69 and a[at + 2] == 76 and a[at + 3] == 69 and a[at + 4] == 84
        and a[at + 5] == 69 and a[at + 6] == 32
    ):  # fmt: skip
        return 5, 7
    return -1, 0


@numba.njit(cache=True)
def _pass(  # type: ignore[no-untyped-def]
    a, u, size, combined, common, seed, factor,
    t0, k0, t1, k1, t2, k2, t3, k3,
    minute_table, minutes, statuses, methods, told, fresh, others,
):  # fmt: skip
    """Goes on where a line begins, at `told[_AT]`. True at the end; False where the minute of that
    line is new: its request begins at `told[_REQUEST]`.
    """
    s = told[_AT]
    q = np.zeros(6, np.int64)
    while s < size:
        # To the end of the line, and where its quotes are.
        e, quotes, plain = s, 0, True
        while True:
            # Eight bytes at once, as long as none of them is an end, a quote or a backslash.
            ends, marks, slashes = u[e] ^ _ENDS, u[e] ^ _QUOTES, u[e] ^ _SLASHES
            if (
                ((ends - _ONES) & ~ends) | ((marks - _ONES) & ~marks)
                | ((slashes - _ONES) & ~slashes)
            ) & _HIGH == 0:  # fmt: skip
                e += 8
                continue
            c = a[e]
            if c == 10:
                break
            if c == 34:
                if quotes < 6:
                    q[quotes] = e
                quotes += 1
            elif c == 92:
                # An escape may stand in the texts behind the request alone.
                plain = plain and (quotes == 3 or quotes == 5)
                if a[e + 1] != 10:
                    e += 1
            e += 1
        after = e + 1
        if e > s and a[e - 1] == 13:
            e -= 1
        plain = plain and e - s < _LONGEST
        is_combined = quotes == 6
        plain = plain and ((is_combined and combined) or (quotes == 2 and common))
        tail = e
        if plain:
            q0, q1 = q[0], q[1]
            plain = q0 - s >= 35 and q1 - q0 >= 15
            if is_combined:
                q2 = q[2]
                plain = (
                    plain and q[4] == q[3] + 2 and a[q[3] + 1] == 32 and q[5] + 1 == e
                    and q2 - q1 >= 8 and a[q2 - 1] == 32
                )  # fmt: skip
                tail = q2 - 1
            else:
                plain = plain and e - q1 >= 7
        if plain:
            at = q0 - 34
            plain = (
                a[at] == 32 and a[at + 1] == 45 and a[at + 2] == 32 and a[at + 3] == 45
                and a[at + 4] == 32 and a[at + 5] == 91
                and a[q0 - 2] == 93 and a[q0 - 1] == 32 and a[q1 + 1] == 32 and a[q1 + 5] == 32
                and 48 <= a[q1 + 2] <= 57 and 48 <= a[q1 + 3] <= 57 and 48 <= a[q1 + 4] <= 57
                and 48 <= a[q0 - 10] <= 57 and 48 <= a[q0 - 9] <= 57
                and a[q1 - 9] == 32 and a[q1 - 8] == 72 and a[q1 - 7] == 84 and a[q1 - 6] == 84
                and a[q1 - 5] == 80 and a[q1 - 4] == 47 and a[q1 - 2] == 46
                and (
                    (a[q1 - 3] == 49 and (a[q1 - 1] == 48 or a[q1 - 1] == 49))
                    or (a[q1 - 3] == 50 and a[q1 - 1] == 48)
                )
            )  # fmt: skip
        if plain:
            second = (a[q0 - 10] - 48) * 10 + (a[q0 - 9] - 48)
            method, length = _method(a, q0 + 1)
            path = q0 + 1 + length
            end = q1 - 9
            plain = second <= 60 and method >= 0 and end > path and a[path] == 47
            digits = tail - (q1 + 6)
            plain = plain and 1 <= digits <= 12
        if plain:
            sent = np.int64(0)
            if not (digits == 1 and a[q1 + 6] == 45):
                for n in range(q1 + 6, tail):
                    plain = plain and 48 <= a[n] <= 57
                    sent = sent * 10 + (a[n] - 48)
            for n in range(s, q0 - 34):
                plain = plain and a[n] > 32
            mark = end
            for n in range(path, end):
                plain = plain and a[n] > 32
                if a[n] == 63 and mark == end:
                    mark = n
        if plain:
            # The minute: its text but for the seconds.
            h = (u[q0 - 28] ^ seed) * factor
            h = ((h ^ (h >> np.uint64(29))) ^ u[q0 - 20]) * factor
            h = ((h ^ (h >> np.uint64(29))) ^ (u[q0 - 12] & ~np.uint64(0xFFFF0000))) * factor
            h = ((h ^ (h >> np.uint64(29))) ^ (u[q0 - 9] & ~np.uint64(0xFF))) * factor
            h = h if h else np.uint64(1)
            mask = np.uint64(len(minute_table) - 1)
            place = h & mask
            while minute_table[place, 0] != 0 and minute_table[place, 0] != h:
                place = (place + np.uint64(1)) & mask
            if minute_table[place, 0] == 0:
                row = told[_MINUTES]
                minute_table[place, 0], minute_table[place, 1] = h, np.uint64(row)
                if row == len(minutes) or not _is_usual(a, q0 - 28):
                    told[_AT], told[_REQUEST] = s, q0
                    return False
                minutes[row, 0], minutes[row, 1], minutes[row, 2] = 0, 60, 0
                fresh[told[_FRESH]] = q0
                told[_FRESH] += 1
                told[_MINUTES] += 1
            row = np.int64(minute_table[place, 1])
            plain = minutes[row, 0] >= 0
        if not plain:
            others[told[_OTHERS], 0] = s
            others[told[_OTHERS], 1] = after - 1
            told[_OTHERS] += 1
            s = after
            continue
        minutes[row, 0] += 1
        minutes[row, 1] = min(minutes[row, 1], second)
        minutes[row, 2] = max(minutes[row, 2], second)
        told[_LINES] += 1
        told[_SIZE] += sent
        statuses[(a[q1 + 2] - 48) * 100 + (a[q1 + 3] - 48) * 10 + (a[q1 + 4] - 48)] += 1
        methods[method] += 1
        _count(a, u, s, q0 - 34, t0, k0, told, CLIENT, seed, factor)
        _count(a, u, path, mark, t1, k1, told, PATH, seed, factor)
        if is_combined:
            _count(a, u, q2 + 1, q[3], t2, k2, told, REFERRER, seed, factor)
            _count(a, u, q[4] + 1, q[5], t3, k3, told, AGENT, seed, factor)
        s = after
    told[_AT] = s
    return True


_go_on: Callable[..., bool] = _pass


class _Table:
    """What is known by hashes, in an open table that is never more than half full. In each row: the
    hash, 0 for none, and what belongs to it.
    """

    def __init__(self, columns: int) -> None:
        self.rows: Words2 = np.zeros((_SMALLEST, columns), np.uint64)

    def make_room(self, held: int) -> None:
        """For so many in all."""
        if 2 * held > len(self.rows):
            wider = np.zeros((1 << (2 * held).bit_length(), self.rows.shape[1]), np.uint64)
            _move(self.rows, wider)
            self.rows = wider


class Texts(_Table):
    """How often each text came: behind its hash how often, where it stands among the kept bytes,
    and its length. undo: takes its escapes back.
    """

    def __init__(self, undo: Callable[[bytes], bytes] = bytes) -> None:
        super().__init__(4)
        self.kept: npt.NDArray[np.uint8] = np.empty(1 << 20, np.uint8)
        self.held = self.bytes_kept = 0
        self._undo = undo

    def make_ready(self, lines: int, size: int) -> None:
        """For a block of so many lines and bytes."""
        self.make_room(self.held + lines)
        if self.bytes_kept + size > len(self.kept):
            more = np.empty(max(2 * len(self.kept), self.bytes_kept + size), np.uint8)
            more[: self.bytes_kept] = self.kept[: self.bytes_kept]
            self.kept = more

    def counts(self) -> Counter[bytes]:
        """By text."""
        rows = self.rows[self.rows[:, 0] != 0]
        counts, begins, ends = rows[:, 1], rows[:, 2], rows[:, 2] + rows[:, 3]
        kept = self.kept[: self.bytes_kept].tobytes()
        places = map(slice, begins.tolist(), ends.tolist())
        texts = zip(map(kept.__getitem__, places), counts.tolist(), strict=True)
        found: Counter[bytes] = Counter()
        if self._undo is bytes:
            # Each text once: there is nothing to add up.
            dict.update(found, texts)
            return found
        for text, count in texts:
            found[self._undo(text)] += count
        return found


class CompiledColumns:
    """Counts blocks of lines as `columns.LineColumns` does, and takes the same."""

    def __init__(self, names: frozenset[str], key: int, is_minute: Callable[[bytes], bool]) -> None:
        self._wanted = "combined" in names, "common" in names
        self._is_minute = is_minute
        self._seed = _U(key & 0xFFFFFFFFFFFFFFFF)
        self._factor = _U((key >> 64) & 0xFFFFFFFFFFFFFFFF | 1)
        self._minutes = _Table(2)
        # Lines, the first and the last second; -1 lines where it is no minute.
        self._counted: npt.NDArray[np.int64] = np.zeros((1024, 3), np.int64)
        self._minute_texts: list[bytes] = []
        self.statuses: Ints = np.zeros(1000, np.int64)
        self._methods: Ints = np.zeros(len(_METHODS), np.int64)
        self.clients, self.paths = Texts(), Texts()
        self.referrers, self.agents = Texts(unescaped), Texts(unescaped)

    def block(self, data: bytes) -> Plain:
        """Whole lines, each with its end."""
        tables = (self.clients, self.paths, self.referrers, self.agents)
        lines = data.count(b"\n")
        padded = data + b"\0" * _PAD
        a: Bytes = np.frombuffer(padded, np.uint8)
        u: Words = np.ndarray((len(padded) - 7,), "<u8", padded, strides=(1,))
        told: Ints = np.zeros(_TOLD, np.int64)
        for kind, table in enumerate(tables):
            table.make_ready(lines, len(data))
            told[_KEPT + kind] = table.bytes_kept
        held = [each for table in tables for each in (table.rows, table.kept)]
        fresh: Ints = np.empty(lines, np.int64)
        others: npt.NDArray[np.int64] = np.empty((lines, 2), np.int64)
        self._minutes.make_room(len(self._minute_texts) + lines)
        while True:
            told[_MINUTES], told[_FRESH] = len(self._minute_texts), 0
            ended = _go_on(
                a, u, len(data), *self._wanted, self._seed, self._factor, *held,
                self._minutes.rows, self._counted, self.statuses, self._methods,
                told, fresh, others,
            )  # fmt: skip
            self._minute_texts += [_minute(data, at) for at in fresh[: told[_FRESH]].tolist()]
            if ended:
                break
            self._add_minute(_minute(data, int(told[_REQUEST])))
        for kind, table in enumerate(tables):
            table.bytes_kept = int(told[_KEPT + kind])
            table.held += int(told[_HELD + kind])
        left = others[: int(told[_OTHERS])].tolist()
        return Plain(int(told[_LINES]), int(told[_SIZE]), [(begin, end) for begin, end in left])

    def _add_minute(self, text: bytes) -> None:
        """One of which it is not plain that it is any, or for which there is no room."""
        row = len(self._minute_texts)
        if row == len(self._counted):
            self._counted = np.concatenate((self._counted, np.zeros_like(self._counted)))
        self._counted[row] = 0 if self._is_minute(text) else -1, 60, 0
        self._minute_texts.append(text)

    @property
    def methods(self) -> Counter[bytes]:
        """How often each method was asked by."""
        counted = zip(_METHODS, self._methods.tolist(), strict=True)
        return Counter({name: count for name, count in counted if count})

    @property
    def minutes(self) -> list[Minute]:
        """Those in which lines were counted."""
        rows = self._counted[: len(self._minute_texts)].tolist()
        counted = zip(self._minute_texts, rows, strict=True)
        return [
            Minute(text, True, lines, first, last)
            for text, (lines, first, last) in counted
            if lines > 0
        ]


def _minute(data: bytes, at: int) -> bytes:
    """The minute of the line whose request begins there, with its seconds as 00."""
    return data[at - 28 : at - 10] + b"00" + data[at - 8 : at - 2]
