"""The engines: what runs, by which configuration, and what they may be told."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db.models import Sum
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.operations import written
from ecumen.views.engines import EngineState, engines, may_be_done
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.surveys.loading import scene_of


@dataclass(frozen=True, slots=True)
class TellView:
    """What an engine may be told. what: reload, start or stop; operation: in the plan format."""

    what: str
    words: str
    operation: dict[str, Any]


@dataclass(frozen=True, slots=True)
class EngineView:
    """requests_a_day: of all its sites, None where no log was read."""

    state: EngineState
    requests_a_day: int | None
    tell: list[TellView]


class EngineSerializer(ValueSerializer[EngineView]):
    class Meta:
        dataclass = EngineView


class EnginesEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_engines",
        parameters=[OpenApiParameter("survey", str, "path")],
        responses=EngineSerializer(many=True),
    )
    def get(self, request: Request, survey: str) -> Response:
        """What runs, as whom, what it has read and when, and what would be otherwise by now."""
        record = survey_of(survey)
        scene = scene_of(record.file)
        rows = record.sites.values("engine").annotate(asked=Sum("requests_a_day"))
        asked = {row["engine"]: row["asked"] for row in rows}
        found = [
            EngineView(
                state,
                asked.get(state.kind),
                [TellView(o.what, o.describe(), written(o)) for o in may_be_done(engine)],
            )
            for engine, state in zip(scene.engines, scene.once("engines", engines), strict=True)
        ]
        return Response(EngineSerializer(found, many=True).data)
