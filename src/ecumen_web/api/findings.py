"""What is wrong on a survey: grouped by cause, each with its evidence, and what is lived with."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.audit import CHECKS, FailedCheck, Impact, Toll
from ecumen.audit.finding import Remedy
from ecumen.audit.pages import PageSection, page_of
from ecumen.audit.telling import RemedyView, shown_groups, together, told
from ecumen.passage.verdict import Evidence
from ecumen_web.api.filters import Filters
from ecumen_web.api.problems import one_of
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.reached import now_at
from ecumen_web.store.models import AcceptedFinding, FindingRecord, SurveyRecord
from ecumen_web.store.translate import clean, remedy_of

MISSING_FINDING = "This survey has no such finding: it may be mended, or of another survey."

MOST_IN_GROUP = 20
MOST_GROUPS = 200
MOST_TOGETHER = 1000
_BATCH = 500
_IMPACTS = [impact.value for impact in Impact]


class BriefFindingSerializer(serializers.Serializer[object]):
    """news: new since the survey before, or still there. brief: what it is about, in short."""

    key = serializers.CharField()
    id = serializers.CharField()
    impact = serializers.ChoiceField(choices=_IMPACTS)
    title = serializers.CharField()
    brief = serializers.CharField()
    sites = serializers.ListField(child=serializers.CharField())
    news = serializers.ChoiceField(choices=["new", "still", "first"])


class GroupSerializer(serializers.Serializer[object]):
    """Findings with one cause. findings: the first of them. requests_a_day: that meet any of
    them, None where no log says. about: the cause, in a word or two; "" where it has none.
    """

    group = serializers.CharField()
    about = serializers.CharField(allow_blank=True)
    id = serializers.CharField()
    impact = serializers.ChoiceField(choices=_IMPACTS)
    title = serializers.CharField()
    count = serializers.IntegerField()
    requests_a_day = serializers.IntegerField(allow_null=True)
    findings = BriefFindingSerializer(many=True)


class FailedCheckSerializer(ValueSerializer[FailedCheck]):
    class Meta:
        dataclass = FailedCheck


class FindingsSerializer(serializers.Serializer[object]):
    """gone: found on the survey before, and no more. accepted: how many are lived with.

    more_groups: how many causes stand behind those that are listed.
    """

    groups = GroupSerializer(many=True)
    more_groups = serializers.IntegerField()
    gone = BriefFindingSerializer(many=True)
    accepted = serializers.IntegerField()
    failed_checks = FailedCheckSerializer(many=True)


class AcceptanceSerializer(serializers.ModelSerializer[AcceptedFinding]):
    class Meta:
        model = AcceptedFinding
        fields = ("reason", "until", "by", "at")
        read_only_fields = ("by", "at")
        extra_kwargs = {"reason": {"max_length": 1000}}  # noqa: RUF012 - read by the framework


class EvidenceSerializer(ValueSerializer[Evidence]):
    class Meta:
        dataclass = Evidence


class RemedySerializer(ValueSerializer[RemedyView]):
    class Meta:
        dataclass = RemedyView


class TollSerializer(ValueSerializer[Toll]):
    class Meta:
        dataclass = Toll


class SectionSerializer(ValueSerializer[PageSection]):
    class Meta:
        dataclass = PageSection


class FindingSerializer(BriefFindingSerializer):
    subject = serializers.CharField()
    group = serializers.CharField()
    evidence = EvidenceSerializer(many=True)
    toll = TollSerializer()
    remedies = RemedySerializer(many=True)
    page = SectionSerializer(many=True)
    accepted = AcceptanceSerializer(allow_null=True)
    together = RemedySerializer(allow_null=True)


def _together(record: SurveyRecord, row: FindingRecord) -> RemedyView | None:
    whole = together_of(record, row)
    return None if whole is None else _shown(told(whole))


def together_of(record: SurveyRecord, row: FindingRecord) -> Remedy | None:
    """One plan for all findings of this cause that somebody does not live with."""
    # Groups are made within one check.
    alike = record.findings.filter(check_id=row.check_id)
    rows = list(alike.values_list("id", "key", "check_id", "group"))
    groups = dict(zip([r[0] for r in rows], shown_groups([r[2:] for r in rows]), strict=True))
    lived_with = _accepted(record)
    numbers = [
        number
        for number, key, *_ in rows
        if groups[number] == groups[row.pk] and key not in lived_with
    ]
    found = alike.filter(id__in=numbers[:MOST_TOGETHER]).values_list("remedies", flat=True)
    first = (remedy_of(each[0]) for each in found.iterator(chunk_size=20) if each)
    return together(first, len(numbers))


def _remedy(row: dict[str, Any]) -> RemedyView:
    return _shown(told(remedy_of(row)))


def _shown(view: RemedyView) -> RemedyView:
    return RemedyView(
        view.title,
        [clean(each) for each in view.operations],
        [clean(each) for each in view.opens],
        [clean(each) for each in view.shell],
        view.more,
    )


def survey_before(survey: SurveyRecord) -> SurveyRecord | None:
    """The survey of the same server that was taken before this one."""
    earlier = SurveyRecord.objects.filter(host=survey.host, taken_at__lt=survey.taken_at)
    return earlier.first()


def _accepted(record: SurveyRecord) -> dict[str, AcceptedFinding]:
    """What is lived with today, by key."""
    today = now_at(record.origin).date()
    rows = AcceptedFinding.objects.filter(host=record.host)
    # On its last day it is back already: `until` names the day of its return.
    return {row.key: row for row in rows if row.until is None or row.until > today}


def brief_finding(row: FindingRecord, known: set[str] | None) -> dict[str, Any]:
    """A finding in short. known: the keys of the survey before, None where there is none."""
    news = "first" if known is None else "still" if row.key in known else "new"
    return {
        "key": row.key,
        "id": row.check_id,
        "impact": row.impact,
        "title": row.title,
        "brief": ", ".join(row.sites[:2]) or row.subject,
        "sites": row.sites[:5],
        "news": news,
    }


def _keys(survey: SurveyRecord) -> set[str]:
    return set(survey.findings.values_list("key", flat=True))


class FindingsAsked(Filters):
    accepted = serializers.BooleanField(
        required=False, default=False, help_text="Those that are lived with, instead."
    )


class FindingsView(APIView):
    @extend_schema(
        operation_id="surveys_findings_groups",
        parameters=[
            OpenApiParameter("survey", str, "path"),
            FindingsAsked,
        ],
        responses=FindingsSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """What is wrong, grouped by cause, the worst first."""
        record = survey_of(survey)
        before = survey_before(record)
        known = _keys(before) if before else None
        lived_with = _accepted(record)
        wanted = FindingsAsked.of(request)["accepted"]
        # First by number alone: there may be many, and only the first of each cause are shown.
        columns = ("id", "key", "check_id", "group", "toll__requests_a_day")
        rows = list(record.findings.values_list(*columns))
        causes = shown_groups([(check_id, group) for _, _, check_id, group, _ in rows])
        groups: dict[str, list[int]] = defaultdict(list)
        tolls: dict[str, int] = {}
        for (number, key, _, _, requests), group in zip(rows, causes, strict=True):
            if (key in lived_with) == wanted:
                groups[group].append(number)
                if requests is not None:
                    tolls[group] = tolls.get(group, 0) + requests
        shown = list(groups.items())[:MOST_GROUPS]
        gone: list[FindingRecord] = []
        if before is not None and not wanted:
            mine = {key for _, key, *_ in rows}
            numbers = [n for n, key in before.findings.values_list("id", "key") if key not in mine]
            gone = list(before.findings.filter(id__in=numbers[:MOST_IN_GROUP]))
        whole = {
            "groups": _groups(record, shown, known, tolls),
            "more_groups": len(groups) - len(shown),
            "gone": [brief_finding(row, None) for row in gone],
            "accepted": sum(key in lived_with for _, key, *_ in rows),
            "failed_checks": [FailedCheck(**row) for row in record.failed_checks],
        }
        return Response(FindingsSerializer(whole).data)


def _groups(
    record: SurveyRecord,
    shown: list[tuple[str, list[int]]],
    known: set[str] | None,
    tolls: dict[str, int],
) -> list[dict[str, Any]]:
    """Causes with the first findings of each."""
    numbers = [number for _, members in shown for number in members[:MOST_IN_GROUP]]
    rows: dict[int, FindingRecord] = {}
    # In pieces: the database takes a limited number of values in one question.
    for at in range(0, len(numbers), _BATCH):
        rows |= record.findings.in_bulk(numbers[at : at + _BATCH])
    return [
        _group(name, [rows[number] for number in members[:MOST_IN_GROUP]], len(members), known)
        | {"requests_a_day": tolls.get(name)}
        for name, members in shown
    ]


def _group(
    name: str, first: list[FindingRecord], count: int, known: set[str] | None
) -> dict[str, Any]:
    top = first[0]
    return {
        "group": name,
        "about": name.removeprefix(top.check_id).strip(),
        "id": top.check_id,
        "impact": top.impact,
        # A record may be older than the catalogue of checks.
        "title": CHECKS[top.check_id].title if top.check_id in CHECKS else top.title,
        "count": count,
        "findings": [brief_finding(row, known) for row in first],
    }


class FindingView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("survey", str, "path")], responses=FindingSerializer
    )
    def get(self, request: Request, survey: str, key: str) -> Response:
        """One finding whole, with the page of its check."""
        record = survey_of(survey)
        row = one_of(record.findings, MISSING_FINDING, key=key)
        before = survey_before(record)
        known = _keys(before) if before else None
        whole = {
            **brief_finding(row, known),
            "sites": row.sites,
            "subject": row.subject,
            "group": row.group,
            "evidence": [Evidence(**each) for each in row.evidence],
            "toll": Toll(**row.toll),
            "remedies": [_remedy(each) for each in row.remedies],
            "page": page_of(row.check_id) if row.check_id in CHECKS else (),
            "accepted": _accepted(record).get(key),
            "together": _together(record, row),
        }
        return Response(FindingSerializer(whole).data)


class AcceptanceView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("survey", str, "path")],
        request=AcceptanceSerializer,
        responses=AcceptanceSerializer,
    )
    def put(self, request: Request, survey: str, key: str) -> Response:
        """Lives with a finding, for a reason, until a day or for good."""
        record = survey_of(survey)
        one_of(record.findings, MISSING_FINDING, key=key)
        given = AcceptanceSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        said = {
            "reason": given.validated_data["reason"],
            "until": given.validated_data.get("until"),
            "by": request.user.get_username(),
        }
        # When it was first accepted stays, whoever changes the reason later.
        row, _ = AcceptedFinding.objects.update_or_create(
            host=record.host,
            key=key,
            defaults=said,
            create_defaults=said | {"at": now_at(record.origin)},
        )
        return Response(AcceptanceSerializer(row).data)

    @extend_schema(parameters=[OpenApiParameter("survey", str, "path")], responses={204: None})
    def delete(self, request: Request, survey: str, key: str) -> Response:
        """No longer lives with it: it is back in the queue."""
        AcceptedFinding.objects.filter(host=survey_of(survey).host, key=key).delete()
        return Response(status=204)
