"""Writes down what logs add up to: sums are added to those that are there, visits go on.

Rows are written by the thousand through the connection itself, which is several times faster than
through objects (docs/decisions/0009-logs-as-sums.md).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from django.db import connection

from ecumen.logs.ledger import GAP, Dim, Failure, Ledger, Sum, Visit
from ecumen_web.store.bulk import put_back
from ecumen_web.store.models import LogSite, LogSource, LogText, VisitRecord
from ecumen_web.store.translate import clean

DAY = 24  # hours
_MOST_ASKED = 5_000  # texts in one question
Row = tuple[int | str | bool, ...]

_FRESH = """
CREATE TEMP TABLE IF NOT EXISTS fresh_sum (
  site_id, dim, at, key_id, status, automatic, requests, size, first, last, longest, largest)
"""
_PUT = f"INSERT INTO fresh_sum VALUES ({', '.join(['%s'] * 12)})"
_SUM = """
INSERT INTO store_{table}
  (site_id, dim, at, key_id, status, automatic, requests, size, first, last, longest, largest)
SELECT site_id, dim, {at} AS span, key_id, status, automatic, sum(requests), sum(size), min(first),
  max(last), max(longest), max(largest)
FROM fresh_sum WHERE true GROUP BY site_id, dim, span, key_id, status, automatic
ON CONFLICT (site_id, dim, at, key_id, status, automatic) DO UPDATE SET
  requests = requests + excluded.requests, size = size + excluded.size,
  first = min(first, excluded.first), last = max(last, excluded.last),
  longest = max(longest, excluded.longest), largest = max(largest, excluded.largest)
"""
_KIND = """
INSERT OR IGNORE INTO store_failurekind (site_id, method_id, path_id, host_id, status, client_id)
VALUES (%s, %s, %s, %s, %s, %s)
"""
_FAILURE = """
INSERT INTO store_failuresum (kind_id, hour, client_id, requests, first, last)
VALUES (%s, %s, %s, %s, %s, %s)
ON CONFLICT (kind_id, hour, client_id) DO UPDATE SET
  requests = requests + excluded.requests, first = min(first, excluded.first),
  last = max(last, excluded.last)
"""
_VISIT = """
INSERT INTO store_visitrecord
  (site_id, client_id, agent_id, automatic, begin, "end", requests, pages, entry_id, exit_id,
   origin_kind, origin_id)
VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s)
"""
_ERROR = """
INSERT INTO store_errorsum (source_id, hour, level, reason, path_id, requests, first, last, message)
VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s)
ON CONFLICT (source_id, hour, level, reason, path_id) DO UPDATE SET
  requests = requests + excluded.requests, first = min(first, excluded.first),
  last = max(last, excluded.last)
