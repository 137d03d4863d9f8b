"""Counts access lines: exactly, in one pass, whatever stands in them.

Every line is counted: it is parsed, or rejected. Texts are counted as the bytes they were.
"""

from __future__ import annotations

import re
import secrets
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Protocol

import numpy as np
import numpy.typing as npt

from ecumen.logs.columns import LineColumns, Minute, Plain
from ecumen.logs.entry import LONGEST_LINE, NOTHING, Requests, asked_for
from ecumen.logs.forms import DirectiveError
from ecumen.logs.moments import Moments, has_moment
from ecumen.logs.template import DATE, USUAL, Form

_MINUTE = re.compile(DATE + rb"\Z")
_MINUTE_LONG = timedelta(minutes=1)
# The last moment behind which there certainly is another minute.
_LATEST = datetime(9999, 12, 31, tzinfo=UTC)
MOST_DIGITS = 18  # of a size


@dataclass(slots=True)
class Tally:
    """What was counted. first, last: moments with the zone in which they were logged."""

    lines: int = 0
    parsed: int = 0
    rejected: int = 0
    size: int = 0
    first: tuple[datetime, str] | None = None
    last: tuple[datetime, str] | None = None
    statuses: Counter[bytes] = field(default_factory=Counter)
    hours: Counter[str] = field(default_factory=Counter)
    methods: Counter[bytes] = field(default_factory=Counter)
    clients: Counter[bytes] = field(default_factory=Counter)
    paths: Counter[bytes] = field(default_factory=Counter)
    referrers: Counter[bytes] = field(default_factory=Counter)
    agents: Counter[bytes] = field(default_factory=Counter)

    def add(self, other: Tally) -> None:
        """Adds what another counted."""
        self.lines += other.lines
        self.parsed += other.parsed
        self.rejected += other.rejected
        self.size += other.size
        for name in ("statuses", "hours", "methods", "clients", "paths", "referrers", "agents"):
            getattr(self, name).update(getattr(other, name))
        for moment in (other.first, other.last):
            if moment is not None:
                self._seen(moment)

    def _seen(self, moment: tuple[datetime, str]) -> None:
        if self.first is None or moment[0] < self.first[0]:
            self.first = moment
        if self.last is None or moment[0] > self.last[0]:
            self.last = moment

    def as_dict(self, top: int = 10) -> dict[str, object]:
        """The form of the contract."""
        return {
            "lines": self.lines,
            "parsed": self.parsed,
            "rejected": self.rejected,
            "bytes": self.size,
            "first": self.first[1] if self.first else None,
            "last": self.last[1] if self.last else None,
            "by_status": {_text(k): n for k, n in sorted(self.statuses.items())},
            "by_hour": dict(sorted(self.hours.items())),
            "by_method": {_text(k): n for k, n in sorted(self.methods.items())},
            "hosts": len(self.clients),
            "top_paths": _top(self.paths, top),
            "top_referrers": _top(self.referrers, top),
            "top_agents": _top(self.agents, top),
        }


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def _top(counter: Counter[bytes], count: int) -> list[list[object]]:
    """The most frequent texts; ties in the order of the texts."""
    shown = sorted(counter.items(), key=lambda item: (-item[1], _text(item[0])))
    return [[_text(text), number] for text, number in shown[:count]]


class _Texts(Protocol):
    def counts(self) -> Counter[bytes]: ...


class _Columns(Protocol):
    """What counts plain lines together: `columns.LineColumns`, or its like."""

    statuses: npt.NDArray[np.int64]

    @property
    def methods(self) -> Counter[bytes]: ...
    @property
    def minutes(self) -> Sequence[Minute]: ...
    @property
    def clients(self) -> _Texts: ...
    @property
    def paths(self) -> _Texts: ...
    @property
    def referrers(self) -> _Texts: ...
    @property
    def agents(self) -> _Texts: ...
    def block(self, data: bytes) -> Plain: ...


