"""The surveys that are loaded, and loading another."""

from __future__ import annotations

from django.conf import settings
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import NotFound
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen_web.api.jobs import JobSerializer
from ecumen_web.api.problems import one_of
from ecumen_web.queue import ask_for_load
from ecumen_web.store.models import SurveyRecord
from ecumen_web.surveys.loading import keep_file, remove


class BreakSerializer(serializers.Serializer[object]):
    engine = serializers.CharField()
    file = serializers.CharField()
    line = serializers.IntegerField()
    message = serializers.CharField()
    engine_says = serializers.BooleanField()
    runs_since = serializers.IntegerField(allow_null=True)
    behind = serializers.IntegerField()


class SurveySerializer(serializers.ModelSerializer[SurveyRecord]):
    """origin: `here` for one that this machine's own capture took, which alone reaches the live
    machine. missing: its file is gone, and nothing can be asked of it.
    """

    breaks = BreakSerializer(many=True)
    missing = serializers.SerializerMethodField()

    class Meta:
        model = SurveyRecord
        fields = (
            "id", "host", "taken_at", "loaded_at", "paths", "engines", "gaps", "breaks", "origin",
            "missing",
        )  # fmt: skip

    def get_missing(self, record: SurveyRecord) -> bool:
        return is_missing(record)


class UploadSerializer(serializers.Serializer[object]):
    file = serializers.FileField()


def survey_of(key: str) -> SurveyRecord:
    """A survey by its number, or the `latest`."""
    if key == "latest":
        latest = next((r for r in SurveyRecord.objects.all() if not is_missing(r)), None)
        if latest is None:
            raise NotFound("No survey is loaded yet: take one with ecumen survey, then load it.")
        return latest
    if not (key.isascii() and key.isdecimal() and len(key) < 19):
        raise NotFound("There is no such survey.")
    return one_of(SurveyRecord.objects, "No survey has this number: it may be gone.", pk=int(key))


def is_missing(record: SurveyRecord) -> bool:
    return not (settings.SURVEYS / record.file).is_file()


class SurveyView(APIView):
    @extend_schema(parameters=[OpenApiParameter("survey", str, "path")], responses={204: None})
    def delete(self, request: Request, survey: str) -> Response:
        """Takes a survey out of the store, with its file."""
        remove(survey_of(survey))
        return Response(status=204)


class SurveysView(APIView):
    parser_classes = (MultiPartParser,)

    @extend_schema(responses=SurveySerializer(many=True))
    def get(self, request: Request) -> Response:
        """All surveys, the latest first."""
        return Response(SurveySerializer(SurveyRecord.objects.all()[:200], many=True).data)

    @extend_schema(
        request={"multipart/form-data": UploadSerializer}, responses={202: JobSerializer}
    )
    def post(self, request: Request) -> Response:
        """Starts a job that loads a survey file."""
        given = UploadSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        job = ask_for_load(keep_file(given.validated_data["file"]))
        return Response(JobSerializer(job).data, status=202)
