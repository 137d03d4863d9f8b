"""A new site: what is proposed for it by what is usual on the server, and what comes of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.audit.scene import Scene, Site
from ecumen.engines.draft import LOCAL, read_binding
from ecumen.founding import Clash, Proposal, Wish, propose
from ecumen.founding.closing import closing
from ecumen.founding.naming import naming
from ecumen.founding.proposal import LEAST_PERSON, opening
from ecumen.founding.roster import EVERYONE
from ecumen.operations import Operation, written
from ecumen.passage import Passage
from ecumen_web.api.filters import Filters, words
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.surveys.loading import scene_of

MOST_OWNERS = 5000


@dataclass(frozen=True, slots=True)
class PartView:
    """One part of a site that is to be: what it is, and why so; "" where it was said."""

    part: str
    value: str
    why: str


@dataclass(frozen=True, slots=True)
class WrittenView:
    path: str
    text: str


@dataclass(frozen=True, slots=True)
class FoundingView:
    """owners: accounts of people. engines: kinds that are here. operations: in the plan format.
    outside, inside: what the first visitor meets, and one on the server itself.
    """

    owners: list[str]
    engines: list[str]
    engine: str
    possible: bool
    title: str
    parts: list[PartView]
    clashes: list[Clash]
    texts: list[WrittenView]
    steps: list[str]
    operations: list[dict[str, Any]]
    outside: Passage | None
    inside: Passage | None


class FoundingSerializer(ValueSerializer[FoundingView]):
    class Meta:
        dataclass = FoundingView


class WishSerializer(Filters):
    """bindings, names, seen_by: several with blanks between."""

    owner = words("the account whose it shall be", 300)
    name = words("by which it shall be asked for", 300)
    engine = words("its kind", 20)
    folder = words("that is served")
    names = words("all its names", 10_000)
    bindings = words("addresses with ports", 1000)
    log = words("where its lines go")
    file = words("the name of the file of its configuration", 255)
    seen_by = words("networks; local for the server itself, everyone for all", 10_000)


class FoundingEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_new_site",
        parameters=[OpenApiParameter("survey", str, "path"), WishSerializer],
        responses=FoundingSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """What is proposed for a new site. Nothing is changed."""
        scene = scene_of(survey_of(survey).file)
        asked = WishSerializer.of(request)
        found = None
        if asked["owner"] and asked["name"]:
            found = propose(scene, _wish(asked))
        return Response(FoundingSerializer(_view(scene, found)).data)


@dataclass(frozen=True, slots=True)
class OpeningView:
    """Who is let in to a site. now: as in a wish; None where that was written by hand, with why no
    plan changes it. operations: that let in those who were asked for, in the plan format. closing:
    those that take it out of service; kept: why there are none.
    """

    now: str | None
    why: str
    title: str
    operations: list[dict[str, Any]]
    closing_title: str
    closing: list[dict[str, Any]]
    kept: str


class OpeningSerializer(ValueSerializer[OpeningView]):
    class Meta:
        dataclass = OpeningView


class LetInSerializer(Filters):
    at = words("where the site is declared")
    seen_by = words("networks; local for the server itself, everyone for all", 10_000)


class OpeningEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_opening",
        parameters=[OpenApiParameter("survey", str, "path"), LetInSerializer],
        responses=OpeningSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """Who is let in to a site, and the steps that let others in. Nothing is changed."""
        scene = scene_of(survey_of(survey).file)
        asked = LetInSerializer.of(request)
        site = _site_at(scene, asked["at"])
        return Response(OpeningSerializer(_opening(scene, site, asked["seen_by"])).data)


def _opening(scene: Scene, site: Site, asked: str) -> OpeningView:
    file = site.summary.place.file
    now = site.engine.seen_by("\n".join(scene.text(file)))
    why, title, kept = "", "", ""
    steps: tuple[Operation, ...] = ()
    closed: tuple[Operation, ...] = ()
    seen_by = () if asked in ("", EVERYONE) else tuple(asked.split())
    if now is None:
        why = f"{file} was written by hand: who is let in is to be said there"
    elif asked and seen_by != now:
        title = f"{site.name} is seen by {' '.join(seen_by) or EVERYONE}"
        try:
            steps = opening(scene, site, seen_by)
        except (LookupError, ValueError) as error:
            raise serializers.ValidationError({"seen_by": str(error)}) from error
    try:
        closed = () if asked else closing(scene, site)
    except LookupError as error:
        kept = str(error)
    return OpeningView(
        None if now is None else " ".join(now) or EVERYONE,
        why,
        title,
        [written(each) for each in steps],
        f"{site.name} out of service",
        [written(each) for each in closed],
        kept,
    )


@dataclass(frozen=True, slots=True)
class NamingView:
    """Other names for a site. now: those that it has. lines: those that go and come, with `-` or
    `+` in front; operations: in the plan format.
    """

    now: list[str]
    title: str
    lines: list[str]
    operations: list[dict[str, Any]]


class NamingSerializer(ValueSerializer[NamingView]):
    class Meta:
        dataclass = NamingView


class CalledSerializer(Filters):
    at = words("where the site is declared")
    names = words("all its names, its own first; several with blanks between", 10_000)
    leads_over = serializers.BooleanField(
        required=False, default=False, help_text="Who asks for a name that it loses is sent on."
    )


class NamingEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_naming",
        parameters=[OpenApiParameter("survey", str, "path"), CalledSerializer],
        responses=NamingSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """The steps by which a site is called otherwise. Nothing is changed."""
        scene = scene_of(survey_of(survey).file)
        asked = CalledSerializer.of(request)
        site = _site_at(scene, asked["at"])
        now, names = _names_of(site), asked["names"].split()
        view = NamingView(now, "", [], [])
        if names and names != now:
            try:
                found = naming(scene, site, names, leads_over=asked["leads_over"])
            except (LookupError, ValueError) as error:
                raise serializers.ValidationError({"names": str(error)}) from error
            operations = [written(each) for each in found.operations]
            view = NamingView(now, found.title, list(found.lines), operations)
        return Response(NamingSerializer(view).data)


def _names_of(site: Site) -> list[str]:
    """Its own first."""
    own = site.summary.asked_as
    return [own, *(name for name in site.summary.names if name.lower() != own.lower())]


def _site_at(scene: Scene, at: str) -> Site:
    site = next((s for s in scene.hosts if str(s.summary.place) == at), None)
    if site is None:
        raise NotFound("There is no such site in this survey.")
    return site


def _wish(asked: dict[str, str]) -> Wish:
    """Raises ValidationError."""
    try:
        bindings = tuple(map(read_binding, asked["bindings"].split()))
    except ValueError as error:
        raise serializers.ValidationError({"bindings": str(error)}) from error
    seen_by = asked["seen_by"].split() or [LOCAL]
    return Wish(
        asked["owner"], asked["name"], asked["engine"], asked["folder"],
        tuple(asked["names"].split()), bindings, asked["log"], asked["file"],
        () if seen_by == [EVERYONE] else tuple(seen_by),
    )  # fmt: skip


def _view(scene: Scene, found: Proposal | None) -> FoundingView:
    owners = [a.name for a in scene.survey.accounts if a.uid >= LEAST_PERSON][:MOST_OWNERS]
    engines = [engine.kind for engine in scene.engines]
    if found is None:
        return FoundingView(owners, engines, "", False, "", [], [], [], [], [], None, None)
    return FoundingView(
        owners=owners,
        engines=engines,
        engine=found.engine,
        possible=found.possible,
        title=found.plan(scene.survey).title if found.possible else "",
        parts=_parts(found),
        clashes=list(found.clashes),
        texts=[WrittenView(path, text) for path, text in found.texts.items()],
        steps=[each.describe() for each in found.operations],
        operations=[written(each) for each in found.operations],
        outside=found.passage,
        inside=found.inside,
    )


def _parts(found: Proposal) -> list[PartView]:
    draft = found.draft
    if draft is None:
        return []
    values = {
        "root": draft.root,
        "names": " ".join(draft.names),
        "bindings": " ".join(f"{address}:{port}" for address, port in draft.bindings),
        "log": draft.log or "",
        "file": found.file,
        "seen_by": " ".join(draft.seen_by) or EVERYONE,
    }
    return [PartView(part, value, found.said.get(part, "")) for part, value in values.items()]
