"""Why requests of a range of time failed: the causes with their visitors, and when it began."""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from django.db import connection
from django.db.models import Max, Min

from ecumen.causes.explain import DiskChange, before, since
from ecumen.logs.errorlog import GATE_OF, Reason
from ecumen_web.explaining.causes import texts_of
from ecumen_web.screens.figures import HOUR, Selection, shown
from ecumen_web.store.models import FailureKind, FailureSum, KindCause, SurveyRecord
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import scene_of

MOST_CAUSES = 200
_MOST_PLACES = 40
_MOST_ADDRESSES = 6
_NEAR = 86_400  # seconds: a change longer before the first failure is not its beginning


@dataclass(frozen=True, slots=True)
class AskedAddress:
    """Requests of one kind. host: as asked for, where the line says it."""

    method: str
    path: str
    host: str
    requests: int


@dataclass(frozen=True, slots=True)
class FailingPlace:
    """What is in the way of some of the requests. account: whose home it is, "" for nobody's."""

    path: str
    requests: int
    account: str


@dataclass(frozen=True, slots=True)
class Said:
    """What the error log says of the same place in the same time."""

    reason: str
    message: str
    requests: int


@dataclass(frozen=True, slots=True)
class Related:
    """A finding that says the same of the survey."""

    key: str
    id: str
    title: str


@dataclass(frozen=True, slots=True)
class FailureGroup:
    """One cause in the range. first, last: seconds since 1970, UTC. began: the change on disk
    nearest before the first of all its failures. since: what changed after the last.
    """

    key: str
    site: str
    declared_at: str
    status: int
    standing: str
    gate: str
    why: str
    place: str
    url: str
    now: int | None
    before: str
    requests: int
    visitors: int
    first: int
    last: int
    began: DiskChange | None
    since: list[DiskChange]
    addresses: list[AskedAddress]
    places: list[FailingPlace]
    said: list[Said]
    findings: list[Related]


@dataclass(frozen=True, slots=True)
class Failures:
    """failed: requests that failed, or came for a name that nobody claims; explained: of these."""

    failed: int
    explained: int
    groups: list[FailureGroup]


# What error logs say, by path, and the paths in order.
SaidLines = tuple[list[str], dict[str, list[tuple[str, int, str]]]]

_KINDS = """
SELECT failure.kind_id, sum(failure.requests), min(failure.first), max(failure.last)
FROM store_failuresum failure WHERE failure.hour >= %s AND failure.hour < %s
GROUP BY failure.kind_id
"""
_VISITORS = """
SELECT told.cause_id, count(DISTINCT failure.client_id)
FROM store_failuresum failure
JOIN store_failurekind kind ON kind.id = failure.kind_id
JOIN store_logsite site ON site.id = kind.site_id
JOIN store_kindcause told ON told.kind_id = failure.kind_id AND told.survey_id = %s
WHERE failure.hour >= %s AND failure.hour < %s{and_site}{and_class}
GROUP BY told.cause_id
"""
_SAID = """
SELECT text.text, error.reason, sum(error.requests), max(error.message)
FROM store_errorsum error
JOIN store_logsource source ON source.id = error.source_id
JOIN store_logtext text ON text.id = error.path_id
WHERE source.host = %s AND error.hour >= %s AND error.hour < %s AND error.reason != 'other'
GROUP BY text.text, error.reason
"""


