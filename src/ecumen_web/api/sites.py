"""Every site of a survey, for the overview."""

from __future__ import annotations

import gzip
from functools import lru_cache
from typing import cast

from django.http import HttpResponse
from django.utils.cache import patch_vary_headers
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.renderers import JSONRenderer
from rest_framework.request import Request
from rest_framework.views import APIView

from ecumen_web.api.surveys import SurveySerializer, survey_of
from ecumen_web.store.models import SiteRecord, SurveyRecord


class SiteSerializer(serializers.ModelSerializer[SiteRecord]):
    state = serializers.ChoiceField(choices=["ok", "diverted", "blocked", "unsure"])

    class Meta:
        model = SiteRecord
        fields = (
            "id", "engine", "name", "personal", "declared_at", "binding", "root", "owner", "volume",
            "url", "to", "state", "status", "gate", "reason", "obstacles", "behind", "impact",
            "requests_a_day",
        )  # fmt: skip


class OverviewSerializer(serializers.Serializer[object]):
    survey = SurveySerializer()
    sites = SiteSerializer(many=True)


class SitesView(APIView):
    @extend_schema(responses=OverviewSerializer)
    def get(self, request: Request, survey: str) -> HttpResponse:
        """A survey with all its sites and what their front pages do."""
        record = survey_of(survey)
        plain, packed = _written(record, record.revision)
        # Packed once, not for each request: ten thousand sites, 4.5 MB, go over the wire as 0.2.
        packs = "gzip" in request.headers.get("Accept-Encoding", "")
        answer = HttpResponse(packed if packs else plain, content_type="application/json")
        if packs:
            answer["Content-Encoding"] = "gzip"
        patch_vary_headers(answer, ["Accept-Encoding"])
        return answer


@lru_cache(maxsize=4)
def _written(record: SurveyRecord, revision: int) -> tuple[bytes, bytes]:
    """The answer as it is sent, plain and packed; as long as a survey is not loaded anew, it stays
    the same.
    """
    # Rows as they stand in the store: for ten thousand sites a serializer takes a second.
    whole = {
        "survey": SurveySerializer(record).data,
        "sites": list(record.sites.values(*SiteSerializer.Meta.fields)),
    }
    plain = cast(bytes, JSONRenderer().render(whole))
    return plain, gzip.compress(plain, 3)
