"""The certificates in use by their ends, and the same as a calendar that other programs read.

Source: RFC 5545 (iCalendar). Such a program cannot sign in: the address that it is given holds a
key, which is good for this calendar alone, and until the person's password is another one.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.contrib.auth import get_user_model
from django.contrib.auth.models import User
from django.core import signing
from django.http import HttpRequest, HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from icalendar import Calendar, Event
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen.engines.sealing import DAY
from ecumen.views.seals import SealEnd, seal_ends
from ecumen_web.api.filters import Filters, words
from ecumen_web.api.surveys import survey_of
from ecumen_web.api.values import ValueSerializer
from ecumen_web.surveys.loading import scene_of

MOST = 400  # certificates that are listed
WEEKS = 26
CALENDAR = "/api/surveys/latest/seals.ics"
_SALT = "ecumen.calendar"


@dataclass(frozen=True, slots=True)
class Seals:
    """total: how many there are; ends: those that end first. weeks: how many end in each week from
    that of the survey on. seen_at: of the survey, seconds since 1970, UTC.
    """

    total: int
    ends: list[SealEnd]
    weeks: list[int]
    seen_at: int


class SealsSerializer(ValueSerializer[Seals]):
    class Meta:
        dataclass = Seals


class SealsEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_seals",
        parameters=[OpenApiParameter("survey", str, "path")],
        responses=SealsSerializer,
    )
    def get(self, request: Request, survey: str) -> Response:
        """The certificates in use, those that end first, first."""
        scene = scene_of(survey_of(survey).file)
        ends, now = scene.once("seal ends", seal_ends), scene.survey.taken_at
        weeks = [0] * WEEKS
        for each in ends:
            week = (each.ends - now) // (7 * DAY)
            if 0 <= week < WEEKS:
                weeks[week] += 1
        found = Seals(len(ends), ends[:MOST], weeks, now)
        return Response(SealsSerializer(found).data)


@dataclass(frozen=True, slots=True)
class CalendarAddress:
    """path: for programs that show calendars, behind the address of this server."""

    path: str


class AddressSerializer(ValueSerializer[CalendarAddress]):
    class Meta:
        dataclass = CalendarAddress


class AddressEndpoint(APIView):
    """Each person's own: it stands with no survey, whose answers are the same for all."""

    @extend_schema(operation_id="session_calendar", responses=AddressSerializer)
    def get(self, request: Request) -> Response:
        """Where programs of this person find the calendar of ends."""
        assert request.user.pk is not None
        path = f"{CALENDAR}?key={key_of(request.user.pk)}"
        return Response(AddressSerializer(CalendarAddress(path)).data)


class KeyGiven(Filters):
    key = words("That of the address which the screen shows.")


class CalendarEndpoint(APIView):
    @extend_schema(
        operation_id="surveys_seals_calendar",
        parameters=[OpenApiParameter("survey", str, "path"), KeyGiven],
        responses={(200, "text/calendar"): str},
    )
    def get(self, request: Request, survey: str) -> HttpResponse:
        """A day for each end of a certificate."""
        scene = scene_of(survey_of(survey).file)
        host = scene.survey.host
        calendar = Calendar()
        calendar.add("prodid", "-//Ecumen//Ends of certificates//EN")
        calendar.add("version", "2.0")
        calendar.add("x-wr-calname", f"Certificates of {host}")
        for each in scene.once("seal ends", seal_ends):
            calendar.add_component(_event(each, host, scene.survey.taken_at))
        return HttpResponse(calendar.to_ical(), content_type="text/calendar; charset=utf-8")


def _event(end: SealEnd, host: str, seen_at: int) -> Event:
    day = datetime.fromtimestamp(end.ends, UTC)
    more = f" and {end.more} more" if end.more else ""
    event = Event()
    event.add("uid", f"{end.digest}@{host}")
    event.add("dtstamp", datetime.fromtimestamp(seen_at, UTC))
    event.add("dtstart", day.date())
    event.add("dtend", day.date() + timedelta(days=1))
    event.add("summary", f"The certificate of {', '.join(end.sites)}{more} ends")
    event.add("description", f"{end.path} on {host}, issued by {end.issuer}, at {day:%H:%M} UTC.")
    return event


# --- who may read it ---


def key_of(person: int) -> str:
    """Of one person, for programs of theirs."""
    return signing.dumps([person, _mark(get_user_model().objects.get(pk=person))], salt=_SALT)


def _mark(user: User) -> str:
    return hashlib.sha256(user.password.encode()).hexdigest()[:16]


def calendars(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware, behind that of authentication: whoever has a key asks as its person, for the
    calendar alone.
    """

    def handle(request: HttpRequest) -> HttpResponse:
        asks = request.method in ("GET", "HEAD") and request.path == CALENDAR
        if asks and not request.user.is_authenticated:
            person = _person(request.GET.get("key", ""))
            if person is not None:
                request.user = person
        return get_response(request)

    return handle


def _person(key: str) -> User | None:
    try:
        number, mark = signing.loads(key, salt=_SALT)
    except (signing.BadSignature, ValueError, TypeError):
        return None
    found = get_user_model().objects.filter(pk=number, is_active=True).first()
    return found if found is not None and _mark(found) == mark else None
