"""Reads what logs add up to: for a range of time, a site, and some of the answers.

Whole days of a range are read from the sums by the day, what is left of it from those by the hour.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from django.db import connection

from ecumen.logs.ledger import Dim
from ecumen.survey.archive import LAST_MOMENT
from ecumen_web.screens.countries import Country
from ecumen_web.store.models import LogSite, LogSource

HOUR, DAY = 3600, 86_400
MOST_LISTED = 12
MOST_LOOKED_UP = 50_000  # addresses whose country is asked for
NOT_LOOKED_UP = "of seldom visitors"
_MOST_BUCKETS = 400
_MOST_MONTHS = 240  # the last ones


@dataclass(frozen=True, slots=True)
class Selection:
    """What is looked at. begin, end: seconds since 1970, UTC, on whole hours; the end is not in it.

    site: its key, "" for the whole server. classes: hundreds of statuses, empty for all.
    who: everybody, people, or automatic.
    """

    host: str
    begin: int
    end: int
    site: str = ""
    classes: tuple[int, ...] = ()
    who: str = "everybody"


@dataclass(frozen=True, slots=True)
class Band:
    """One span of time. begin: seconds since 1970, UTC. classes: requests by the hundreds of their
    statuses, from 1xx to 5xx; those without a status stand first.
    """

    begin: int
    classes: list[int]


@dataclass(frozen=True, slots=True)
class Row:
    """One of a list: how often it was asked for. size: bytes. longest: milliseconds, None where no
    line says it.
    """

    text: str
    requests: int
    size: int = 0
    longest: int | None = None


@dataclass(frozen=True, slots=True)
class Totals:
    """clients: distinct addresses. pages: that were shown."""

    requests: int
    size: int
    failed: int
    pages: int
    visits: int
    clients: int
    automatic: int


@dataclass(frozen=True, slots=True)
class PageStep:
    """From one page to the next, within visits."""

    come: str
    go: str
    visits: int


@dataclass(frozen=True, slots=True)
class PageWays:
    """How visitors go: where they come from, on which page they enter, on to which, and out."""

    origins: list[Row]
    entries: list[Row]
    steps: list[PageStep]
    exits: list[Row]


@dataclass(frozen=True, slots=True)
class Figures:
    """Everything for one range, one site and one filter. width: of a band in seconds.

    by_hour: of the day, by_weekday: from Monday; both in the zone of the logs.
    """

    width: int
    zone: int
    bands: list[Band]
    totals: Totals
    by_hour: list[int]
    by_weekday: list[int]
    lists: dict[str, list[Row]]
    ways: PageWays


_NO_WAYS = PageWays([], [], [], [])
# What is listed, from which sums, and which part of their keys; for a single site alone, or not.
_LISTS = (
    ("pages", Dim.PAGE, 0, True), ("clients", Dim.CLIENT, 0, True), ("hosts", Dim.HOST, 0, True),
    ("origins", Dim.REFERRER, 0, False), ("referrers", Dim.REFERRER, 1, False),
    ("agents", Dim.AGENT, 0, False), ("systems", Dim.AGENT, 1, False),
    ("kinds", Dim.SHAPE, 0, False), ("methods", Dim.SHAPE, 1, False),
    ("protocols", Dim.SHAPE, 2, False),
)  # fmt: skip


def figures(asked: Selection, country: Country | None = None) -> Figures:
    """Raises nothing; what is not there is empty. country: that of an address, if that is told."""
    site = LogSite.objects.filter(host=asked.host, key=asked.site).first()
    zone = zone_of(asked.host)
    if site is None or asked.end <= asked.begin:
        return Figures(HOUR, zone, [], Totals(*[0] * 7), [0] * 24, [0] * 7, {}, _NO_WAYS)
    width = _width(asked.end - asked.begin)
    hours = _by_hour(asked, site.pk)
    of_day, of_week = [0] * 24, [0] * 7
    for at, _, count, _ in hours:
        local = _local(at, zone)
        of_day[local.hour] += count
        of_week[local.weekday()] += count
    lists = {} if asked.site else {"sites": _sites(asked)}
    for name, dim, part, of_a_site in _LISTS:
        if asked.site and dim in (Dim.PAGE, Dim.CLIENT, Dim.HOST):
            lists[name] = _listed(asked, site.pk, dim, name)
        elif not of_a_site:
            lists[name] = _parts(asked, site.pk, dim, part)
    if country is not None:
        lists["countries"] = _countries(asked, country)
    lists["statuses"] = _statuses(asked, site.pk)
    lists["months"] = _months(hours, zone)
    if asked.site:
        lists["astray"] = _astray(asked, site.pk)
        lists["missing"] = _listed(asked, site.pk, Dim.PAGE, "missing")
        lists["slow"] = _extreme(asked, site.pk, "longest")
        lists["large"] = _extreme(asked, site.pk, "largest")
    return Figures(
        width, zone, _bands(asked, hours, width), _totals(asked, site.pk, hours), of_day, of_week,
        lists, _ways(asked, site.pk) if asked.site else _NO_WAYS,
    )  # fmt: skip


def zone_of(host: str) -> int:
    """Seconds east of UTC in which the logs of a server are written."""
    rows = LogSource.objects.filter(host=host, last__isnull=False).order_by("-last")
    return rows.values_list("zone", flat=True).first() or 0


def _width(length: int) -> int:
    """Of bands, in seconds, so that there are not too many of them."""
    for width in (HOUR, 2 * HOUR, 6 * HOUR, DAY, 7 * DAY):
        if length / width <= _MOST_BUCKETS:
            return width
    return 28 * DAY * max(1, -(-length // (28 * DAY * _MOST_BUCKETS)))


# --- the questions ---


def _where(asked: Selection) -> tuple[str, list[int]]:
    clauses, values = "", []
    if asked.classes:
        clauses += f" AND status / 100 IN ({','.join(['%s'] * len(asked.classes))})"
        values += [each // 100 for each in asked.classes]
    if asked.who != "everybody":
        clauses += " AND automatic = %s"
        values.append(int(asked.who == "automatic"))
    return clauses, values


def _spans(asked: Selection) -> list[tuple[str, int, int]]:
    """The table, and the numbers of its rows, for each piece of the range."""
    first, last = asked.begin // HOUR, -(-asked.end // HOUR)
    # The first whole day that begins in the range, and the first that does not end in it.
    day, behind = -(-first // 24), last // 24
    if day >= behind:
        return [("hoursum", first, last)]
    found = [("daysum", day, behind)]
    if first < day * 24:
        found.append(("hoursum", first, day * 24))
    if behind * 24 < last:
        found.append(("hoursum", behind * 24, last))
    return found


def _union(
    asked: Selection, site: int, dim: Dim, columns: str, condition: str = ""
) -> tuple[str, list[int]]:
    """A question for all sums of one site and one dimension in the range, and its values."""
    clauses, given = _where(asked)
    parts: list[str] = []
    values: list[int] = []
    for table, low, high in _spans(asked):
        parts.append(
            f"SELECT {columns} FROM store_{table} WHERE site_id = %s AND dim = %s"
            f" AND at >= %s AND at < %s{clauses}{condition}"
        )
        values += [site, dim, low, high, *given]
    return " UNION ALL ".join(parts), values


def _rows(sql: str, values: Sequence[int | str]) -> list[tuple[Any, ...]]:
    with connection.cursor() as cursor:
        cursor.execute(sql, values)
        return list(cursor.fetchall())


def _by_hour(asked: Selection, site: int) -> list[tuple[int, ...]]:
    """(hour, hundreds of the status, requests, bytes)."""
    clauses, given = _where(asked)
    return _rows(
        "SELECT at, status / 100, sum(requests), sum(size) FROM store_hoursum"
        f" WHERE site_id = %s AND dim = %s AND at >= %s AND at < %s{clauses}"
        " GROUP BY at, status / 100",
        [site, Dim.ALL, asked.begin // HOUR, -(-asked.end // HOUR), *given],
    )


def _bands(asked: Selection, hours: Sequence[tuple[int, ...]], width: int) -> list[Band]:
    # Bands begin at multiples of their width, so that they stay where they are while the range
    # moves.
    begin = asked.begin - asked.begin % width
    found = [Band(at, [0] * 6) for at in range(begin, asked.end, width)]
    for at, status, count, _ in hours:
        number = (at * HOUR - begin) // width
        if 0 <= number < len(found):
            found[number].classes[status if 1 <= status <= 5 else 0] += count
    return found


def _totals(asked: Selection, site: int, hours: Sequence[tuple[int, ...]]) -> Totals:
    clients = _clients(asked)
    sql, values = _union(asked, site, Dim.REFERRER, "requests")
    ((pages,),) = _rows(f"SELECT coalesce(sum(requests), 0) FROM ({sql})", values)
    sql, values = _union(asked, site, Dim.ALL, "requests", " AND automatic")
    ((automatic,),) = _rows(f"SELECT coalesce(sum(requests), 0) FROM ({sql})", values)
    condition, given = _visits(asked)
    ((visits,),) = _rows(f"SELECT count(*) FROM store_visitrecord WHERE {condition}", given)
    return Totals(
        requests=sum(count for _, _, count, _ in hours),
        size=sum(size for *_, size in hours),
        failed=sum(count for _, status, count, _ in hours if status >= 4),
        pages=pages,
        visits=visits,
        clients=clients,
        automatic=automatic,
    )


def _clients(asked: Selection) -> int:
    """Distinct ones; they are kept for each site by itself."""
    parts, values = _everywhere(asked, Dim.CLIENT, "key_id")
    return int(_rows(f"SELECT count(DISTINCT key_id) FROM ({parts})", values)[0][0])


def _everywhere(asked: Selection, dim: Dim, columns: str) -> tuple[str, list[int | str]]:
    """A question for the sums of one dimension of each site, or of the one that is asked for."""
    clauses, given = _where(asked)
    which, names = ("key = %s", [asked.site]) if asked.site else ("key != ''", [])
    parts: list[str] = []
    values: list[int | str] = []
    for table, low, high in _spans(asked):
        parts.append(
            f"SELECT {columns} FROM store_{table} WHERE dim = %s"
            f" AND site_id IN (SELECT id FROM store_logsite WHERE host = %s AND {which})"
            f" AND at >= %s AND at < %s{clauses}"
        )
        values += [int(dim), asked.host, *names, low, high, *given]
    return " UNION ALL ".join(parts), values


def _visits(asked: Selection) -> tuple[str, list[int | str]]:
    """Visits that begin in the range, and in which a page was seen or something asked for."""
    condition = "begin >= %s AND begin < %s"
    values: list[int | str] = [asked.begin, asked.end]
    if asked.site:
        sites = "SELECT id FROM store_logsite WHERE host = %s AND key = %s"
        values = [asked.host, asked.site, *values]
    else:
        sites = "SELECT id FROM store_logsite WHERE host = %s"
        values = [asked.host, *values]
    if asked.who != "everybody":
        condition += " AND automatic = %s"
        values.append(int(asked.who == "automatic"))
    return f"site_id IN ({sites}) AND {condition}", values


def _listed(asked: Selection, site: int, dim: Dim, name: str) -> list[Row]:
    condition = ""
    if name == "pages":
        condition = " AND status < 400"
    elif name == "missing":
        condition = " AND status IN (404, 410)"
    sql, values = _union(asked, site, dim, "key_id, requests, size", condition)
    rows = _rows(
        "SELECT text, n, bytes FROM (SELECT key_id, sum(requests) AS n, sum(size) AS bytes"
        f" FROM ({sql}) GROUP BY key_id ORDER BY n DESC, key_id LIMIT {MOST_LISTED})"
        " JOIN store_logtext ON store_logtext.id = key_id ORDER BY n DESC, text",
        values,
    )
    return [Row(shown(text), count, size) for text, count, size in rows]


def _parts(asked: Selection, site: int, dim: Dim, part: int) -> list[Row]:
    """By one part of keys that have several; there are few of those."""
    sql, values = _union(asked, site, dim, "key_id, requests, size")
    rows = _rows(
        f"SELECT text, n, bytes FROM (SELECT key_id, sum(requests) AS n, sum(size) AS bytes"
        f" FROM ({sql}) GROUP BY key_id) JOIN store_logtext ON store_logtext.id = key_id",
        values,
    )
    parted = ((shown(bytes(text).split(b"\0")[part]), n, size) for text, n, size in rows)
    return _added(row for row in parted if row[0])


def _added(rows: Iterable[tuple[str, int, int]]) -> list[Row]:
    """Rows of one text are one; the most asked for first."""
    counts: dict[str, tuple[int, int]] = {}
    for text, count, size in rows:
        had = counts.get(text, (0, 0))
        counts[text] = (had[0] + count, had[1] + size)
    found = sorted(counts.items(), key=lambda item: (-item[1][0], item[0]))
    return [Row(text, *both) for text, both in found[:MOST_LISTED]]


def _statuses(asked: Selection, site: int) -> list[Row]:
    sql, values = _union(asked, site, Dim.ALL, "status, requests, size")
    rows = _rows(
        f"SELECT status, sum(requests) AS n, sum(size) FROM ({sql}) GROUP BY status"
        " ORDER BY n DESC, status",
        values,
    )
    return [Row(str(status or "-"), count, size) for status, count, size in rows]


def _months(hours: Sequence[tuple[int, ...]], zone: int) -> list[Row]:
    """In their order; none where there is but one."""
    found: dict[str, tuple[int, int]] = {}
    for at, _, count, size in sorted(hours):
        local = _local(at, zone)
        had = found.get(f"{local:%Y-%m}", (0, 0))
        found[f"{local:%Y-%m}"] = (had[0] + count, had[1] + size)
    rows = [Row(month, *both) for month, both in found.items()]
    return rows[-_MOST_MONTHS:] if len(rows) > 1 else []


def _local(hour: int, zone: int) -> datetime:
    """In the zone of the logs; what no calendar holds counts as its end."""
    # A log can hold any year; a calendar cannot.
    at = min(max(hour * HOUR + zone, 0), LAST_MOMENT)
    return datetime.fromtimestamp(at, UTC)


def _astray(asked: Selection, site: int) -> list[Row]:
    """What is not there, with the page that led to it."""
    return [
        Row(" from ".join(row.text.split("\0")), row.requests, row.size)
        for row in _listed(asked, site, Dim.ASTRAY, "astray")
    ]


def _extreme(asked: Selection, site: int, column: str) -> list[Row]:
    """The slowest or the largest answers."""
    sql, values = _union(asked, site, Dim.PAGE, f"key_id, requests, {column}", f" AND {column} > 0")
    rows = _rows(
        "SELECT text, n, most FROM (SELECT key_id, sum(requests) AS n,"
        f" max({column}) AS most FROM ({sql})"
        f" GROUP BY key_id ORDER BY most DESC LIMIT {MOST_LISTED})"
        " JOIN store_logtext ON store_logtext.id = key_id ORDER BY most DESC, text",
        values,
    )
    slow = column == "longest"
    return [
        Row(shown(text), n, 0 if slow else most, most if slow else None) for text, n, most in rows
    ]


def _countries(asked: Selection, country: Country) -> list[Row]:
    """By the countries of the visitors who asked most; the others are one row."""
    parts, values = _everywhere(asked, Dim.CLIENT, "key_id, requests, size")
    rows = _rows(
        "SELECT text, n, bytes FROM (SELECT key_id, sum(requests) AS n, sum(size) AS bytes"
        f" FROM ({parts}) GROUP BY key_id) JOIN store_logtext ON store_logtext.id = key_id"
        " ORDER BY n DESC, text",
        values,
    )
    return _added(
        (country(shown(text)) if number < MOST_LOOKED_UP else NOT_LOOKED_UP, count, size)
        for number, (text, count, size) in enumerate(rows)
    )


def _sites(asked: Selection) -> list[Row]:
    """Every site's requests in the range, the most asked for first."""
    parts, values = _everywhere(asked, Dim.ALL, "site_id, requests, size")
    rows = _rows(
        "SELECT key, n, bytes FROM (SELECT site_id, sum(requests) AS n, sum(size) AS bytes"
        f" FROM ({parts}) GROUP BY site_id ORDER BY n DESC)"
        " JOIN store_logsite ON store_logsite.id = site_id ORDER BY n DESC, key",
        values,
    )
    return [Row(str(key), count, size) for key, count, size in rows]


