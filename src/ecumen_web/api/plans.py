"""Plans that are being written, what they would change, having them done, and the ledger."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, cast

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import NotFound, PermissionDenied, Throttled, ValidationError
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.audit import CHECKS
from ecumen.audit.finding import Finding
from ecumen.audit.neighbours import Neighbour
from ecumen.errors import EcumenError
from ecumen.operations import read_operation, written
from ecumen.rehearsal import Fared, Rehearsal
from ecumen_web.api.findings import MISSING_FINDING, together_of
from ecumen_web.api.jobs import JobSerializer
from ecumen_web.api.problems import one_of
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.changing import asked_of_agent, operations_of, rehearsed
from ecumen_web.queue import ask_for_change
from ecumen_web.store.models import PlanRecord, SurveyRecord
from ecumen_web.store.translate import clean, remedy_of
from ecumen_web.throttle import MARK, SignInTrial

_MISSING = "No plan has this number: it may have been thrown away."

MOST_PLANS = 100
MOST_STEPS = 5000
MOST_SHOWN = 200  # of each kind that a rehearsal finds
CONFIRMED_FOR = timedelta(minutes=15)
_NUMBER = OpenApiParameter("number", int, "path")


@dataclass(frozen=True, slots=True)
class StepView:
    """One step of a plan. at: the path that it changes. shell: the command to copy."""

    words: str
    at: str
    shell: str


class StepSerializer(ValueSerializer[StepView]):
    class Meta:
        dataclass = StepView


class CheckedSerializer(serializers.Serializer[object]):
    url = serializers.CharField()
    rehearsed = serializers.IntegerField(allow_null=True)
    came = serializers.CharField(allow_null=True)
    trouble = serializers.CharField(allow_blank=True)


class PlanSerializer(serializers.ModelSerializer[PlanRecord]):
    """steps: its operations in words. entry: its number in the ledger, once it was done."""

    steps = serializers.SerializerMethodField()
    checked = CheckedSerializer(many=True)

    class Meta:
        model = PlanRecord
        fields = ("id", "title", "why", "by", "changed_at", "entry", "steps", "checked")

    @extend_schema(responses=StepSerializer(many=True))
    def get_steps(self, plan: PlanRecord) -> list[dict[str, str]]:
        return [
            {"words": clean(o.describe()), "at": clean(o.at), "shell": clean(o.shell())}
            for o in operations_of(plan)
        ]


class AdditionSerializer(serializers.Serializer[object]):
    """What is added: operations in the plan format, or the remedy of a finding by its number, or
    what mends all of the finding's cause.
    """

    plan = serializers.IntegerField(required=False, allow_null=True, default=None)
    title = serializers.CharField(max_length=200, required=False, default="", allow_blank=True)
    operations = serializers.ListField(
        child=serializers.DictField(), max_length=MOST_STEPS, required=False, default=list
    )
    finding = serializers.CharField(max_length=16, required=False, default="", allow_blank=True)
    remedy = serializers.IntegerField(min_value=0, required=False, default=0)
    together = serializers.BooleanField(required=False, default=False)


class PlanChangeSerializer(serializers.Serializer[object]):
    """order: the steps that stay, by their numbers of before."""

    title = serializers.CharField(max_length=200, required=False)
    order = serializers.ListField(
        child=serializers.IntegerField(min_value=0), max_length=MOST_STEPS, required=False
    )


class ApplySerializer(serializers.Serializer[object]):
    """although: what gets worse, by its names. password: asked again after some minutes. minutes:
    after which it is taken back unless somebody keeps it; 0: it stays.
    """

    although = serializers.ListField(
        child=serializers.CharField(max_length=1000), max_length=1000, required=False, default=list
    )
    password = serializers.CharField(
        max_length=500, trim_whitespace=False, required=False, default="", allow_blank=True
    )
    minutes = serializers.IntegerField(min_value=0, max_value=1440, required=False, default=0)


class PlansView(APIView):
    @extend_schema(responses=PlanSerializer(many=True))
    def get(self, request: Request) -> Response:
        """Plans of this server, the one that was changed last first."""
        host = survey_of("latest").host
        rows = PlanRecord.objects.filter(host=host)[:MOST_PLANS]
        return Response(PlanSerializer(rows, many=True).data)

    @extend_schema(request=AdditionSerializer, responses=PlanSerializer)
    def post(self, request: Request) -> Response:
        """Adds steps to a plan: to the one that is named, or the one that is being written."""
        given = AdditionSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        asked, record = given.validated_data, survey_of("latest")
        operations, title = _added(record, asked)
        if not operations:
            raise ValidationError({"detail": "Nothing of it can be done by a plan."})
        with transaction.atomic():
            drafts = PlanRecord.objects.filter(host=record.host, entry=None)
            number = asked["plan"]
            plan = one_of(drafts, _MISSING, pk=number) if number else drafts.first()
            if plan is None:
                by = request.user.get_username()
                plan = PlanRecord(host=record.host, title=title[:200], by=by)
            new = [each for each in operations if each not in plan.operations]
            plan.operations = (plan.operations + new)[:MOST_STEPS]
            if asked["finding"] and asked["finding"] not in plan.why:
                plan.why = [*plan.why, asked["finding"]]
            plan.save()
        return Response(PlanSerializer(plan).data)


def _added(record: SurveyRecord, asked: dict[str, Any]) -> tuple[list[dict[str, Any]], str]:
    """The operations in the plan format, and what they are for."""
    if not asked["finding"]:
        given = [read_operation(each) for each in asked["operations"]]
        return [written(each) for each in given], asked["title"] or "A plan"
    row = one_of(record.findings, MISSING_FINDING, key=asked["finding"])
    title = row.title
    if asked["together"]:
        remedy = together_of(record, row)
        title = CHECKS[row.check_id].title if row.check_id in CHECKS else row.title
    else:
        rows = row.remedies[asked["remedy"] :]
        remedy = remedy_of(rows[0]) if rows else None
    if remedy is None:
        raise NotFound("This finding has no such remedy.")
    return [written(each) for each in remedy.operations], asked["title"] or title


class PlanView(APIView):
    @extend_schema(parameters=[_NUMBER], responses=PlanSerializer)
    def get(self, request: Request, number: int) -> Response:
        """A plan."""
        return Response(PlanSerializer(one_of(PlanRecord.objects, _MISSING, pk=number)).data)

    @extend_schema(parameters=[_NUMBER], request=PlanChangeSerializer, responses=PlanSerializer)
    def patch(self, request: Request, number: int) -> Response:
        """Names a plan, puts its steps in another order, leaves some out."""
        given = PlanChangeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        with transaction.atomic():
            plan = one_of(PlanRecord.objects, _MISSING, pk=number, entry=None)
            plan.title = given.validated_data.get("title", plan.title)
            order = given.validated_data.get("order")
            if order is not None:
                if len(set(order)) != len(order) or any(n >= len(plan.operations) for n in order):
                    raise ValidationError({"detail": "The steps are not those of this plan."})
                plan.operations = [plan.operations[at] for at in order]
            plan.save()
        return Response(PlanSerializer(plan).data)

    @extend_schema(parameters=[_NUMBER], responses={204: None})
    def delete(self, request: Request, number: int) -> Response:
        """Throws a plan away that was not done."""
        one_of(PlanRecord.objects, _MISSING, pk=number, entry=None).delete()
        return Response(status=204)


class ApplyView(APIView):
    @extend_schema(parameters=[_NUMBER], request=ApplySerializer, responses={202: JobSerializer})
    def post(self, request: Request, number: int) -> Response:
        """Starts a job that has the agent do a plan."""
        given = ApplySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        confirm(request, given.validated_data["password"])
        plan = one_of(PlanRecord.objects, _MISSING, pk=number, entry=None)
        asked = {
            "method": "apply",
            "who": request.user.get_username(),
            "although": given.validated_data["although"],
            "within": 60 * given.validated_data["minutes"],
        }
        return Response(JobSerializer(ask_for_change(plan, asked)).data, status=202)


def confirm(request: Request, password: str) -> None:
    """Whoever changes a server said the password a short while ago. Raises PermissionDenied."""
    session = request._request.session
    said = session.get("confirmed_at", 0.0)
    now = timezone.now()
    if password:
        _own_password(request, password)
        session["confirmed_at"] = said = now.timestamp()
    if said < (now - CONFIRMED_FOR).timestamp():
        raise PermissionDenied("Say your password once more: this changes the server.")


def _own_password(request: Request, password: str) -> None:
    """Guesses wait as they do where one signs in. Raises PermissionDenied, Throttled."""
    user = cast(User, request.user)
    address = request.META.get("REMOTE_ADDR", "")
    trial = SignInTrial.of(user.get_username(), address, request.COOKIES.get(MARK))
    wait = trial.wait()
    if wait > 0:
        raise Throttled(wait=wait)
    if not user.check_password(password):
        trial.failed()
        raise PermissionDenied("This is not your password.")
    trial.succeeded()


# --- the rehearsal ---


@dataclass(frozen=True, slots=True)
class Worse:
    """What gets worse: the name by which somebody says yes to it, in words, and what kind of thing:
    those of one kind are said yes to at once.
    """

    name: str
    words: str
    kind: str


@dataclass(frozen=True, slots=True)
class FindingLine:
    key: str
    impact: str
    title: str


@dataclass(frozen=True, slots=True)
class FaredLine:
    page: Fared
    others: int


@dataclass(frozen=True, slots=True)
class RehearsalView:
    """standings: how each step stands to the server: due, done or stale. counts: how many addresses
    have each fate. addresses: of each site and fate the first one, with how many others there are;
    more: sites beyond those. openings: what accounts gain and lose.
    """

    summary: str
    stale: bool
    standings: list[str]
    asked: int
    addresses: list[FaredLine]
    counts: dict[str, int]
    more: int
    openings: list[str]
    exposed: list[Neighbour]
    hidden: list[Neighbour]
    mended: list[FindingLine]
    new: list[FindingLine]
    reloads: list[str]
    worse: list[Worse]


class RehearsalSerializer(ValueSerializer[RehearsalView]):
    class Meta:
        dataclass = RehearsalView


class RehearsalEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_rehearsal",
        parameters=[OpenApiParameter("survey", str, "path"), _NUMBER],
        responses=RehearsalSerializer,
    )
    def get(self, request: Request, survey: str, number: int) -> Response:
        """What a plan would change, before anything is touched."""
        plan = one_of(PlanRecord.objects, _MISSING, pk=number)
        found = rehearsed(survey_of(survey), operations_of(plan))
        return Response(RehearsalSerializer(_shown(found)).data)


def _shown(found: Rehearsal) -> RehearsalView:
    sites = Counter((each.fate, each.of) for each in found.addresses)
    # The worst first, and front pages in front: the first of a site stands for it.
    firsts = {(each.fate, each.of): each for each in reversed(found.addresses)}
    lines = [FaredLine(firsts[key], count - 1) for key, count in sites.items()]
    return RehearsalView(
        summary=found.summary,
        stale=found.stale,
        standings=[step.standing.value for step in found.steps],
        asked=found.asked,
        addresses=lines[:MOST_SHOWN],
        counts=dict(Counter(each.fate.value for each in found.addresses)),
        more=max(0, len(lines) - MOST_SHOWN),
        openings=[clean(each.words) for each in found.openings[:MOST_SHOWN]],
        exposed=found.exposed[:MOST_SHOWN],
        hidden=found.hidden[:MOST_SHOWN],
        mended=list(map(_line, found.mended[:MOST_SHOWN])),
        new=list(map(_line, found.new[:MOST_SHOWN])),
        reloads=found.reloads,
        worse=_worse(found),
    )


def _worse(found: Rehearsal) -> list[Worse]:
    kinds = {each.key: each.id for each in found.new}
    return [
        Worse(clean(name), clean(words), kinds.get(name, name))
        for name, words in found.worsened.items()
    ]


def _line(finding: Finding) -> FindingLine:
    return FindingLine(finding.key, finding.impact.value, clean(finding.title))


# --- the ledger ---


class EntrySerializer(serializers.Serializer[object]):
    """at: seconds since 1970, UTC. state: done, undone, taken back, refused, begun, going back.
    until: when it is taken back unless somebody keeps it, by the server's clock.
    """

    id = serializers.IntegerField()
    at = serializers.IntegerField()
    who = serializers.CharField()
    title = serializers.CharField()
    state = serializers.CharField()
    said = serializers.CharField()
    steps = serializers.ListField(child=serializers.CharField())
    why = serializers.ListField(child=serializers.CharField())
    checked = CheckedSerializer(many=True)
    until = serializers.IntegerField(allow_null=True)


class LedgerSerializer(serializers.Serializer[object]):
    """trouble: why the ledger cannot be read; "" where it can."""

    trouble = serializers.CharField(allow_blank=True)
    entries = EntrySerializer(many=True)


class LedgerView(APIView):
    @extend_schema(responses=LedgerSerializer)
    def get(self, request: Request) -> Response:
        """What was done to this server, the latest first."""
        record = survey_of("latest")
        try:
            rows = asked_of_agent(record, "ledger", {"most": 200}, lambda *step: None)
        except EcumenError as error:
            return Response({"trouble": str(error), "entries": []})
        plans = PlanRecord.objects.filter(host=record.host, entry__isnull=False)
        checked = dict(plans.values_list("entry", "checked"))
        entries = [
            {
                **row,
                "title": clean(row["title"]),
                "said": clean(row["said"]),
                "steps": [clean(step) for step in row["steps"]],
                "checked": checked.get(row["id"], []),
            }
            for row in rows
        ]
        return Response({"trouble": "", "entries": entries})


class UndoView(APIView):
    @extend_schema(parameters=[_NUMBER], request=ApplySerializer, responses={202: JobSerializer})
    def post(self, request: Request, number: int) -> Response:
        """Starts a job that has the agent take an entry of the ledger back."""
        given = ApplySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        confirm(request, given.validated_data["password"])
        asked = {"method": "undo", "entry": number, "who": request.user.get_username()}
        return Response(JobSerializer(ask_for_change(None, asked)).data, status=202)


class KeepView(APIView):
    @extend_schema(parameters=[_NUMBER], request=ApplySerializer, responses={204: None})
    def post(self, request: Request, number: int) -> Response:
        """Has an entry stay that would be taken back."""
        given = ApplySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        confirm(request, given.validated_data["password"])
        try:
            asked_of_agent(survey_of("latest"), "keep", {"entry": number}, lambda *step: None)
        except EcumenError as error:
            raise ValidationError({"detail": str(error)}) from error
        return Response(status=204)
