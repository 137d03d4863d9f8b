"""The logs: what was read, what it adds up to, why requests failed, and the lines themselves."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, replace
from typing import Any

from django.db.models import Case, Count, Exists, Max, Min, OuterRef, Sum, When
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import PermissionDenied
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen_web.api.filters import Filters
from ecumen_web.api.jobs import JobSerializer
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.queue import ask_for_logs
from ecumen_web.reading.lines import log_root
from ecumen_web.screens.countries import countries
from ecumen_web.screens.failures import Failures, failures
from ecumen_web.screens.figures import Figures, Row, Selection, figures, zone_of
from ecumen_web.screens.rawlines import RawLine, RawLines, raw_lines
from ecumen_web.store.models import (
    HourSum,
    JobRecord,
    LogSite,
    LogSource,
    RejectedLine,
    SurveyRecord,
)

MOST_LINES = 2_000
MOST_SOURCES = 500
_MOST_REJECTED = 200
_SURVEY = OpenApiParameter("survey", str, "path")


@dataclass(frozen=True, slots=True)
class LogState:
    """One log and how far it was read. trouble: why it cannot be read; unread: of its files.

    first, last: seconds since 1970, UTC.
    """

    id: int
    path: str
    kind: str
    engine: str
    lines: int
    rejected: int
    first: int | None
    last: int | None
    trouble: str
    unread: list[str]


@dataclass(frozen=True, slots=True)
class LogOwner:
    """Whose lines are told apart. key: as the other questions name it."""

    key: str
    name: str


@dataclass(frozen=True, slots=True)
class LogsView:
    """here: whether the logs lie on this machine. zone: seconds east of UTC. lines: of all logs.

    count: of logs. sources: at most MOST_SOURCES of them by kind and path; what is in trouble is
    chosen first, then the longest.
    """

    here: bool
    zone: int
    first: int | None
    last: int | None
    lines: int
    count: int
    sources: list[LogState]
    owners: list[LogOwner]


class LogsViewSerializer(ValueSerializer[LogsView]):
    class Meta:
        dataclass = LogsView


class LogsSerializer(serializers.Serializer[object]):
    logs = LogsViewSerializer()
    job = JobSerializer(allow_null=True)


class FiguresSerializer(ValueSerializer[Figures]):
    class Meta:
        dataclass = Figures


class FailuresSerializer(ValueSerializer[Failures]):
    class Meta:
        dataclass = Failures


class RawLinesSerializer(ValueSerializer[RawLines]):
    class Meta:
        dataclass = RawLines


@dataclass(frozen=True, slots=True)
class Rejected:
    path: str
    offset: int
    why: str
    text: str


class RejectedSerializer(ValueSerializer[Rejected]):
    class Meta:
        dataclass = Rejected


class AskedSerializer(Filters):
    """begin, end: seconds since 1970, UTC. site: a key; none is the whole server. classes:
    hundreds of statuses with commas between them.
    """

    begin = serializers.IntegerField(min_value=-(1 << 40), max_value=1 << 40)
    end = serializers.IntegerField(min_value=-(1 << 40), max_value=1 << 40)
    site = serializers.CharField(required=False, default="", allow_blank=True)
    classes = serializers.RegexField(r"^([1-5]00(,[1-5]00)*)?$", required=False, default="")
    who = serializers.ChoiceField(
        choices=["everybody", "people", "automatic"], required=False, default="everybody"
    )
    whole = serializers.BooleanField(required=False, default=False)


class LinesAskedSerializer(AskedSerializer):
    words = serializers.CharField(required=False, default="", allow_blank=True, max_length=500)
    limit = serializers.IntegerField(required=False, default=100, min_value=1, max_value=MOST_LINES)


def _asked(request: Request, record: SurveyRecord) -> tuple[Selection, dict[str, Any]]:
    values = LinesAskedSerializer.of(request)
    # Addresses of visitors are personal data: whoever needs to see them whole is named by an
    # administrator.
    if values["whole"] and not request.user.is_staff:
        raise PermissionDenied("Whole addresses of visitors are shown to administrators alone.")
    classes = tuple(int(each) for each in values["classes"].split(",") if each)
    asked = Selection(
        record.host, values["begin"], values["end"], values["site"], classes, values["who"]
    )
    return asked, values


class LogsEndpoint(APIView):
    @extend_schema(parameters=[_SURVEY], responses=LogsSerializer)
    def get(self, request: Request, survey: str) -> Response:
        """Which logs there are, and how far they were read."""
        record = survey_of(survey)
        rows = LogSource.objects.filter(host=record.host)
        sums = rows.aggregate(
            first=Min("first"), last=Max("last"), lines=Sum("lines", default=0), count=Count("pk")
        )
        # What is in trouble first, so that it is never among those that are cut off.
        fine = Case(When(trouble="", unread=[], then=1), default=0)
        told = rows.order_by(fine, "-rejected", "-lines", "path")[:MOST_SOURCES]
        logs = LogsView(
            here=log_root(record) is not None,
            zone=zone_of(record.host),
            **sums,
            sources=[
                LogState(
                    row.pk, row.path, row.kind, row.engine, row.lines, row.rejected, row.first,
                    row.last, row.trouble, row.unread,
                )
                for row in sorted(told, key=lambda row: (row.kind, row.path))
            ],
            owners=[],
        )  # fmt: skip
        job = JobRecord.objects.filter(kind=JobRecord.Kind.LOGS, survey=record).last()
        answer = LogsSerializer({"logs": logs, "job": job}).data
        # Thousands at times; as they are, since the serializer takes longer than all the rest.
        answer["logs"]["owners"] = _owners(record)
        return Response(answer)

    @extend_schema(parameters=[_SURVEY], request=None, responses={202: JobSerializer})
    def post(self, request: Request, survey: str) -> Response:
        """Starts a job that reads what is new in the logs."""
        return Response(JobSerializer(ask_for_logs(survey_of(survey))).data, status=202)


def _owners(record: SurveyRecord) -> list[dict[str, str]]:
    """Those of whom there are lines, by name, as `LogOwner` is written."""
    sums = HourSum.objects.filter(site=OuterRef("pk"))
    known = LogSite.objects.filter(Exists(sums), host=record.host).exclude(key="")
    keys = set(known.values_list("key", flat=True))
    if not keys:
        return []
    # Of twins the first one gives the name.
    named = dict(
        record.sites.filter(personal=False).order_by("-position").values_list("subject", "name")
    )
    found = [{"key": key, "name": named.get(key, key)} for key in keys]
    return sorted(found, key=lambda owner: owner["name"])


class FiguresEndpoint(APIView):
    @extend_schema(parameters=[_SURVEY, AskedSerializer], responses=FiguresSerializer)
    def get(self, request: Request, survey: str) -> Response:
        """What the lines of a range add up to."""
        asked, values = _asked(request, survey_of(survey))
        found = figures(asked, countries())
        if not values["whole"] and "clients" in found.lists:
            found.lists["clients"] = [
                Row(shortened(row.text), row.requests, row.size) for row in found.lists["clients"]
            ]
        return Response(FiguresSerializer(found).data)


class FailuresEndpoint(APIView):
    @extend_schema(parameters=[_SURVEY, AskedSerializer], responses=FailuresSerializer)
    def get(self, request: Request, survey: str) -> Response:
        """Why requests of a range failed, the most frequent cause first."""
        record = survey_of(survey)
        asked, _ = _asked(request, record)
        return Response(FailuresSerializer(failures(record, asked)).data)


class LinesEndpoint(APIView):
    @extend_schema(parameters=[_SURVEY, LinesAskedSerializer], responses=RawLinesSerializer)
    def get(self, request: Request, survey: str) -> Response:
        """The lines themselves, the last first."""
        record = survey_of(survey)
        asked, values = _asked(request, record)
        found = raw_lines(record, asked, values["words"], values["limit"])
        if not values["whole"]:
            found = replace(found, lines=[_without_client(line) for line in found.lines])
        return Response(RawLinesSerializer(found).data)


class RejectedEndpoint(APIView):
    @extend_schema(
        parameters=[_SURVEY, OpenApiParameter("log", int, "path")],
        responses=RejectedSerializer(many=True),
    )
    def get(self, request: Request, survey: str, log: int) -> Response:
        """Lines of a log that could not be read, and why."""
        rows = RejectedLine.objects.filter(source__host=survey_of(survey).host, source=log)
        found = [
            Rejected(r.path, r.offset, r.why, bytes(r.text).decode("utf-8", "backslashreplace"))
            for r in rows[:_MOST_REJECTED]
        ]
        return Response(RejectedSerializer(found, many=True).data)


def shortened(client: str) -> str:
    """An address without what tells one visitor from the next: 192.0.2.0/24, 2001:db8:1::/48."""
    try:
        address = ipaddress.ip_address(client)
    except ValueError:
        # A name: what is left of its first dot tells the machine.
        return f"*.{client.partition('.')[2]}" if "." in client else client
    length = 24 if address.version == 4 else 48
    return str(ipaddress.ip_network((address, length), strict=False))


def _without_client(line: RawLine) -> RawLine:
    short = shortened(line.client)
    # The line as it stands holds the address, too, perhaps more than once.
    return replace(line, client=short, text=line.text.replace(line.client, short))