"""


@dataclass(slots=True)
class ErrorCount:
    """Lines of an error log of one kind in one hour."""

    source: LogSource
    hour: int
    level: str
    reason: str
    path: bytes
    requests: int
    first: int
    last: int
    message: str


@dataclass(slots=True)
class Logbook:
    """One server's. Numbers of texts and sites are remembered while it is written."""

    host: str
    _texts: dict[bytes, int] = field(default_factory=dict)
    _sites: dict[bytes, int] = field(default_factory=dict)

    def write(self, ledgers: Sequence[Ledger]) -> None:
        """Adds ledgers to what is there. To be called within a transaction."""
        sums = [row for ledger in ledgers for row in ledger.sums]
        visits = [row for ledger in ledgers for row in ledger.visits]
        failures = [row for ledger in ledgers for row in ledger.failures]
        if not sums:
            return
        self._know(sums, visits, failures)
        steps = self._visits(visits)
        self._sums([*sums, *steps])
        self._failures(failures)

    def _know(
        self, sums: Sequence[Sum], visits: Sequence[Visit], failures: Sequence[Failure]
    ) -> None:
        texts = {row.key for row in sums}
        for visit in visits:
            texts |= {visit.client, visit.agent, visit.entry, visit.exit, visit.origin}
        for failure in failures:
            texts |= {failure.method, failure.path, failure.host, failure.client}
        self.texts(texts)
        for key in {row.site for row in sums}:
            if key not in self._sites:
                name = clean(key.decode("utf-8", "surrogateescape"))
                self._sites[key] = LogSite.objects.get_or_create(host=self.host, key=name)[0].pk

    def texts(self, texts: Iterable[bytes]) -> dict[bytes, int]:
        """The numbers of texts; those that are new get one."""
        unknown = [text for text in texts if text not in self._texts]
        with connection.cursor() as cursor:
            cursor.executemany(
                "INSERT OR IGNORE INTO store_logtext (text) VALUES (%s)",
                [(text,) for text in unknown],
            )
            for begin in range(0, len(unknown), _MOST_ASKED):
                part = unknown[begin : begin + _MOST_ASKED]
                marks = ",".join(["%s"] * len(part))
                cursor.execute(f"SELECT text, id FROM store_logtext WHERE text IN ({marks})", part)
                self._texts |= {bytes(text): number for text, number in cursor.fetchall()}
        return self._texts

    def _sums(self, sums: Iterable[Sum]) -> None:
        """Added by the hour and by the day. Grouped on the way, they come in the order of the
        tables, which then grow at their ends.
        """
        text, site = self._texts, self._sites
        with connection.cursor() as cursor:
            cursor.execute(_FRESH)
            cursor.execute("DELETE FROM fresh_sum")
            cursor.executemany(_PUT, [(site[s[0]], s[1], s[2], text[s[3]], *s[4:]) for s in sums])
            cursor.execute(_SUM.format(table="hoursum", at="at"))
            # Before 1970 too a day is what its hours lie in.
            cursor.execute(
                _SUM.format(table="daysum", at=f"(at - ((at % {DAY}) + {DAY}) % {DAY}) / {DAY}")
            )
            cursor.execute("DELETE FROM fresh_sum")

    def _failures(self, failures: Sequence[Failure]) -> None:
        if not failures:
            return
        text, site = self._texts, self._sites
        kinds: dict[tuple[int, int, int, int, int], int] = {}
        for f in failures:
            key = (site[f.site], text[f.method], text[f.path], text[f.host], f.status)
            kinds.setdefault(key, text[f.client])
        with connection.cursor() as cursor:
            cursor.executemany(_KIND, [(*key, client) for key, client in kinds.items()])
            known: dict[tuple[int, ...], int] = {}
            for number in {key[0] for key in kinds}:
                cursor.execute(
                    "SELECT site_id, method_id, path_id, host_id, status, id"
                    " FROM store_failurekind WHERE site_id = %s",
                    [number],
                )
                known |= {tuple(row[:5]): row[5] for row in cursor.fetchall()}
            cursor.executemany(
                _FAILURE,
                [
                    (known[site[f.site], text[f.method], text[f.path], text[f.host], f.status],
                     f.hour, text[f.client], f.requests, f.first, f.last)
                    for f in failures
                ],
            )  # fmt: skip

    def _visits(self, visits: Sequence[Visit]) -> list[Sum]:
        """Writes visits down; one that goes on where a kept one stopped is added to that. Returns
        the steps from page to page over such a border.
        """
        text, site = self._texts, self._sites
        begin = min((visit.begin for visit in visits), default=0)
        open_ones: dict[tuple[int, int, int], VisitRecord] = {}
        known = VisitRecord.objects.filter(
            end__gt=begin - GAP, site__in={site[visit.site] for visit in visits}
        )
        for each in known.order_by("end"):
            open_ones[each.site_id, each.client_id, each.agent_id] = each
        rows: list[Row] = []
        changed: dict[int, VisitRecord] = {}
        steps: list[Sum] = []
        last_pages = _texts({record.exit_id for record in open_ones.values()})
        for v in visits:
            record = open_ones.get((site[v.site], text[v.client], text[v.agent]))
            if record is None or not (v.begin - GAP < record.end and record.begin - GAP < v.end):
                rows.append(
                    (site[v.site], text[v.client], text[v.agent], v.automatic, v.begin, v.end,
                     v.requests, v.pages, text[v.entry], text[v.exit], v.origin_kind,
                     text[v.origin])
                )  # fmt: skip
                continue
            last = last_pages[record.exit_id] if record.pages else b""
            if v.pages and last and last != v.entry:
                steps.append(
                    Sum(v.site, Dim.STEP, v.begin // 3600, last + b"\0" + v.entry, 200,
                        v.automatic, 1, 0, v.begin, v.begin, -1, 0)
                )  # fmt: skip
            if v.pages and not record.pages:
                record.entry_id = text[v.entry]
                record.origin_kind, record.origin_id = v.origin_kind, text[v.origin]
            if v.pages:
                record.exit_id = text[v.exit]
            record.begin, record.end = min(record.begin, v.begin), max(record.end, v.end)
            record.requests += v.requests
            record.pages += v.pages
            changed[record.pk] = record
        with connection.cursor() as cursor:
            cursor.executemany(_VISIT, rows)
        put_back(
            changed.values(),
            "begin", "end", "requests", "pages", "entry", "exit", "origin_kind", "origin",
        )  # fmt: skip
        self.texts({step.key for step in steps})
        return steps

    def write_errors(self, counts: Sequence[ErrorCount]) -> None:
        """Adds lines of error logs. To be called within a transaction."""
        text = self.texts({count.path for count in counts})
        with connection.cursor() as cursor:
            cursor.executemany(
                _ERROR,
                [
                    (c.source.pk, c.hour, c.level, c.reason, text[c.path], c.requests, c.first,
                     c.last, c.message)
                    for c in counts
                ],
            )  # fmt: skip


def _texts(numbers: set[int]) -> dict[int, bytes]:
    """Texts by their numbers, as the bytes that they were."""
    found: dict[int, bytes] = {}
    wanted = list(numbers)
    for begin in range(0, len(wanted), _MOST_ASKED):
        rows = LogText.objects.filter(pk__in=wanted[begin : begin + _MOST_ASKED])
        found |= {number: bytes(text) for number, text in rows.values_list("id", "text")}
    return found


def error_counts(
    source: LogSource, rows: Iterable[tuple[int, str, str, bytes, str]]
) -> list[ErrorCount]:
    """Adds up lines: (moment, level, reason, path, message)."""
    found: dict[tuple[int, str, str, bytes], ErrorCount] = {}
    for at, level, reason, path, message in rows:
        key = (at // 3600, level, reason, path)
        known = found.get(key)
        if known is None:
            found[key] = ErrorCount(
                source, at // 3600, level[:20], reason, path, 1, at, at, message[:2000]
            )
        else:
            known.requests += 1
            known.first, known.last = min(known.first, at), max(known.last, at)
    return list(found.values())
