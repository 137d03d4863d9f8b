"""Addresses and ports: bound and unheard, heard and unbound, wanted twice."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from ecumen import codes
from ecumen.audit.check import MOST_SHOWN, Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Scene, Site, is_loopback
from ecumen.engines.engine import PROGRAMS
from ecumen.engines.sites import Binding, Door, shown_at
from ecumen.passage import read_request
from ecumen.passage.gates.door import GATE, covers
from ecumen.passage.verdict import Evidence
from ecumen.survey import Listener


def _heard(scene: Scene, site: Site, door: Door) -> bool:
    """Whether anything listens where a site is bound."""
    if site.engine.record.declared:
        return any(_meets(bound, door) for bound in site.engine.listens)
    return any(_hears(listener, door) for listener in scene.survey.listeners)


def _meets(bound: Binding, door: Door) -> bool:
    if door.port is not None and bound.port != door.port:
        return False
    return "*" in (bound.address, door.address) or covers(bound.address, door.address)


def _hears(listener: Listener, door: Door) -> bool:
    if door.port is not None and listener.port != door.port:
        return False
    return door.address == "*" or covers(listener.address, door.address)


@check(
    "door.unheard", Impact.OUTAGE, "Nothing listens where the site is bound", needs=("listeners",)
)
def unheard(scene: Scene) -> Iterator[Found]:
    """Where a site has another door that is open it can still be reached; that is said."""
    silent: dict[tuple[str, int | None], list[tuple[Site, Door]]] = defaultdict(list)
    for site in scene.hosts:
        if site.engine.record.running is False:
            # That the engine does not run is one finding for all of its sites.
            continue
        for door in site.summary.doors:
            if not _heard(scene, site, door):
                silent[door.address, door.port].append((site, door))
    for (address, port), bound in silent.items():
        where = shown_at(address, port)
        for site, door in bound:
            evidence = [scene.line(door.place)]
            front = scene.front(site)
            if front.request.port == port:
                evidence.append(scene.asked(front))
            yield Found(
                f"{site.subject} at {where}",
                [site],
                evidence,
                f"Nothing listens on {where}, where {site.name} is bound",
                group=where,
                remedies=mended(
                    f"Have {site.engine.kind} listen on {where}, or bind the site to a port that "
                    "is open"
                ),
                addresses=1,
            )


@check("door.kept-in", Impact.OUTAGE, "The packet filter keeps visitors out")
def kept_in(scene: Scene) -> Iterator[Found]:
    """By somebody outside: nobody in particular."""
    told: dict[tuple[str, int], tuple[str, list[tuple[Site, Door]]]] = {}
    for site in scene.hosts if scene.survey.filter is not None else ():
        for door in site.summary.doors:
            if door.port is None or is_loopback(door.address) or not _heard(scene, site, door):
                continue
            address = scene.own_addresses[0] if door.address == "*" else door.address
            where = address, door.port
            if where not in told:
                told[where] = _stopped(scene, address, door.port), []
            told[where][1].append((site, door))
    for (address, port), (why, bound) in told.items():
        if why:
            sites = [site for site, _ in bound]
            yield Found(
                shown_at(address, port),
                sites,
                [Evidence(text=why), *(scene.line(door.place) for _, door in bound[:MOST_SHOWN])],
                f"The packet filter keeps visitors of port {port} out: {why}",
                group=f"port {port}",
                remedies=mended(f"Have the filter let port {port} through"),
                addresses=1,
            )


def _stopped(scene: Scene, address: str, port: int) -> str:
    """The rule that surely stops who asks from outside; "" for none."""
    host = f"[{address}]" if ":" in address else address
    ran = scene.follower.run(read_request(f"http://{host}:{port}/", to=address))
    for block in ran.at(GATE).blocks:
        if block.code in (codes.DOOR_KEPT_IN, codes.DOOR_NO_ANSWER):
            return str(block.facts["rule"])
    return ""


@check("door.empty", Impact.UPKEEP, "Something listens, and no site is bound there",
       needs=("listeners",))  # fmt: skip
def empty(scene: Scene) -> Iterator[Found]:
    for engine in scene.engines:
        if engine.record.declared:
            continue
        doors = [d for s in scene.hosts if s.engine is engine for d in s.summary.doors]
        for listener in scene.survey.listeners:
            if PROGRAMS.get(listener.program or "") != engine.kind:
                continue
            if any(_hears(listener, door) for door in doors):
                continue
            bound = next((b for b in engine.listens if b.port == listener.port), None)
            where = shown_at(listener.address, listener.port)
            yield Found(
                f"{engine.kind} {where}",
                [],
                [scene.line(bound.place)] if bound else [Evidence(text=f"{where} is open")],
                f"{engine.kind} listens on {where}, and no site is bound there",
                remedies=mended(f"Stop listening on {where}, or bind a site to it"),
                addresses=1,
            )


@check("door.held", Impact.OUTAGE, "The port is held by another program", needs=("listeners",))
def held(scene: Scene) -> Iterator[Found]:
    for engine in scene.engines:
        if engine.record.declared:
            continue
        for bound in engine.listens:
            holder = _holder(scene, engine.kind, bound)
            if holder is None:
                continue
            where = shown_at(bound.address, bound.port)
            sites = [
                site
                for site in scene.hosts
                if site.engine is engine and any(_meets(bound, d) for d in site.summary.doors)
            ]
            yield Found(
                f"{engine.kind} {where}",
                sites,
                [
                    scene.line(bound.place),
                    Evidence(text=f"{holder.program} (process {holder.pid}) listens on "
                                  f"{shown_at(holder.address, holder.port)}"),
                ],
                f"{engine.kind} wants {where}, and {holder.program} holds it",
                remedies=mended(
                    f"Stop {holder.program}, or have it listen elsewhere",
                    f"Have {engine.kind} listen on another port",
                ),
                addresses=1,
            )  # fmt: skip


def _holder(scene: Scene, kind: str, bound: Binding) -> Listener | None:
    """Another program that listens there, where the engine that wants it does not."""
    there = [
        listener
        for listener in scene.survey.listeners
        if listener.port == bound.port
        and (bound.address == "*" or covers(listener.address, bound.address))
    ]
    # A socket whose program the survey may not see may well be the engine's own.
    if any(x.program is None or PROGRAMS.get(x.program) == kind for x in there):
        return None
    return there[0] if there else None


@check("door.twice", Impact.CLASH, "Two engines want one address and port")
def twice(scene: Scene) -> Iterable[Found]:
    for number, one in enumerate(scene.engines):
        for other in scene.engines[number + 1 :]:
            # One finding for each port, however many of their addresses meet.
            told: set[int] = set()
            for mine in one.listens:
                for theirs in other.listens:
                    if mine.port is None or mine.port != theirs.port or mine.port in told:
                        continue
                    wild = "*" in (mine.address, theirs.address)
                    if not wild and not covers(mine.address, theirs.address):
                        continue
                    told.add(mine.port)
                    where = shown_at(mine.address, mine.port)
                    yield Found(
                        f"{one.kind} {other.kind} {mine.port}",
                        [],
                        [scene.line(mine.place), scene.line(theirs.place)],
                        f"{one.kind} and {other.kind} both want {where}: whichever starts second "
                        "fails",
                        remedies=mended("Have one of them listen on another address or port"),
                        addresses=1,
                    )