class Counting:
    """Counts lines of one format, or of the first of several that fits. compiled: whether it is
    worth a second to begin, as it then takes a third of the time; where numba is installed.
    """

    def __init__(self, formats: Sequence[Form], *, compiled: bool = False) -> None:
        self.formats = formats
        self._tally = Tally()
        self._moments = Moments()
        self._requests = Requests()
        names = frozenset(form.name for form in formats)
        self._columns: _Columns | None = None
        if names <= set(USUAL):
            columns = (_compiled() if compiled else None) or LineColumns
            self._columns = columns(names, secrets.randbits(128), self._is_minute)

    @property
    def tally(self) -> Tally:
        """What was counted so far."""
        whole = Tally()
        whole.add(self._tally)
        if self._columns is not None:
            _add_columns(whole, self._columns, self._moments)
        return whole

    def take(self, lines: Iterable[bytes]) -> None:
        """Lines without what ends them."""
        for line in lines:
            self.line(line)

    def line(self, line: bytes) -> None:
        tally = self._tally
        tally.lines += 1
        if line.endswith(b"\r"):
            line = line[:-1]
        if line and len(line) <= LONGEST_LINE:
            for form in self.formats:
                try:
                    fields = form.fields(line)
                except DirectiveError:
                    # No entry, and not meant to be one.
                    tally.lines -= 1
                    return
                if fields is not None and self._count(fields):
                    tally.parsed += 1
                    return
        tally.rejected += 1

    def block(self, data: bytes) -> None:
        """Whole lines, each with its end. Those that are plain are counted together."""
        # A line that may be too long is looked at on its own.
        if self._columns is None or not data or len(data) > LONGEST_LINE:
            self.take(data.split(b"\n")[:-1])
            return
        plain = self._columns.block(data)
        tally = self._tally
        tally.lines += plain.lines
        tally.parsed += plain.lines
        tally.size += plain.size
        self.take(data[begin:end] for begin, end in plain.others)

    def warm(self) -> None:
        """Has what is compiled read, or made, before there are processes that share it."""
        if self._columns is not None:
            self._columns.block(b"x\n")

    def _is_minute(self, text: bytes) -> bool:
        if _MINUTE.match(text) is None:
            return False
        known = self._moments.minute(text)
        return known is not None and known[0] < _LATEST

    def unended(self, line: bytes, before: bytes) -> None:
        """A last line without its end: it counts where it is whole by the form of the one before,
        as what was cut may well be of a shorter form.
        """
        forms = self.formats
        self.formats = [form for form in forms if _fits(form, before)][:1] or forms
        self.line(line)
        self.formats = forms

    def _count(self, fields: Mapping[str, bytes]) -> bool:
        """False where the moment or the size is none: nothing is counted then."""
        tally = self._tally
        moment = self._moments.of(fields)
        size = fields.get("bytes", fields.get("sent", NOTHING))
        if moment is None and has_moment(fields):
            return False
        if not (size.isdigit() or size in (NOTHING, b"")) or len(size) > MOST_DIGITS:
            return False
        if moment is not None:
            tally.hours[moment.hour] += 1
            tally._seen((moment.at, moment.told))
        tally.size += int(size) if size.isdigit() else 0
        for name, counter in (
            ("status", tally.statuses), ("client", tally.clients),
            ("referrer", tally.referrers), ("agent", tally.agents),
        ):  # fmt: skip
            if name in fields:
                counter[fields[name]] += 1
        asked = asked_for(fields, self._requests)
        if asked is not None:
            if asked[0]:
                tally.methods[asked[0]] += 1
            if asked[1]:
                tally.paths[asked[1]] += 1
        return True


def _fits(form: Form, line: bytes) -> bool:
    try:
        return form.fields(line.removesuffix(b"\r")) is not None
    except DirectiveError:
        return False


def _compiled() -> Callable[[frozenset[str], int, Callable[[bytes], bool]], _Columns] | None:
    """What counts by compiled code; None without a compiler, or a place for what it makes."""
    try:
        from ecumen.logs.compiled import CompiledColumns
    except (ImportError, RuntimeError):
        return None
    return CompiledColumns


def _add_columns(whole: Tally, columns: _Columns, moments: Moments) -> None:
    begun: list[tuple[datetime, Minute]] = []
    for minute in columns.minutes:
        known = moments.minute(minute.text)
        assert known is not None
        begun.append((known[0], minute))
        whole.hours[known[2]] += minute.lines
    # A leap second lies within the minute behind its own.
    first = min((at for at, _ in begun), default=_LATEST) + _MINUTE_LONG
    last = max((at for at, _ in begun), default=_LATEST) - _MINUTE_LONG
    for at, minute in begun:
        if first < at < last:
            continue
        for second in (minute.first, minute.last):
            moment = moments.clf(b"%s%02d%s" % (minute.text[:18], second, minute.text[20:]))
            assert moment is not None
            whole._seen((moment.at, moment.told))
    for status, count in enumerate(columns.statuses.tolist()):
        if count:
            whole.statuses[b"%03d" % status] += count
    whole.methods.update(columns.methods)
    whole.clients.update(columns.clients.counts())
    whole.paths.update(columns.paths.counts())
    whole.referrers.update(columns.referrers.counts())
    whole.agents.update(columns.agents.counts())
