"""The real request, sent from here, and what came back beside what was predicted."""

from __future__ import annotations

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.passage.request import read_request
from ecumen_web.api.passage import QuestionSerializer
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.explaining.replies import AskedServer, ask_server
from ecumen_web.surveys.loading import scene_of


class AskedServerSerializer(ValueSerializer[AskedServer]):
    class Meta:
        dataclass = AskedServer


class ReplyView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("survey", str, "path")],
        request=QuestionSerializer,
        responses=AskedServerSerializer,
    )
    def post(self, request: Request, survey: str) -> Response:
        """Sends the request to the surveyed server, and lays what comes back beside what was
        predicted for whoever asks from here."""
        asked = QuestionSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        question = read_request(**asked.validated_data)
        record = survey_of(survey)
        asked_server = ask_server(scene_of(record.file), question, record.origin)
        return Response(AskedServerSerializer(asked_server).data)
