"""What changed from one survey to another."""

from __future__ import annotations

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.audit.scene import Scene, Site
from ecumen.views.changes import Changes, Outcome, changes, outcome_said
from ecumen_web.api.filters import Filters
from ecumen_web.api.findings import survey_before
from ecumen_web.api.surveys import SurveySerializer, survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.store.models import SurveyRecord
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import scene_of


class ChangesSerializer(ValueSerializer[Changes]):
    class Meta:
        dataclass = Changes


class SurveyChangesSerializer(serializers.Serializer[object]):
    before = SurveySerializer()
    after = SurveySerializer()
    changes = ChangesSerializer()


class ChangesAsked(Filters):
    since = serializers.IntegerField(
        required=False, default=None, min_value=0, help_text="Another survey; else the one before."
    )


class ChangesView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("survey", str, "path"),
            ChangesAsked,
        ],
        responses=SurveyChangesSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """What changed since another survey: sites, bindings, files, accounts, findings."""
        after = survey_of(survey)
        since = ChangesAsked.of(request)["since"]
        before = survey_of(str(since)) if since is not None else survey_before(after)
        if before is None:
            raise NotFound("No earlier survey of this server is loaded.")
        scenes = (scene_of(before.file), scene_of(after.file))
        # Front pages were asked at the load; to ask those of thousands of sites again would take
        # seconds.
        known = {id(scenes[0]): _outcomes(before), id(scenes[1]): _outcomes(after)}

        def asked(scene: Scene, site: Site) -> Outcome:
            return known[id(scene)][clean(str(site.summary.place)), clean(site.name)[:300]]

        whole = changes(scenes[0], scenes[1], (_titles(before), _titles(after)), asked)
        found = {"before": before, "after": after, "changes": whole}
        return Response(SurveyChangesSerializer(found).data)


def _outcomes(record: SurveyRecord) -> dict[tuple[str, str], Outcome]:
    """The front pages, which were asked when the survey was loaded."""
    rows = record.sites.values_list("declared_at", "name", "state", "status", "reason")
    return {(at, name): outcome_said(state, status, why) for at, name, state, status, why in rows}


def _titles(record: SurveyRecord) -> dict[str, str]:
    return dict(record.findings.values_list("key", "title"))
