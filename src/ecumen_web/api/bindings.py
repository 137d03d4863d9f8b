"""Addresses and ports as lanes, with the names that are claimed on each."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView
from rest_framework_dataclasses.serializers import DataclassSerializer

from ecumen.audit.lanes import Lane, lanes
from ecumen_web.api.surveys import survey_of
from ecumen_web.store.loading import scene_of

MOST_NAMES = 120  # of a lane; those that are lost to another site come first


@dataclass(frozen=True, slots=True)
class Bindings:
    """names: how many are claimed in all. Of a lane with many only the first are sent; a search
    finds the others."""

    names: int
    lanes: list[Lane]


class BindingsSerializer(DataclassSerializer[Bindings]):
    class Meta:
        dataclass = Bindings


@lru_cache(maxsize=4)
def _lanes_of(file: str) -> tuple[Lane, ...]:
    return tuple(lanes(scene_of(file)))


class BindingsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("survey", str, "path"),
            OpenApiParameter("q", str, description="Only names that hold this text."),
        ],
        responses=BindingsSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """Every lane of a survey."""
        words = request.query_params.get("q", "").strip().lower()
        whole = _lanes_of(survey_of(survey).file)
        shown = []
        for lane in whole:
            names = [n for n in lane.names if words in n.name or words in n.site.lower()]
            if words and not names and words not in f"{lane.address}:{lane.port}":
                continue
            names.sort(key=lambda name: name.wins)
            shown.append(replace(lane, names=names[:MOST_NAMES]))
        count = sum(len(lane.names) for lane in whole)
        return Response(BindingsSerializer(Bindings(count, shown)).data)