_OF_THE_CAUSE = (
    "key", "site", "declared_at", "status", "standing", "gate", "why", "place", "url", "now",
    "before",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Kind:
    """One kind of failing requests with its cause. span: of all such in the logs."""

    site: str
    status: int
    address: tuple[str, str, str]
    cause: int | None
    place: str
    changes: tuple[DiskChange, ...]


@dataclass(frozen=True, slots=True)
class _Known:
    """What stays the same until more is read. spans: of all failures of a cause."""

    kinds: dict[int, _Kind]
    causes: dict[int, dict[str, Any]]
    spans: dict[int, tuple[int, int]]
    findings: dict[str, Related]
    homes: dict[str, str]


def failures(record: SurveyRecord, asked: Selection) -> Failures:
    """Why requests failed in a range, the most frequent cause first."""
    # What is kept in memory holds as long as no failure is added, and no cause is worked out anew.
    last = FailureSum.objects.aggregate(last=Max("id"))["last"]
    known = _known(record, record.revision, KindCause.objects.filter(survey=record).count(), last)
    # Rounded up, or the hour in which a range ends would be missing.
    hours = [asked.begin // HOUR, -(-asked.end // HOUR)]
    values: list[object] = [record.pk, *hours]
    clauses = {"and_site": "", "and_class": ""}
    if asked.site:
        clauses["and_site"] = " AND site.host = %s AND site.key = %s"
        values += [record.host, asked.site]
    if asked.classes:
        marks = ",".join(["%s"] * len(asked.classes))
        clauses["and_class"] = f" AND kind.status / 100 IN ({marks})"
        values += [each // 100 for each in asked.classes]
    visitors = dict(_rows(_VISITORS.format(**clauses), values))
    groups: dict[int | None, list[tuple[_Kind, int, int, int]]] = defaultdict(list)
    for number, *counts in _rows(_KINDS, hours):
        kind = known.kinds.get(number)
        if kind is None or (asked.site and kind.site != asked.site):
            continue
        if asked.classes and kind.status // 100 * 100 not in asked.classes:
            continue
        groups[kind.cause].append((kind, *counts))
    lines: dict[str, list[tuple[str, int, str]]] = defaultdict(list)
    for path, reason, count, message in _rows(_SAID, [record.host, *hours]):
        lines[shown(path).rstrip("/")].append((reason, count, message))
    said = (sorted(lines), lines)
    totals = {number: sum(row[1] for row in rows) for number, rows in groups.items()}
    order = sorted((n for n in groups if n is not None), key=lambda n: (-totals[n], n))
    standing = {number: known.causes[number]["standing"] for number in order}
    return Failures(
        failed=sum(totals.values()),
        explained=sum(totals[n] for n in order if standing[n] == "explained"),
        groups=[_group(n, groups[n], visitors.get(n, 0), known, said) for n in order[:MOST_CAUSES]],
    )


@lru_cache(maxsize=4)
def _known(record: SurveyRecord, revision: int, kinds: int, last: int | None) -> _Known:
    rows = list(
        FailureKind.objects.filter(site__host=record.host).values_list(
            "id", "site__key", "status", "method_id", "path_id", "host_id"
        )
    )
    texts = texts_of({number for row in rows for number in row[3:]})
    told = {
        kind: (cause, place, tuple(DiskChange(**change) for change in changes))
        for kind, cause, place, changes in KindCause.objects.filter(survey=record).values_list(
            "kind_id", "cause_id", "place", "changes"
        )
    }
    spans: dict[int, tuple[int, int]] = {}
    sums = FailureSum.objects.filter(kind__site__host=record.host).values_list("kind_id")
    for kind, first, latest in sums.annotate(a=Min("first"), b=Max("last")):
        cause = told[kind][0] if kind in told else None
        if cause is not None:
            had = spans.get(cause, (first, latest))
            spans[cause] = (min(had[0], first), max(had[1], latest))
    causes = {cause.pk: cause.whole for cause in record.causes.all()}
    wanted = {key for cause in causes.values() for key in cause["findings"][:_MOST_PLACES]}
    found = record.findings.filter(key__in=wanted).values_list("key", "check_id", "title")
    return _Known(
        {
            number: _Kind(
                site, status, (clean(texts[method]), clean(texts[path]), clean(texts[host])),
                *told.get(number, (None, "", ())),
            )
            for number, site, status, method, path, host in rows
        },
        causes,
        spans,
        {key: Related(key, id, title) for key, id, title in found},
        _homes(record),
    )  # fmt: skip


def _rows(sql: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
    with connection.cursor() as cursor:
        cursor.execute(sql, values)  # type: ignore[arg-type]
        return list(cursor.fetchall())


def _group(
    number: int,
    rows: Sequence[tuple[_Kind, int, int, int]],
    visitors: int,
    known: _Known,
    said: SaidLines,
) -> FailureGroup:
    cause, span = known.causes[number], known.spans[number]
    places: dict[str, int] = defaultdict(int)
    changes: dict[tuple[str, int], DiskChange] = {}
    for kind, count, _, _ in rows:
        if kind.place:
            places[kind.place] += count
        changes |= {(change.path, change.at): change for change in kind.changes}
    in_the_way = {change.path for change in changes.values()} & set(places)
    # What stands in the way itself says more than what else changed beside it.
    likely = [c for c in changes.values() if not in_the_way or c.path in in_the_way]
    began = before(likely, span[0])
    if began is not None and span[0] - began.at > _NEAR:
        began = None
    top = sorted(rows, key=lambda row: (-row[1], row[0].address))[:_MOST_ADDRESSES]
    return FailureGroup(
        **{key: cause[key] for key in _OF_THE_CAUSE},
        requests=sum(row[1] for row in rows), visitors=visitors,
        first=min(row[2] for row in rows), last=max(row[3] for row in rows),
        began=began,
        since=since(changes.values(), span[1]) if cause["standing"] == "differs" else [],
        addresses=[AskedAddress(*kind.address, count) for kind, count, _, _ in top],
        places=[
            FailingPlace(path, count, known.homes.get(path, ""))
            for path, count in sorted(places.items(), key=lambda item: -item[1])[:_MOST_PLACES]
        ],
        said=_said(cause["gate"], places, said),
        findings=[
            known.findings[key]
            for key in cause["findings"][:_MOST_PLACES]
            if key in known.findings
        ],
    )  # fmt: skip


def _said(gate: str, places: dict[str, int], said: SaidLines) -> list[Said]:
    """Where the engine's own reason belongs to the gate, or is one that we do not know."""
    found: dict[str, Said] = {}
    for reason, count, message in (line for place in places for line in _below(place, said)):
        # The log may say other things of the same file, at other times.
        if gate not in GATE_OF.get(Reason[reason.upper()], (gate,)):
            continue
        had = found.get(reason)
        total = count + (had.requests if had else 0)
        found[reason] = Said(Reason[reason.upper()].value, message, total)
    return list(found.values())


def _below(place: str, said: SaidLines) -> Iterator[tuple[str, int, str]]:
    """What is said of a place, or of a file in it: a folder on the way may be closed."""
    paths, lines = said
    exact = place.rstrip("/")
    yield from lines.get(exact, ())
    at = bisect_left(paths, f"{exact}/")
    while at < len(paths) and paths[at].startswith(f"{exact}/"):
        yield from lines[paths[at]]
        at += 1


def _homes(record: SurveyRecord) -> dict[str, str]:
    """Whose home, or personal site's folder, a path is."""
    scene = scene_of(record.file)
    found = {}
    for account in scene.survey.accounts:
        if account.home.startswith("/home/"):
            found[account.home] = account.name
    for site in scene.sites:
        if site.summary.personal is not None and site.summary.root:
            found[site.summary.root] = site.summary.personal
    return found
