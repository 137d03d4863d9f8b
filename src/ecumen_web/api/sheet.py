"""One site whole."""

from __future__ import annotations

import json
from functools import lru_cache

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.audit.scene import Site
from ecumen.views.sheet import Sheet, sheet
from ecumen_web.api.filters import Filters, words
from ecumen_web.api.findings import BriefFindingSerializer, brief_finding
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.store.models import LogSite
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import scene_of


class SheetSerializer(ValueSerializer[Sheet]):
    class Meta:
        dataclass = Sheet


class WholeSiteSerializer(serializers.Serializer[object]):
    """log_key: as the questions about logs call the site, None where no line of it was read."""

    sheet = SheetSerializer()
    findings = BriefFindingSerializer(many=True)
    log_key = serializers.CharField(allow_null=True)
    requests_a_day = serializers.IntegerField(allow_null=True)


@lru_cache(maxsize=2)
def _sites_of(file: str) -> dict[str, list[Site]]:
    """The sites of a survey by the place where they are declared."""
    found: dict[str, list[Site]] = {}
    for site in scene_of(file).sites:
        found.setdefault(clean(str(site.summary.place)), []).append(site)
    return found


class SiteAsked(Filters):
    at = serializers.CharField(
        max_length=8192, trim_whitespace=False, help_text="Where it is declared."
    )
    name = words("Of a personal site.", exact=True)


class SheetView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("survey", str, "path"),
            SiteAsked,
        ],
        responses=WholeSiteSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """Everything about one site: how it is reached, where it lives, what is wrong with it."""
        record = survey_of(survey)
        asked = SiteAsked.of(request)
        at, name = asked["at"], asked["name"]
        scene = scene_of(record.file)
        for site in _sites_of(record.file).get(at, ()):
            if name in ("", clean(site.name)):
                break
        else:
            raise NotFound("This survey has no such site.")
        # The store looks for the text, which may also stand within another name.
        name = clean(site.name)
        likely = record.findings.filter(sites__icontains=json.dumps(name)[1:-1])
        rows = [row for row in likely if name in row.sites]
        findings = [brief_finding(row, None) for row in rows]
        row = record.sites.filter(declared_at=at, name=name[:300]).first()
        known = LogSite.objects.filter(host=record.host, key=clean(site.subject)).exists()
        whole = {
            "sheet": sheet(scene, site),
            "findings": findings,
            "log_key": clean(site.subject) if known else None,
            "requests_a_day": row.requests_a_day if row is not None else None,
        }
        return Response(WholeSiteSerializer(whole).data)
