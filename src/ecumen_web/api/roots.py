"""The document roots on the path tree, with what is wrong in place."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.audit.scene import Scene
from ecumen.views.ground import GroundFolder, GroundRoot, ground, shown_root
from ecumen_web.api.filters import Filters, words
from ecumen_web.api.findings import BriefFindingSerializer, brief_finding
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.store.models import FindingRecord, SurveyRecord
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import scene_of

CONCERNS = ("root.", "index.", "listing.", "kind.", "ladder.")
MOST_DRAWN = 400  # roots; with more of them folders are drawn closed


@dataclass(frozen=True, slots=True)
class RootPlot:
    """A folder or a root, in the order in which they are drawn. closed: what is below is not sent.

    depth: how many of those before it, that it lies in, are drawn around it. more: how many right
    in it are not sent.
    """

    path: str
    name: str
    depth: int
    roots: int
    closed: bool
    more: int
    root: GroundRoot | None
    worst: str
    findings: list[dict[str, object]] = field(default_factory=list)


class _Wrong:
    """The findings that bear on roots: by what they are about, and by their first site."""

    def __init__(self, rows: Iterable[FindingRecord]) -> None:
        self.by_path: dict[str, list[FindingRecord]] = {}
        self.by_site: dict[str, list[FindingRecord]] = {}
        for row in rows:
            if not row.check_id.startswith(CONCERNS):
                continue
            path = next((each["path"] for each in row.evidence if "path" in each), None)
            if path is not None:
                self.by_path.setdefault(path, []).append(row)
            if row.sites and (path is None or not row.check_id.startswith("root.")):
                self.by_site.setdefault(row.sites[0], []).append(row)
        self.places = sorted(self.by_path)

    def within(self, folder: GroundFolder) -> list[FindingRecord]:
        """What is wrong in a root, and not in one within it; the worst first."""
        if folder.root is None:
            return []
        inner = tuple(f"{each.path}/" for each in folder.folders)
        known: dict[str, FindingRecord] = {}
        for top in {folder.path, folder.root.physical}:
            for path in self._from(top):
                if not f"{path}/".startswith(inner):
                    known |= {row.key: row for row in self.by_path[path]}
        for site in folder.root.sites:
            known |= {row.key: row for row in self.by_site.get(clean(site.name), ())}
        return sorted(known.values(), key=lambda row: row.position)

    def _from(self, top: str) -> Iterator[str]:
        """The places at and below a folder."""
        if top in self.by_path:
            yield top
        for at in range(bisect_left(self.places, f"{top}/"), len(self.places)):
            if not self.places[at].startswith(f"{top}/"):
                break
            yield self.places[at]


class GroundRootSerializer(ValueSerializer[GroundRoot]):
    class Meta:
        dataclass = GroundRoot


class PlotSerializer(serializers.Serializer[object]):
    path = serializers.CharField()
    name = serializers.CharField()
    depth = serializers.IntegerField()
    roots = serializers.IntegerField()
    closed = serializers.BooleanField()
    more = serializers.IntegerField()
    root = GroundRootSerializer(allow_null=True)
    worst = serializers.CharField()
    findings = BriefFindingSerializer(many=True)


class RootsSerializer(serializers.Serializer[object]):
    """roots: how many there are in all. plots: a tree, each folder in front of what is in it."""

    roots = serializers.IntegerField()
    within = serializers.CharField()
    plots = PlotSerializer(many=True)


class RootsAsked(Filters):
    within = words("Only what is in this folder.", exact=True)
    q = words("Only roots that hold these words.")


class RootsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("survey", str, "path"),
            RootsAsked,
        ],
        responses=RootsSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """The ground of a survey, or of one folder in it."""
        record = survey_of(survey)
        asked = RootsAsked.of(request)
        within = "/" + asked["within"].strip("/")
        return Response(_ground_of(record, record.revision, within, asked["q"]))


@lru_cache(maxsize=32)
def _ground_of(record: SurveyRecord, revision: int, within: str, words: str) -> dict[str, object]:
    """The answer; as long as a survey is not loaded anew, it stays the same."""
    scene = scene_of(record.file)
    tree = ground(scene, within, words)
    drawing = _Drawing(scene, _Wrong(record.findings.all()), tree.roots <= MOST_DRAWN)
    drawing.draw(tree, 0)
    whole = {"roots": tree.roots, "within": within, "plots": drawing.plots}
    return dict(RootsSerializer(whole).data)


class _Drawing:
    """whole: everything is drawn; else folders are closed, and of those with many roots only some
    are drawn, what is wrong first.
    """

    def __init__(self, scene: Scene, wrong: _Wrong, whole: bool) -> None:
        self.scene = scene
        self.wrong = wrong
        self.whole = whole
        self.plots: list[RootPlot] = []

    def draw(self, folder: GroundFolder, depth: int) -> None:
        # Two levels stay open, so that even thousands of roots show where they lie.
        closed = bool(folder.folders) and not self.whole and depth >= 2
        found = self.wrong.within(folder)
        inner = [] if closed else folder.folders
        if len(inner) > MOST_DRAWN:
            inner = sorted(inner, key=lambda each: not self.wrong.within(each))[:MOST_DRAWN]
        root = folder.root
        self.plots.append(
            RootPlot(
                folder.path,
                folder.name,
                depth,
                folder.roots,
                closed,
                0 if closed else len(folder.folders) - len(inner),
                None if root is None else shown_root(self.scene, root),
                found[0].impact if found else "",
                [brief_finding(row, None) for row in found],
            )
        )
        for each in inner:
            self.draw(each, depth + 1)
