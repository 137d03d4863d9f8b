"""The surveyed server asked for real, where it can be reached."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, replace
from datetime import datetime

from ecumen.audit.checks.states import changed_since
from ecumen.audit.scene import Scene
from ecumen.engines.engine import PROGRAMS
from ecumen.errors import RequestError
from ecumen.passage.compare import Compared, compare
from ecumen.passage.request import Request as Question
from ecumen.survey import Survey
from ecumen_machine.asking import ask
from ecumen_web.reached import now_at, reach_of
from ecumen_web.store.models import SurveyRecord

MOST_SHOWN = 5  # files that changed


@dataclass(frozen=True, slots=True)
class AskedServer:
    """by_stand_in: what stands in for the server answered. rows: what was predicted for this
    asker, and what came; empty where no HTTP answer came. agrees: None where nothing sure was
    predicted. since: files of the configuration that changed after the engine last read it,
    where it answers otherwise.
    """

    address: str
    port: int
    at: datetime
    asked_from: str
    by_stand_in: bool
    trouble: str
    agrees: bool | None
    rows: list[Compared]
    since: list[str]


def ask_server(scene: Scene, question: Question, origin: str) -> AskedServer:
    """origin: of the survey. Raises RequestError where the request cannot be sent from here."""
    survey, follower = scene.survey, scene.follower
    address = follower.run(question).now.address
    if address is None:
        raise RequestError(f"no address is known for {question.name}: give one")
    reach = reach_of(origin)
    if reach is not None and reach.answers_at is not None:
        reply = ask(question, *reach.answers_at, proxied=True)
    else:
        _check_reach(survey, address, question.port, origin)
        reply = ask(question, address)
        # The prediction must be for the visitor that the server saw.
        question = replace(question, to=address, source=reply.asked_from or question.source)
    passage = follower.follow(question)
    rows = compare(passage, reply.status, reply.content_type, reply.location)
    # Undecided as a whole, or in part only: what was sure and came otherwise is a difference.
    told = [row.agrees for row in rows if row.agrees is not None]
    agrees = all(told) if told else None
    return AskedServer(
        address,
        question.port,
        now_at(origin),
        reply.asked_from,
        reach is not None,
        reply.trouble,
        agrees,
        rows,
        _unread(scene) if agrees is False else [],
    )


def _unread(scene: Scene) -> list[str]:
    files = [file for engine in scene.engines for file, _ in changed_since(scene, engine)]
    return files[:MOST_SHOWN]


def _check_reach(survey: Survey, address: str, port: int, origin: str) -> None:
    """Only this machine's own web servers are asked, and only where its own capture saw one of them
    listen: what another survey says of addresses leads nowhere.
    """
    if origin == SurveyRecord.Origin.DEMO:
        raise RequestError("nothing stands in for this server now: start ecumen demo")
    if origin != SurveyRecord.Origin.HERE:
        raise RequestError(
            "the server is asked for surveys that were taken on this machine alone: take one with "
            "ecumen survey, and load it"
        )
    own = ipaddress.ip_address(address)
    # A socket of IPv6 for all addresses takes connections of IPv4, too (ipv6(7)).
    wild = {"0.0.0.0", "::"} if own.version == 4 else {"::"}
    reached = own.is_loopback or address in survey.addresses
    for each in survey.listeners:
        if each.port != port or each.program not in PROGRAMS:
            continue
        if each.address == address or (reached and each.address in wild):
            return
    raise RequestError(f"no web server of this machine listens on {address}, port {port}")
