"""Explains what failed by a survey, keeps the causes, and puts the toll of findings in order."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import asdict, replace

from django.db import connection, transaction
from django.db.models import F, Max, Min, Sum

from ecumen.audit import Finding, Impact, Toll
from ecumen.audit.scene import Scene
from ecumen.causes import Explainer, FailedRequests
from ecumen.causes.explain import DiskChange
from ecumen.logs.ledger import Dim
from ecumen_web.store.bulk import put_back
from ecumen_web.store.models import (
    CauseRecord,
    FailureKind,
    FindingRecord,
    HourSum,
    KindCause,
    LogSite,
    LogSource,
    LogText,
    SurveyRecord,
)
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import scene_of

Progress = Callable[[str, int, int], None]
MOST_EXPLAINED = 20_000  # kinds of failing requests, the most frequent first
_MOST_CHANGES = 6
_DAY = 86_400
_DAYS = 7  # over which the toll of a day is taken


def explain_failures(record: SurveyRecord, progress: Progress) -> None:
    """Explains what failed and is not explained by this survey yet; then the tolls."""
    kinds = (
        FailureKind.objects.filter(site__host=record.host)
        .exclude(causes__survey=record)
        .annotate(total=Sum("sums__requests"))
        .order_by("-total")
    )
    fresh = list(
        kinds.values_list("id", "site__key", "method_id", "path_id", "host_id", "status",
                          "client_id")[:MOST_EXPLAINED]
    )  # fmt: skip
    if fresh:
        texts = texts_of({number for row in fresh for number in (*row[2:5], row[6])})
        explainer = Explainer(scene_of(record.file), _findings(record), _earlier(record))
        made: list[KindCause] = []
        known = {cause.key: cause for cause in record.causes.all()}
        for number, (kind, site, method, path, host, status, client) in enumerate(fresh):
            if number % 200 == 0:
                progress("explaining what failed", number, len(fresh))
            asked = FailedRequests(
                site, texts[method], texts[path], texts[host], status, texts[client]
            )
            told = explainer.explain(asked)
            row = KindCause(survey=record, kind_id=kind)
            if told is not None:
                cause = known.get(told.cause.key)
                if cause is None:
                    whole = {k: _plain(v) for k, v in asdict(told.cause).items()}
                    cause = CauseRecord.objects.create(
                        survey=record, key=told.cause.key, whole=whole
                    )
                    known[told.cause.key] = cause
                row.cause, row.place = cause, clean(told.place)
                row.changes = [_change(change) for change in told.near[:_MOST_CHANGES]]
            made.append(row)
        KindCause.objects.bulk_create(made, batch_size=500, ignore_conflicts=True)
    _tolls(record)


def _change(change: DiskChange) -> dict[str, object]:
    return {"what": change.what, "path": clean(change.path), "at": change.at}


def _plain(value: object) -> object:
    return clean(value) if isinstance(value, str) else value


def texts_of(numbers: set[int]) -> dict[int, str]:
    """Texts of the logs by their numbers."""
    found: dict[int, str] = {}
    wanted = list(numbers)
    for begin in range(0, len(wanted), 5_000):
        rows = LogText.objects.filter(pk__in=wanted[begin : begin + 5_000])
        for number, text in rows.values_list("id", "text"):
            found[number] = bytes(text).decode("utf-8", "surrogateescape")
    return found


def _findings(record: SurveyRecord) -> list[Finding]:
    """What the explanations lead to: who it is, and which group."""
    rows = record.findings.values_list("check_id", "impact", "title", "subject", "sites", "group")
    return [
        Finding(id, Impact(impact), title, subject, sites, [], Toll(), group)
        for id, impact, title, subject, sites, group in rows
    ]


def _earlier(record: SurveyRecord) -> Callable[[], Scene | None]:
    """The survey before, read when it is first asked for."""
    found: list[Scene | None] = []

    def scene() -> Scene | None:
        if not found:
            earlier = SurveyRecord.objects.filter(host=record.host, taken_at__lt=record.taken_at)
            first = earlier.first()
            found.append(None if first is None else scene_of(first.file))
        return found[0]

    return scene


# --- what it costs ---

_PLACES = """
SELECT cause.key, kind.place, sum(failure.requests), count(DISTINCT failure.client_id)
FROM store_failuresum failure
JOIN store_kindcause kind ON kind.kind_id = failure.kind_id AND kind.survey_id = %s
JOIN store_causerecord cause ON cause.id = kind.cause_id
WHERE failure.hour >= %s
GROUP BY cause.key, kind.place
"""


def _tolls(record: SurveyRecord) -> None:
    """Requests and visitors a day, over the last days of the logs, for findings and sites."""
    ends = LogSource.objects.filter(host=record.host).aggregate(
        first=Min("first"), last=Max("last")
    )
    if ends["last"] is None:
        return
    first = max(ends["first"], ends["last"] - _DAYS * _DAY)
    days = max(1.0, (ends["last"] - first) / _DAY)
    with connection.cursor() as cursor:
        cursor.execute(_PLACES, [record.pk, first // 3600])
        places = cursor.fetchall()
    causes = {cause.key: cause.whole["findings"] for cause in record.causes.all()}
    wanted = {key for findings in causes.values() for key in findings}
    rows = {row.key: row for row in record.findings.filter(key__in=wanted)}
    tolls: dict[str, tuple[int, int]] = defaultdict(lambda: (0, 0))
    for key, place, requests, clients in places:
        findings = [finding for finding in causes[key] if finding in rows]
        if len(findings) > 1:
            # Of findings that share a cause each has the requests that met its own place.
            findings = [finding for finding in findings if _names(rows[finding], place)]
        for finding in findings[:1]:
            had = tolls[finding]
            tolls[finding] = (had[0] + requests, had[1] + clients)
    with transaction.atomic():
        _order(record, tolls, days)
        _sites(record, first // 3600, days)
        SurveyRecord.objects.filter(pk=record.pk).update(revision=F("revision") + 1)


def _names(row: FindingRecord, place: str) -> bool:
    """Whether a finding's evidence names a place."""
    return bool(place) and any(each.get("path") == place for each in row.evidence)


