"""The front page of every site: what a visitor meets who types its name."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from ecumen.codes import ContentType, Facts
from ecumen.engines.engine import Engine, all_sites
from ecumen.engines.short import Short
from ecumen.engines.sites import SiteSummary
from ecumen.errors import RequestError
from ecumen.passage import gates
from ecumen.passage.follow import Follower, Ran
from ecumen.passage.request import Request, read_request
from ecumen.passage.words import say


@dataclass(frozen=True, slots=True)
class FrontPage:
    """One site and what comes of asking for it.

    state: `ok`, `diverted` (another site answers, or the visitor is sent on), `blocked` or
    `unsure`. gate: which gate decides. owner: of the root's folder, None where it is not there.
    volume: where what the root lies on is mounted, None where that is not known.
    """

    engine: str
    site: SiteSummary
    url: str
    to: str
    owner: str | None
    volume: str | None
    state: str
    status: int | None
    gate: str
    reason: str
    obstacles: int


def front_request(site: SiteSummary) -> Request:
    """The request of a visitor outside for a site's front page, sent to where it is bound."""
    try:
        return request_to(site, site.asked_as, site.path)
    except RequestError:
        # No visitor can type such a name, but the site stands in the configuration all the same.
        # An address of IPv6 stands in brackets in an address of the web (RFC 3986, section 3.2.2).
        literal = f"[{site.address}]" if ":" in site.address else site.address
        return replace(request_to(site, literal, site.path), host=site.asked_as)


def request_to(site: SiteSummary, name: str, path: str) -> Request:
    """A request for a path of a site by some name. Raises RequestError."""
    scheme, usual = ("https", 443) if site.sealed else ("http", 80)
    port = "" if site.port == usual else f":{site.port}"
    return read_request(f"{scheme}://{name}{port}{path}", to=site.address)


def front_pages(follower: Follower) -> Iterator[FrontPage]:
    """All sites of all engines in file order, personal ones behind."""
    for engine in follower.engines:
        for site in all_sites(engine):
            request = front_request(site)
            yield page_of(follower, engine, site, request, follower.run(request))


def page_of(
    follower: Follower,
    engine: Engine,
    site: SiteSummary,
    request: Request,
    ran: Ran,
) -> FrontPage:
    """What a front page does, of a request that was followed already."""
    now, outcome, served = ran.now, ran.outcome, ran.at(gates.serve.GATE)
    gate, reason = gates.serve.GATE.name, ""
    other = now.handling is not None and now.handling.site_place != site.place
    if not outcome.decided:
        state = "unsure"
        if outcome.doubts:
            gate, doubt = outcome.doubts[0]
            reason = say(doubt.code, doubt.facts)
    elif outcome.blocks:
        state = "blocked"
        gate, block = outcome.blocks[0]
        reason = say(block.code, block.facts)
    elif other or (outcome.status or 0) >= 300:
        state = "diverted"
        by = gates.site.GATE if other else gates.way.GATE
        gate, part = by.name, ran.at(by)
        # Sent on by the file itself (a folder asked without its slash) and not by a rule: then it
        # is the last gate that says why.
        if not other and part.answer is None:
            part = served
        reason = say(part.code, part.facts)
    else:
        state = "ok"
        reason = say(served.code, served.facts)
    told = (state, outcome.status, gate, reason, len(outcome.blocks))
    return _page(follower, engine, site, request, *told)


def _page(
    follower: Follower,
    engine: Engine,
    site: SiteSummary,
    request: Request,
    state: str,
    status: int | None,
    gate: str,
    reason: str,
    obstacles: int,
) -> FrontPage:
    return FrontPage(
        engine=engine.kind,
        site=site,
        url=request.url,
        to=site.address,
        owner=_owner(follower, site),
        volume=_volume(follower, site),
        state=state,
        status=status,
        gate=gate,
        reason=reason,
        obstacles=obstacles,
    )


def served_page(
    follower: Follower, engine: Engine, site: SiteSummary, request: Request, short: Short
) -> FrontPage:
    """The same of a request that was answered shortly, and is served by the site itself."""
    file = short.file or ""
    facts: Facts = {
        "path": file,
        "index": file.rpartition("/")[2],
        "type": ContentType(short.content_type or ""),
    }
    reason = say(short.code, facts)
    return _page(follower, engine, site, request, "ok", short.status, "serve", reason, 0)


def _owner(follower: Follower, site: SiteSummary) -> str | None:
    if site.personal is not None:
        return site.personal
    entry = follower.survey.files.get(site.root or "")
    if entry is None:
        return None
    return follower.survey.user_name(entry.uid)


def _volume(follower: Follower, site: SiteSummary) -> str | None:
    """By the root where it really lies: it may be a link to another volume."""
    if site.root is None:
        return None
    physical = follower.walker.walk(site.root).physical
    mount = follower.survey.mount_of(physical)
    return None if mount is None else mount.path
