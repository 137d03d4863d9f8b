"""Addresses and ports as lanes, with the names that are claimed on each."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import chain, islice

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.views.lanes import Lane, LaneName, lanes
from ecumen_web.api.filters import Filters, words
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.surveys.loading import scene_of

MOST_NAMES = 120  # of a lane


@dataclass(frozen=True, slots=True)
class Bindings:
    """names: how many are claimed in all. Of a lane with many only those that are contested, whose
    site fails, or that are patterns are sent, and of folders that are sites those alone; a search
    finds the others.
    """

    names: int
    lanes: list[Lane]


class BindingsSerializer(ValueSerializer[Bindings]):
    class Meta:
        dataclass = Bindings


@lru_cache(maxsize=2)
def lanes_of(file: str) -> tuple[tuple[Lane, list[str]], ...]:
    """Each lane, with the texts that are looked for in its names, in their order."""
    found = tuple(lanes(scene_of(file)))
    for lane in found:
        # Lost names first: they are what somebody looks for.
        lane.names.sort(key=lambda name: name.wins)
    return tuple(
        (lane, [f"{name.name}\n{name.site.lower()}" for name in lane.names]) for lane in found
    )


class NamesAsked(Filters):
    q = words("Only names that hold this text.")


class BindingsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("survey", str, "path"),
            NamesAsked,
        ],
        responses=BindingsSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """Every lane of a survey."""
        text = NamesAsked.of(request)["q"].lower()
        record = survey_of(survey)
        whole = lanes_of(record.file)
        failing = frozenset(record.sites.filter(state="blocked").values_list("position", flat=True))
        shown = []
        for lane, texts in whole:
            if text:
                held = (at for at, each in enumerate(texts) if text in each)
                names = [lane.names[at] for at in islice(held, MOST_NAMES)]
            else:
                own = [
                    n for n in lane.names if not n.in_folder or not n.wins or n.number in failing
                ]
                names = list(_odd(own, failing)) if len(own) > MOST_NAMES else own
            # An address or a port is looked for by the same words.
            if text and not names and text not in f"{lane.address}:{lane.port}":
                continue
            names = [replace(n, fails=True) if n.number in failing else n for n in names]
            plain = sum(not n.in_folder for n in lane.names)
            listed = sum(not n.in_folder for n in names)
            claimed = plain if listed < plain else None
            shown.append(replace(lane, names=names, claimed=claimed))
        count = sum(len(texts) for _, texts in whole)
        return Response(BindingsSerializer(Bindings(count, shown)).data)


def _odd(own: Collection[LaneName], failing: Collection[int]) -> Iterator[LaneName]:
    """Names that are lost to another site, those whose site fails, and patterns; some of each."""
    ranked: tuple[list[LaneName], ...] = ([], [], [])
    for name in own:
        if not name.wins:
            ranked[0].append(name)
        elif name.number in failing:
            ranked[1].append(name)
        elif not name.exact:
            ranked[2].append(name)
    return chain(*(names[: MOST_NAMES // len(ranked)] for names in ranked))
