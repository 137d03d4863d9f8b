"""Every site of a survey, for the overview."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen_web.api.surveys import SurveySerializer, survey_of
from ecumen_web.store.models import SiteRecord


class SiteSerializer(serializers.ModelSerializer[SiteRecord]):
    state = serializers.ChoiceField(choices=["ok", "diverted", "blocked", "unsure"])

    class Meta:
        model = SiteRecord
        fields = (
            "id", "engine", "name", "personal", "declared_at", "binding", "root", "owner", "url",
            "to", "state", "status", "gate", "reason", "obstacles",
            "behind", "impact",
        )  # fmt: skip


class OverviewSerializer(serializers.Serializer[object]):
    survey = SurveySerializer()
    sites = SiteSerializer(many=True)


class SitesView(APIView):
    @extend_schema(responses=OverviewSerializer)
    def get(self, request: Request, survey: str) -> Response:
        """A survey with all its sites and what their front pages do."""
        record = survey_of(survey)
        return Response(OverviewSerializer({"survey": record, "sites": record.sites.all()}).data)
