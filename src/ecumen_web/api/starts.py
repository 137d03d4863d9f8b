"""Where to begin: what a word means, and which addresses are worth following."""

from __future__ import annotations

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen_web.api.filters import Filters, words
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.screens.lookup import LookupHit, lookup
from ecumen_web.screens.starts import Starts, starts

_SURVEY = OpenApiParameter("survey", str, "path")


class HitSerializer(ValueSerializer[LookupHit]):
    kind = serializers.ChoiceField(choices=["account", "site"])

    class Meta:
        dataclass = LookupHit


class StartsSerializer(ValueSerializer[Starts]):
    class Meta:
        dataclass = Starts


class WordsAsked(Filters):
    q = words("What a name, an address or an account may hold.", longest=200)


class LookupEndpoint(APIView):
    @extend_schema(parameters=[_SURVEY, WordsAsked], responses=HitSerializer(many=True))
    def get(self, request: Request, survey: str) -> Response:
        """The accounts and sites that a word may mean, the likeliest first."""
        found = lookup(survey_of(survey), WordsAsked.of(request)["q"])
        return Response(HitSerializer(found, many=True).data)


class StartsEndpoint(APIView):
    @extend_schema(parameters=[_SURVEY], responses=StartsSerializer)
    def get(self, request: Request, survey: str) -> Response:
        """What visitors ask most, and what fails most, in the last day of the logs."""
        return Response(StartsSerializer(starts(survey_of(survey))).data)
