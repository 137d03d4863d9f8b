"""Moments as logs write them, in the zone in which they were written."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta, timezone
from functools import lru_cache

from ecumen.caches import Bounded

_MONTHS = {
    name: number
    for number, name in enumerate(
        b"Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(), start=1
    )
}
_KEPT = 100_000
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Moment:
    """at: in UTC. told: ISO 8601 in the zone of the log; hour: the first part of it. zone: seconds
    east of UTC.
    """

    at: datetime
    told: str
    hour: str
    zone: int


class Moments:
    """Reads moments. Those of one minute have all but their seconds in common."""

    def __init__(self) -> None:
        self._stamps: Bounded[bytes, tuple[int, int] | None] = Bounded(_KEPT)
        self._minutes: Bounded[bytes, tuple[datetime, str, str, int] | None] = Bounded(_KEPT)

    def of(self, fields: Mapping[str, bytes]) -> Moment | None:
        """That of a line; None where it has none, or one that cannot be."""
        if "time" in fields:
            return self.clf(fields["time"].strip(b"[]"))
        if "iso" in fields:
            return self.iso(fields["iso"])
        return self.parted(fields)

    def stamp(self, fields: Mapping[str, bytes]) -> tuple[int, int] | None:
        """That of a line as seconds since 1970, UTC, and its zone; None as in `of`."""
        text = fields.get("time")
        if text is None:
            moment = self.of(fields)
            return None if moment is None else (_since(moment.at), moment.zone)
        text = text.strip(b"[]")
        minute = text[:17] + text[20:]
        if minute in self._stamps:
            known = self._stamps[minute]
        else:
            found = _minute(text)
            known = None if found is None else (_since(found[0]), found[3])
            self._stamps[minute] = known
        second = int(text[18:20])
        if known is None or second > 60:
            return None
        return known[0] + second, known[1]

    def clf(self, text: bytes) -> Moment | None:
        """`02/Apr/2031:15:04:05 +0200`."""
        known = self.minute(text)
        if known is None:
            return None
        second = int(text[18:20])
        if second > 60:
            return None
        at, shape, hour, zone = known
        try:
            told = shape.replace("SS", f"{second:02d}")
            return Moment(at + timedelta(seconds=second), told, hour, zone)
        except OverflowError:
            return None

    def minute(self, text: bytes) -> tuple[datetime, str, str, int] | None:
        """Of such a text: where its minute begins, its shape with SS for the seconds, its hour and
        its zone.
        """
        minute = text[:17] + text[20:]
        if minute in self._minutes:
            return self._minutes[minute]
        found = self._minutes[minute] = _minute(text)
        return found

    def parted(self, fields: Mapping[str, bytes]) -> Moment | None:
        """Of the parts that strftime(3) writes, by their letters behind `t.`; without a zone it is
        in UTC. None where the day or the hour is missing.
        """
        for name, digits in _PARTS_OF_A_SECOND:
            if name in fields:
                return self.iso(fields[name][:-digits])
        day = _day(fields)
        hour = _hour_of(fields)
        if day is None or hour is None:
            return None
        minute, second = (fields.get(name, b"00").decode("ascii") for name in ("t.M", "t.S"))
        zone = fields.get("t.z", b"+0000").decode("ascii")
        # A leap second is told as the one before it, which a calendar knows.
        second = "59" if second == "60" else second
        text = f"{day}T{hour:02d}:{minute}:{second}{zone[:3]}:{zone[3:]}"
        return self.iso(text.encode("ascii"))

    def iso(self, text: bytes) -> Moment | None:
        """ISO 8601; without a zone it is in UTC. A bare number is seconds since 1970."""
        try:
            told = text.decode("ascii")
            number = told.replace(".", "", 1)
            if number.isdecimal() and len(told.partition(".")[0]) in (9, 10):
                at = datetime.fromtimestamp(int(told.partition(".")[0]), UTC)
            else:
                at = datetime.fromisoformat(told)
            at = at.replace(tzinfo=at.tzinfo or UTC, microsecond=0)
            shown = at.isoformat()
            zone = at.utcoffset() or timedelta()
            return Moment(at.astimezone(UTC), shown, shown[:13], int(zone.total_seconds()))
        except (ValueError, OverflowError):
            return None


_PARTS_OF_A_SECOND = (("t.msec", 3), ("t.usec", 6))
_FULL_MONTHS = (
    b"January February March April May June July August September October November December"
).split()


def has_moment(fields: Mapping[str, bytes]) -> bool:
    """Whether a line of this form says when it was."""
    return any(name in ("time", "iso") or name.startswith("t.") for name in fields)


def _day(fields: Mapping[str, bytes]) -> str | None:
    """As `2031-04-02`."""
    get = fields.get
    short = get("t.y")
    # The century as POSIX has it for two digits.
    year = get("t.Y") or (short and (b"19" if short >= b"69" else b"20") + short)
    if not year:
        return None
    if (of_year := get("t.j")) is not None:
        try:
            return (date(int(year), 1, 1) + timedelta(int(of_year) - 1)).isoformat()
        except (ValueError, OverflowError):
            return None
    named = _MONTHS.get(get("t.b", b"")) or _month_in_full(get("t.B", b""))
    month, day = get("t.m") or (b"%02d" % named if named else None), get("t.d")
    if month is None or day is None:
        return None
    return f"{year.decode()}-{month.decode()}-{day.replace(b' ', b'0').decode()}"


def _month_in_full(name: bytes) -> int | None:
    return _FULL_MONTHS.index(name) + 1 if name in _FULL_MONTHS else None


def _hour_of(fields: Mapping[str, bytes]) -> int | None:
    if "t.H" in fields:
        return int(fields["t.H"])
    if "t.I" not in fields or "t.p" not in fields:
        return None
    return int(fields["t.I"]) % 12 + (12 if fields["t.p"].lower() == b"pm" else 0)


def _minute(text: bytes) -> tuple[datetime, str, str, int] | None:
    """A minute: where it begins, its shape with SS for the seconds, its hour, its zone."""
    minute = text[15:17]
    if not minute.isdigit() or int(minute) > 59:
        return None
    known = _hour(text[:14] + text[20:])
    if known is None:
        return None
    at, told, zone = known
    try:
        begin = at + timedelta(minutes=int(minute))
    except OverflowError:
        return None
    return begin, f"{told[:14]}{minute.decode()}:SS{told[19:]}", told[:13], zone


@lru_cache(maxsize=4096)
def _hour(text: bytes) -> tuple[datetime, str, int] | None:
    """`02/Apr/2031:15 +0200`: where the hour begins, as ISO 8601, its zone."""
    month = _MONTHS.get(text[3:6])
    if month is None:
        return None
    try:
        day, year, hour = (int(text[a:b]) for a, b in ((0, 2), (7, 11), (12, 14)))
        zone = (int(text[16:18]) * 60 + int(text[18:20])) * (-1 if text[15:16] == b"-" else 1)
        at = datetime(year, month, day, hour, tzinfo=timezone(timedelta(minutes=zone)))
        return at.astimezone(UTC), at.isoformat(), zone * 60
    except (ValueError, OverflowError):
        return None


def _since(at: datetime) -> int:
    return (at - _EPOCH) // timedelta(seconds=1)