_RANK = {impact.value: number for number, impact in enumerate(Impact)}


def _order(record: SurveyRecord, tolls: dict[str, tuple[int, int]], days: float) -> None:
    """The queue: by impact, then by what visitors meet a day of one cause, then as it was."""
    rows = list(record.findings.order_by("position"))
    before = {row.pk: (row.position, row.toll) for row in rows}
    for row in rows:
        requests, clients = tolls.get(row.key, (0, 0))
        toll = Toll(**row.toll)
        known = row.key in tolls
        row.toll = asdict(
            replace(
                toll,
                requests_a_day=round(requests / days) if known else None,
                visitors_a_day=round(clients / days) if known else None,
            )
        )
    groups: dict[tuple[str, str], int] = defaultdict(int)
    for row in rows:
        groups[row.impact, row.group] += row.toll["requests_a_day"] or 0
    rows.sort(
        key=lambda r: (
            _RANK[r.impact],
            -groups[r.impact, r.group],
            -(r.toll["requests_a_day"] or 0),
        )
    )
    for position, row in enumerate(rows):
        row.position = position
    changed = [row for row in rows if before[row.pk] != (row.position, row.toll)]
    put_back(changed, "toll", "position")


def _sites(record: SurveyRecord, since: int, days: float) -> None:
    sums = (
        HourSum.objects.filter(site__host=record.host, dim=Dim.ALL, at__gte=since)
        .values_list("site__key")
        .annotate(total=Sum("requests"))
    )
    by_key = {key: total for key, total in sums if key}
    known = set(LogSite.objects.filter(host=record.host).values_list("key", flat=True))
    changed = []
    for row in record.sites.all():
        counted = by_key.get(row.subject)
        asked = (
            round(counted / days) if counted is not None else 0 if row.subject in known else None
        )
        if asked != row.requests_a_day:
            row.requests_a_day = asked
            changed.append(row)
    put_back(changed, "requests_a_day")
