"""What happens to an address."""

from __future__ import annotations

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.passage import Passage
from ecumen.passage.request import read_request
from ecumen_web.api.filters import Filters
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.surveys.loading import follower_of


class PassageSerializer(ValueSerializer[Passage]):
    class Meta:
        dataclass = Passage


class QuestionSerializer(Filters):
    url = serializers.CharField(max_length=65536)
    to = serializers.CharField(max_length=100, required=False)
    source = serializers.CharField(max_length=100, required=False)  # type: ignore[assignment]
    method = serializers.CharField(max_length=40, required=False, default="GET")


class PassageView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("survey", str, "path"), QuestionSerializer],
        responses=PassageSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """The passage of one request on a survey: every gate, and every obstacle."""
        question = read_request(**QuestionSerializer.of(request))
        passage = follower_of(survey_of(survey).file).follow(question)
        return Response(PassageSerializer(passage).data)
