"""Who may, and what mends: permissions, personal sites, contexts and plans."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.audit.checks.contexts import ports, subtrees
from ecumen.audit.neighbours import Neighbour, neighbours
from ecumen.audit.template import Template, template
from ecumen.audit.users import WORDS, UserSite, one_plan, users_of
from ecumen.contexts.confinement import type_of
from ecumen.operations import written
from ecumen.operations.ways import Way
from ecumen.passage.remedies import mending
from ecumen.passage.request import read_request
from ecumen.passage.verdict import RungView
from ecumen.views.switches import SwitchView, switches
from ecumen.views.who import May, ladder_of, who_may
from ecumen_web.api.filters import Filters, words
from ecumen_web.api.passage import QuestionSerializer
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.surveys.loading import scene_of

MOST_CELLS = 2000
MOST_TREES = 500


@dataclass(frozen=True, slots=True)
class WayView:
    """A plan: its operations in words, as commands and in the plan format, and what else it would
    open or close.
    """

    title: str
    operations: list[str]
    shell: list[str]
    plan: list[dict[str, Any]]
    opens: list[str]
    closes: list[str]
    opened: int


def _way(way: Way) -> WayView:
    return WayView(
        way.title,
        [operation.describe() for operation in way.operations],
        way.shell,
        [written(operation) for operation in way.operations],
        [each.words for each in way.openings if each.gains],
        [each.words for each in way.openings if not each.gains],
        way.opened,
    )


@dataclass(frozen=True, slots=True)
class MendingView:
    mends: int
    of: int
    ways: list[WayView]


@dataclass(frozen=True, slots=True)
class ConditionName:
    name: str
    words: str


@dataclass(frozen=True, slots=True)
class UsersView:
    """conditions: in the order in which they bite. template: what a new account would get."""

    conditions: list[ConditionName]
    users: list[UserSite]
    template: Template | None


@dataclass(frozen=True, slots=True)
class TreeView:
    """A folder or file from which on contexts differ from the rules."""

    path: str
    kind: str
    actual: str
    expected: str
    count: int
    readable: bool | None


@dataclass(frozen=True, slots=True)
class PortView:
    engine: str
    port: int
    type: str
    allowed: bool | None


@dataclass(frozen=True, slots=True)
class ContextsView:
    """shipped: the policy is not this server's, but the one that comes with Ecumen."""

    mode: str
    shipped: bool
    trouble: str
    switches: list[SwitchView]
    trees: list[TreeView]
    more_trees: int
    ports: list[PortView]


@dataclass(frozen=True, slots=True)
class NeighboursView:
    cells: list[Neighbour]
    more: int


@dataclass(frozen=True, slots=True)
class WhoView:
    """rungs: the steps down to the path, as the account that was named takes them."""

    path: str
    kind: str | None
    may: list[May]
    rungs: list[RungView]


class MendingSerializer(ValueSerializer[MendingView]):
    class Meta:
        dataclass = MendingView


class UsersSerializer(ValueSerializer[UsersView]):
    class Meta:
        dataclass = UsersView


class ContextsSerializer(ValueSerializer[ContextsView]):
    class Meta:
        dataclass = ContextsView


class NeighboursSerializer(ValueSerializer[NeighboursView]):
    class Meta:
        dataclass = NeighboursView


class WhoSerializer(ValueSerializer[WhoView]):
    class Meta:
        dataclass = WhoView


class ChosenSerializer(serializers.Serializer[object]):
    accounts = serializers.ListField(child=serializers.CharField(max_length=300), max_length=2000)


_SURVEY = OpenApiParameter("survey", str, "path")


class MendingEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_mending",
        parameters=[_SURVEY, QuestionSerializer],
        responses=MendingSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """What mends a request's obstacles, the least opening first."""
        scene = scene_of(survey_of(survey).file)
        found = mending(scene.follower, read_request(**QuestionSerializer.of(request)))
        view = MendingView(found.mends, found.of, [_way(way) for way in found.ways])
        return Response(MendingSerializer(view).data)


class UsersEndpoint(APIView):
    @extend_schema(operation_id="surveys_users", parameters=[_SURVEY], responses=UsersSerializer)
    def get(self, request: Request, survey: str) -> Response:
        """Every account against the conditions that a personal site needs."""
        scene = scene_of(survey_of(survey).file)
        names = [ConditionName(name, words) for name, words in WORDS.items()]
        view = UsersView(names, users_of(scene), template(scene))
        return Response(UsersSerializer(view).data)

    @extend_schema(
        operation_id="surveys_users_plan",
        parameters=[_SURVEY],
        request=ChosenSerializer,
        responses=MendingSerializer,
    )
    def post(self, request: Request, survey: str) -> Response:
        """One plan for the chosen accounts; nothing is changed."""
        scene = scene_of(survey_of(survey).file)
        given = ChosenSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        accounts = given.validated_data["accounts"]
        found = one_plan(scene, accounts)
        view = MendingView(len(accounts), len(accounts), [_way(way) for way in found])
        return Response(MendingSerializer(view).data)


class ContextsEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_contexts", parameters=[_SURVEY], responses=ContextsSerializer
    )
    def get(self, request: Request, survey: str) -> Response:
        """Policy switches with what depends on them, subtrees that differ, and ports."""
        scene = scene_of(survey_of(survey).file)
        confinement = scene.follower.confinement
        trees = [
            TreeView(t.top.path, t.top.kind.value, t.actual, type_of(t.expected) or "", t.count,
                     t.readable)
            for t in subtrees(scene)
        ]  # fmt: skip
        uses = [PortView(use.engine, use.port, use.type, use.allowed) for use in ports(scene)]
        view = ContextsView(
            confinement.mode,
            confinement.shipped,
            confinement.trouble or confinement.unruled,
            scene.once("switches", switches),
            trees[:MOST_TREES],
            max(0, len(trees) - MOST_TREES),
            uses,
        )
        return Response(ContextsSerializer(view).data)


class NeighboursEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_neighbours", parameters=[_SURVEY], responses=NeighboursSerializer
    )
    def get(self, request: Request, survey: str) -> Response:
        """Which owner can read or change what another keeps private."""
        scene = scene_of(survey_of(survey).file)
        # As long as the scene is kept, its matrix is: owners times owners is the dearest thing to
        # work out here.
        cells = scene.once("neighbours", neighbours)
        view = NeighboursView(cells[:MOST_CELLS], max(0, len(cells) - MOST_CELLS))
        return Response(NeighboursSerializer(view).data)


class WhoAsked(Filters):
    path = serializers.RegexField(
        r"^/",
        max_length=4096,
        trim_whitespace=False,
        error_messages={"invalid": "A path begins with /."},
    )

    def get_fields(self) -> dict[str, Any]:
        # Its name is a word of Python, so it is no attribute.
        return {**super().get_fields(), "as": words("An account whose steps are told.")}


class WhoEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_who",
        parameters=[
            _SURVEY,
            WhoAsked,
        ],
        responses=WhoSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """Who may read, write or pass a path, with the step that decides."""
        scene = scene_of(survey_of(survey).file)
        asked = WhoAsked.of(request)
        path, account = asked["path"], asked["as"]
        entry = scene.survey.files.get(path.rstrip("/") or "/")
        rungs = ladder_of(scene.survey, path, account) if account else []
        kind = entry.kind.value if entry else None
        view = WhoView(path, kind, who_may(scene.survey, path), rungs)
        return Response(WhoSerializer(view).data)
