"""The certificates of a survey by what they are shown for: to which name, at which door, of which
site.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ecumen.audit.scene import Scene, Site
from ecumen.engines.sealing import Shown, shown
from ecumen.engines.sites import Arrival, Door
from ecumen.engines.tree import Place
from ecumen.survey import Certificate


@dataclass(frozen=True, slots=True)
class Greeting:
    """One name of a site, asked at one of its doors that speak TLS. all: what may be shown then,
    that first which a usual client gets.
    """

    site: Site
    address: str
    port: int
    name: str
    all: list[Shown]

    @property
    def certificate(self) -> Certificate | None:
        return self.all[0].certificate if self.all else None


def _greetings(scene: Scene) -> list[Greeting]:
    # Where no file is named as a certificate there is nothing to ask anybody.
    return list(_greeted(scene)) if scene.survey.seals else []


def _greeted(scene: Scene) -> Iterator[Greeting]:
    known: dict[tuple[int, Place], list[Shown]] = {}
    for site in scene.hosts:
        for door in site.summary.doors:
            if not door.sealed or door.port is None:
                continue
            address = _address(scene, door)
            for claim in site.summary.claims:
                if not claim.exact:
                    continue
                if site.engine.answers(address, door.port, claim.name) != site.summary.place:
                    continue
                arrival = arrival_of(address, door.port, claim.name)
                part = site.engine.seal(arrival)
                place = part.facts.get("declared")
                if part.blocks or not isinstance(place, Place):
                    continue
                key = id(site.engine), place
                if key not in known:
                    known[key] = shown(scene.survey, site.engine.seals_of(place))
                yield Greeting(site, address, door.port, claim.name, known[key])


def _address(scene: Scene, door: Door) -> str:
    return scene.own_addresses[0] if door.address == "*" else door.address


def arrival_of(address: str, port: int, name: str, *, sealed: bool = True) -> Arrival:
    return Arrival(address, port, sealed, name if sealed else None, name, "GET", "/", None, None)


def greetings(scene: Scene) -> list[Greeting]:
    return scene.once("greetings", _greetings)


def pairs(scene: Scene) -> Iterator[tuple[Site, Shown]]:
    """All that may be shown, for each site that may show it."""
    seen = set[tuple[Site, str, str]]()
    for each in greetings(scene):
        for one in each.all:
            mark = each.site, one.pair.certificate, one.pair.key
            if mark not in seen:
                seen.add(mark)
                yield each.site, one


def by_file(scene: Scene) -> dict[str, tuple[Shown, list[Site]]]:
    """Files of certificates, each with the sites that show it."""
    found: dict[str, tuple[Shown, list[Site]]] = {}
    for site, one in pairs(scene):
        if one.certificate is not None:
            sites = found.setdefault(one.pair.certificate, (one, []))[1]
            if site not in sites:
                sites.append(site)
    return found
