"""Addresses to begin with: what visitors ask most, and what fails most."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import urlsplit

from django.db import connection

from ecumen.logs.ledger import Dim
from ecumen_web.screens.figures import DAY, HOUR, shown
from ecumen_web.store.models import LogSource, SurveyRecord

MOST = 10
_LOOKED_AT = 200  # rows, of which some belong to no site of the survey
LONGEST = 2_000  # letters of an address


@dataclass(frozen=True, slots=True)
class Start:
    """status: that most of these requests got."""

    url: str
    to: str
    status: int
    requests: int


@dataclass(frozen=True, slots=True)
class Starts:
    """asked, failing: the most frequent first. begin, end: of the last day of the logs, in seconds
    since 1970, UTC; None where no line was read.
    """

    asked: list[Start]
    failing: list[Start]
    begin: int | None = None
    end: int | None = None


def starts(record: SurveyRecord) -> Starts:
    """From the last day of the logs, by the sums of their pages."""
    rows = LogSource.objects.filter(host=record.host, last__isnull=False).order_by("-last")
    last = rows.values_list("last", flat=True).first()
    if last is None:
        return Starts([], [])
    end = last - last % HOUR + HOUR
    begin = end - DAY
    return Starts(
        _most(record, begin, "status < 400"), _most(record, begin, "status >= 400"), begin, end
    )


def _most(record: SurveyRecord, begin: int, condition: str) -> list[Start]:
    with connection.cursor() as cursor:
        cursor.execute(
            # SQLite takes what stands beside a maximum from the row that holds it ("SELECT", 2.5).
            "SELECT store_logsite.key, text, code, n FROM (SELECT site_id, key_id, status AS code,"
            " max(n), sum(n) AS n FROM (SELECT site_id, key_id, status, sum(requests) AS n"
            " FROM store_hoursum WHERE dim = %s AND site_id IN (SELECT id FROM store_logsite"
            f" WHERE host = %s AND key != '') AND at >= %s AND {condition}"
            " GROUP BY site_id, key_id, status) GROUP BY site_id, key_id"
            " ORDER BY n DESC, site_id, key_id LIMIT %s)"
            " JOIN store_logsite ON store_logsite.id = site_id"
            " JOIN store_logtext ON store_logtext.id = key_id ORDER BY n DESC, text",
            [int(Dim.PAGE), record.host, begin // HOUR, _LOOKED_AT],
        )
        rows = cursor.fetchall()
    keys = {key for key, *_ in rows}
    sites = record.sites.filter(subject__in=keys, personal=False).order_by("-position")
    led = {subject: (url, to) for subject, url, to in sites.values_list("subject", "url", "to")}
    found = []
    for key, text, status, count in rows:
        path = shown(text)
        if key not in led or not path.startswith("/") or len(path) > LONGEST:
            continue
        url, to = led[key]
        parts = urlsplit(url)
        found.append(Start(f"{parts.scheme}://{parts.netloc}{path}", to, status, count))
        if len(found) == MOST:
            break
    return found