def _ways(asked: Selection, site: int) -> PageWays:
    condition, given = _visits(asked)

    def ends(column: str) -> list[Row]:
        rows = _rows(
            f"SELECT text, n FROM (SELECT {column}_id AS t, count(*) AS n FROM store_visitrecord"
            f" WHERE {condition} AND pages > 0 GROUP BY {column}_id ORDER BY n DESC, t"
            f" LIMIT {MOST_LISTED}) JOIN store_logtext ON store_logtext.id = t"
            " ORDER BY n DESC, text",
            given,
        )
        return [Row(shown(text), count) for text, count in rows]

    origins = _rows(
        f"SELECT origin_kind, count(*) FROM store_visitrecord WHERE {condition} AND pages > 0"
        " GROUP BY origin_kind ORDER BY 2 DESC",
        given,
    )
    sql, values = _union(asked, site, Dim.STEP, "key_id, requests")
    steps = _rows(
        "SELECT text, n FROM (SELECT key_id, sum(requests) AS n FROM"
        f" ({sql}) GROUP BY key_id ORDER BY n DESC, key_id LIMIT 40)"
        " JOIN store_logtext ON store_logtext.id = key_id ORDER BY n DESC, text",
        values,
    )
    return PageWays(
        [Row(str(kind), count) for kind, count in origins],
        ends("entry"),
        [_step(text, count) for text, count in steps],
        ends("exit"),
    )


def _step(text: bytes, count: int) -> PageStep:
    come, _, go = bytes(text).partition(b"\0")
    return PageStep(shown(come), shown(go), count)


def shown(text: bytes) -> str:
    """A text of the logs as it can be sent: bytes that are no UTF-8 are written out."""
    return bytes(text).decode("utf-8", "backslashreplace")
