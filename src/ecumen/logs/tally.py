"""Counts access lines: exactly, in one pass, whatever stands in them.

Every line is counted: it is parsed, or rejected. Texts are counted as the bytes they were.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta, timezone

from ecumen.logs.template import USUAL, LineFormat, unescaped

_MONTHS = {
    name: number
    for number, name in enumerate(
        b"Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(), start=1
    )
}
# RFC 9112, section 3: a request line. One without a protocol is of HTTP/0.9, or was cut.
_REQUEST = re.compile(
    rb"([!#$%&'*+.^_`|~0-9A-Za-z-]+) (/\S*|\*|[A-Za-z][A-Za-z0-9+.-]*://\S*|[^\s/]+:\d+)"
    rb"(?: HTTP/\d(?:\.\d)?)?\Z"
)
LONGEST_LINE = 1 << 20  # bytes; a longer one is rejected
# A line of one of the usual formats without any escape or oddity; whatever else stands in a line
# comes as a whole in the last group. So each match is one line.
_PLAIN = re.compile(
    rb"([^\s\"\\]+) [^\s\"\\]+ [^\s\"\[\\]+ "
    rb"\[(\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4})\] "
    rb"\"([A-Z]+) (/[^\s\"\\?]*)(?:\?[^\s\"\\]*)? HTTP/1\.[01]\" (\d{3}) (\d{1,18}|-)"
    rb"(?: \"([^\"\\\n]+)\" \"([^\"\\\n]+)\")?\n|([^\n]*)\n"
)


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


class Counting:
    """Counts lines of one format, or of the first of several that fits."""

    def __init__(self, formats: Sequence[LineFormat]) -> None:
        self.formats = formats
        self.tally = Tally()
        # The moments of one minute have all but their seconds in common.
        self._minutes: dict[bytes, tuple[datetime, str, str] | None] = {}
        self._targets: dict[bytes, tuple[bytes, bytes] | None] = {}

    def take(self, lines: Iterable[bytes]) -> None:
        """Lines without what ends them."""
        for line in lines:
            self.line(line)

    def line(self, line: bytes) -> None:
        tally = self.tally
        tally.lines += 1
        if line.endswith(b"\r"):
            line = line[:-1]
        if line and len(line) <= LONGEST_LINE:
            for form in self.formats:
                match = form.code.match(line)
                if match is not None and self._count(form, match):
                    tally.parsed += 1
                    return
        tally.rejected += 1

    def block(self, data: bytes) -> None:
        """Whole lines, each with its end. Those that are plain are counted together."""
        names = {form.name for form in self.formats}
        # A line that may be too long is looked at on its own.
        if names <= set(USUAL) and len(data) <= LONGEST_LINE and self._plain(data, names):
            return
        self.take(data.split(b"\n")[:-1])

    def _plain(self, data: bytes, names: set[str]) -> bool:
        """Counts a block at once; False, and nothing counted, where a moment in it is none."""
        rows = _PLAIN.findall(data)
        plain = [row for row in rows if row[0]]
        others = [row[8] for row in rows if not row[0]]
        misfits = 0
        if len(names) == 1:
            # What is plain, but in the other of the usual formats.
            whole = "combined" in names
            fitting = [row for row in plain if bool(row[6]) == whole]
            misfits, plain = len(plain) - len(fitting), fitting
        if plain:
            clients, stamps, methods, paths, statuses, sizes, referrers, agents, _ = zip(
                *plain, strict=True
            )
            moments = Counter(stamps)
            known = {stamp: self._moment(stamp) for stamp in moments}
            if None in known.values():
                return False
            tally = self.tally
            for stamp, count in moments.items():
                moment = known[stamp]
                assert moment is not None
                tally.hours[moment[2]] += count
                tally._seen((moment[0], moment[1]))
            tally.lines += len(plain)
            tally.parsed += len(plain)
            tally.size += sum(int(size) for size in sizes if size != b"-")
            tally.clients.update(clients)
            tally.methods.update(methods)
            tally.paths.update(paths)
            tally.statuses.update(statuses)
            # Of the two formats one has neither: an empty text cannot come from the other, in
            # which it is written as two quotes, and looked at on its own.
            self._texts(tally.referrers, referrers)
            self._texts(tally.agents, agents)
        self.tally.lines += misfits
        self.tally.rejected += misfits
        self.take(others)
        return True

    def _texts(self, counter: Counter[bytes], texts: Sequence[bytes]) -> None:
        counter.update(texts)
        counter.pop(b"", None)

    def reject(self) -> None:
        """A line that was cut."""
        self.tally.lines += 1
        self.tally.rejected += 1

    def _count(self, form: LineFormat, match: re.Match[bytes]) -> bool:
        """False where the moment is none: nothing is counted then."""
        at, tally = form.at, self.tally
        moment = None
        if "time" in at:
            moment = self._moment(match[at["time"]].strip(b"[]"))
        elif "iso" in at:
            moment = self._iso(match[at["iso"]])
        if moment is None and ("time" in at or "iso" in at):
            return False
        if moment is not None:
            tally.hours[moment[2]] += 1
            tally._seen((moment[0], moment[1]))
        if "status" in at:
            tally.statuses[match[at["status"]]] += 1
        size = at.get("bytes") or at.get("sent")
        if size is not None:
            text = match[size]
            tally.size += 0 if text == b"-" else int(text)
        if "client" in at:
            tally.clients[unescaped(match[at["client"]])] += 1
        if "referrer" in at:
            tally.referrers[unescaped(match[at["referrer"]])] += 1
        if "agent" in at:
            tally.agents[unescaped(match[at["agent"]])] += 1
        self._asked(form, match)
        return True

    def _asked(self, form: LineFormat, match: re.Match[bytes]) -> None:
        at, tally = form.at, self.tally
        if "request" in at:
            asked = self._request(match[at["request"]])
            if asked is not None:
                tally.methods[asked[0]] += 1
                tally.paths[asked[1]] += 1
            return
        if "method" in at and match[at["method"]] not in (b"-", b""):
            tally.methods[unescaped(match[at["method"]])] += 1
        where = at.get("target") or at.get("path")
        if where is not None and match[where] not in (b"-", b""):
            tally.paths[unescaped(match[where]).partition(b"?")[0]] += 1

    def _request(self, text: bytes) -> tuple[bytes, bytes] | None:
        """Method and path, without the query; None for what is no request."""
        known = self._targets.get(text, False)
        if known is not False:
            return known  # type: ignore[return-value]
        match = _REQUEST.match(unescaped(text))
        found = None if match is None else (match[1], match[2].partition(b"?")[0])
        if len(self._targets) > 100_000:
            self._targets.clear()
        self._targets[text] = found
        return found

    def _moment(self, text: bytes) -> tuple[datetime, str, str] | None:
        """`02/Apr/2031:15:04:05 +0200`: the moment, as ISO 8601, and its hour as logged."""
        minute = text[:17] + text[20:]
        if minute in self._minutes:
            known = self._minutes[minute]
        else:
            known = self._minutes[minute] = _minute(text)
            if len(self._minutes) > 100_000:
                self._minutes.clear()
        second = int(text[18:20])
        if known is None or second > 60:
            return None
        at, shape, hour = known
        try:
            return at + timedelta(seconds=second), shape.replace("SS", f"{second:02d}"), hour
        except OverflowError:
            return None

    def _iso(self, text: bytes) -> tuple[datetime, str, str] | None:
        try:
            at = datetime.fromisoformat(text.decode("ascii"))
            return at.astimezone(UTC), at.isoformat(), at.isoformat()[:13]
        except (ValueError, OverflowError):
            return None


def _minute(text: bytes) -> tuple[datetime, str, str] | None:
    month = _MONTHS.get(text[3:6])
    if month is None:
        return None
    day, year, hour, minute = (int(text[a:b]) for a, b in ((0, 2), (7, 11), (12, 14), (15, 17)))
    zone = (int(text[22:24]) * 60 + int(text[24:26])) * (-1 if text[21:22] == b"-" else 1)
    try:
        offset = timezone(timedelta(minutes=zone))
        at = datetime(year, month, day, hour, minute, tzinfo=offset)
    except (ValueError, OverflowError):
        return None
    told = at.isoformat()
    shape = f"{told[:17]}SS{told[19:]}"
    try:
        return at.astimezone(UTC), shape, told[:13]
    except OverflowError:
        return None
