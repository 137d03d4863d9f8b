"""Addresses and ports as lanes: who listens, which names are claimed, who answers when nobody is
named."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from ecumen.audit.scene import Scene, Site
from ecumen.engines.engine import PROGRAMS, Engine
from ecumen.engines.sites import Door, Named
from ecumen.passage.gates.door import covers


@dataclass(frozen=True, slots=True)
class LaneName:
    """A name that is claimed on a lane. wins: its site answers for it here; else `winner` does.

    number: of its site, among all of the survey. in_folder: its site is one of the folders of a
    block. winner: None for a wildcard or a pattern, which wins only what nobody claims more
    exactly. fails: the front page of its site does.
    """

    name: str
    site: str
    number: int
    in_folder: bool
    declared_at: str
    exact: bool
    wins: bool
    winner: str | None
    fails: bool = False


@dataclass(frozen=True, slots=True)
class FolderSites:
    """How many folders of one block are sites."""

    site: str
    declared_at: str
    folders: int


@dataclass(frozen=True, slots=True)
class Lane:
    """One address and port. address: `*` for all of them.

    heard_by: the program that listens there, None for nobody. engine: that has sites there, None
    for none. standing: the site that answers when nobody is named; marked: it is marked for that.
    nameless: sites without a name that never answer. claimed: how many names there are in all,
    where not every one is listed; None where each is. by_pattern: sites that are folders, by the
    block that serves them.
    """

    address: str
    port: int | None
    engine: str | None
    heard_by: str | None
    sealed: bool
    standing: str | None
    standing_at: str | None
    marked: bool
    sites: int
    names: list[LaneName]
    nameless: list[str]
    crossed: int
    by_pattern: list[FolderSites]
    claimed: int | None = None


def lanes(scene: Scene) -> list[Lane]:
    """Every address and port with a site or a listener, those with most sites first."""
    found = [
        _lane(scene, address, port, sites) for (_, address, port), sites in scene.bound.items()
    ]
    found += _bare(scene, found)
    found.sort(key=lambda lane: (-lane.sites, lane.port or 0, lane.address))
    return found


def _lane(scene: Scene, address: str, port: int | None, bound: list[tuple[Site, Door]]) -> Lane:
    engine = bound[0][0].engine
    # A name that nobody can own (RFC 2606, section 2): whoever answers it answers what nobody
    # claims.
    standing_place = engine.answers(*_asked_at(scene, engine, address, port), "nobody.invalid")
    standing = scene.site_at.get(standing_place) if standing_place is not None else None
    # A site without a name that is the standing one answers; any other without a name never does.
    names = [name for site, door in bound for name in lane_names(scene, site, door)]
    nameless = [s.name for s, _ in bound if not s.summary.claims and s is not standing]
    return Lane(
        address,
        port,
        engine.kind,
        _heard_by(scene, engine.kind, address, port),
        any(door.sealed for _, door in bound),
        standing.name if standing else None,
        str(standing.summary.place) if standing else None,
        any(door.default for site, door in bound if site is standing),
        len(bound),
        names,
        nameless,
        sum(not name.wins for name in names) + len(nameless),
        _by_pattern(scene, [site for site, _ in bound]),
    )


def _by_pattern(scene: Scene, bound: list[Site]) -> list[FolderSites]:
    counted = Counter(scene.base(site) for site in bound if scene.base(site) is not site)
    return [
        FolderSites(base.name, str(base.summary.place), folders)
        for base, folders in counted.items()
    ]


def _asked_at(scene: Scene, engine: Engine, address: str, port: int | None) -> tuple[str, int]:
    """An address and port at which visitors come to a lane."""
    # A block for every port is reached at any port that the engine listens on.
    asked = port if port is not None else next((b.port for b in engine.listens if b.port), 80)
    return (scene.own_addresses[0] if address == "*" else address), asked


def lane_names(scene: Scene, site: Site, door: Door) -> list[LaneName]:
    """The names that a site claims, and how each fares at one of its doors."""
    engine = site.engine
    at = _asked_at(scene, engine, door.address, door.port)
    return [
        _name(scene, site, claim, engine.answers(*at, claim.name) if claim.exact else None)
        for claim in site.summary.claims
    ]


def _name(scene: Scene, site: Site, claim: Named, place: object) -> LaneName:
    wins = not claim.exact or place == site.summary.place
    winner = None if wins else scene.site_at.get(place)  # type: ignore[call-overload]
    return LaneName(
        claim.name,
        site.name,
        site.number,
        scene.base(site) is not site,
        str(claim.place),
        claim.exact,
        wins,
        winner.name if winner is not None else None,
    )


def _heard_by(scene: Scene, kind: str, address: str, port: int | None) -> str | None:
    for engine in scene.engines:
        if engine.kind == kind and engine.record.declared:
            for each in engine.listens:
                same = port is None or each.port == port
                if same and ("*" in (each.address, address) or covers(each.address, address)):
                    return kind
            return None
    for listener in scene.survey.listeners:
        if port is not None and listener.port != port:
            continue
        if address == "*" or covers(listener.address, address):
            return listener.program or "a program without a name"
    return None


def _bare(scene: Scene, found: list[Lane]) -> list[Lane]:
    """Listeners of the engines without a site, and what holds the ports that they want."""
    wanted = {b.port for engine in scene.engines for b in engine.listens}
    bare = []
    for listener in scene.survey.listeners:
        kind = PROGRAMS.get(listener.program or "")
        if kind is None and listener.port not in wanted:
            continue
        if any(
            lane.port in (None, listener.port)
            and (lane.address == "*" or covers(listener.address, lane.address))
            for lane in found
        ):
            continue
        program = listener.program or "a program without a name"
        bare.append(
            Lane(
                "*" if listener.address in ("0.0.0.0", "::") else listener.address,
                listener.port,
                kind,
                program,
                False,
                None,
                None,
                False,
                0,
                [],
                [],
                0,
                [],
            )
        )
    return bare
