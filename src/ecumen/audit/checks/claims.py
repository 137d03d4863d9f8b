"""Names: claimed twice, by nobody, or always lost to another site."""

from __future__ import annotations

import re
from collections.abc import Iterator

from ecumen.audit.check import Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.names import claimed_by_pattern, heard_ports, names_without_site, usual_ports
from ecumen.audit.scene import Scene, Site
from ecumen.engines.sites import Door, Named, shown_at
from ecumen.passage import read_request

# What a visitor can ask for at all.
_NAME = re.compile(r"[a-z0-9._-]+|\[[0-9a-f:.]+\]")


def _asked_at(scene: Scene, door: Door) -> list[tuple[str, int]]:
    """Addresses and ports at which visitors may come to a door."""
    ports = [door.port] if door.port is not None else sorted(heard_ports(scene))
    addresses = scene.own_addresses if door.address == "*" else [door.address]
    return [(address, port) for address in addresses for port in ports]


def _lost(
    scene: Scene, site: Site, claim: Named, asked: list[tuple[str, int]]
) -> list[Site] | None:
    """The sites that take a name in this one's place; None where it ever wins it."""
    rivals: dict[int, Site] = {}
    for address, port in asked:
        place = site.engine.answers(address, port, claim.name)
        if place == site.summary.place:
            return None
        rival = scene.site_at.get(place) if place is not None else None
        if rival is not None:
            rivals[rival.number] = rival
    return list(rivals.values()) or None


def _lost_claims(scene: Scene) -> list[tuple[Site, Named, Site]]:
    """Every plain name that a site claims and another one always gets."""
    found = []
    for site in scene.hosts:
        asked = [at for door in site.summary.doors for at in _asked_at(scene, door)]
        for claim in site.summary.claims:
            # A wildcard loses some names and wins others; who asks for it whole?
            if not claim.exact or not _NAME.fullmatch(claim.name):
                continue
            winners = _lost(scene, site, claim, asked)
            if winners:
                found.append((site, claim, winners[0]))
    return found


def _same(winner: Site, name: str) -> Named | None:
    return next((c for c in winner.summary.claims if c.exact and c.name == name), None)


@check(
    "claim.double", Impact.CLASH, "Two sites claim one name, and one of them never gets a visitor"
)
def double(scene: Scene) -> Iterator[Found]:
    for site, claim, winner in scene.once("lost claims", _lost_claims):
        theirs = _same(winner, claim.name)
        if theirs is None:
            continue
        yield Found(
            f"{claim.name} {site.subject}",
            [site, winner],
            [scene.line(theirs.place), scene.line(claim.place)],
            f"{winner.name} and {site.name} both claim {claim.name}: {winner.name} gets every "
            "visitor",
            group=claim.name,
            remedies=mended(f"Take {claim.name} out of the site that should not have it"),
            addresses=1,
        )


@check("claim.shadowed", Impact.CLASH, "A stronger claim always wins this name")
def shadowed(scene: Scene) -> Iterator[Found]:
    for site, claim, winner in scene.once("lost claims", _lost_claims):
        if _same(winner, claim.name) is not None:
            continue
        by = next((c for c in winner.summary.claims if not c.exact), None)
        yield Found(
            f"{claim.name} {site.subject}",
            [site, winner],
            [scene.line(claim.place), scene.line(by.place) if by else scene.declared(winner)],
            f"{winner.name} takes every visitor of {claim.name}, which {site.name} claims",
            group=winner.name,
            remedies=mended(
                f"Bind {site.name} to the same address as {winner.name}, or narrow what "
                f"{winner.name} claims"
            ),
            addresses=1,
        )


@check(
    "claim.unnamed",
    Impact.CLASH,
    "Several sites share an address and port, with no name to tell them apart",
)
def unnamed(scene: Scene) -> Iterator[Found]:
    for (_, address, port), bound in scene.bound.items():
        nameless = [(site, door) for site, door in bound if not site.summary.claims]
        # httpd takes the first of an address and port, nginx the one that is marked, or the first.
        marked = next((site for site, door in bound if door.default), bound[0][0])
        never = [(site, door) for site, door in nameless if site is not marked]
        if len(bound) < 2 or not never:
            continue
        where = shown_at(address, port)
        for site, _ in never:
            yield Found(
                f"{site.engine.kind} {where} {site.summary.place.file}",
                [site, marked],
                [scene.declared(site), scene.declared(marked)],
                f"A site on {where} has no name, so {marked.name} answers in its place",
                group=where,
                remedies=mended("Give the site a name of its own"),
                addresses=1,
            )


@check("claim.default-by-order", Impact.DRIFT, "File order decides who answers for unknown names")
def default_by_order(scene: Scene) -> Iterator[Found]:
    """Only where the one that answers is a site with names of its own: a catch-all is meant."""
    for (_, address, port), bound in scene.bound.items():
        if len(bound) < 2 or any(door.default for _, door in bound):
            continue
        site, _ = bound[0]
        if not any(claim.exact for claim in site.summary.claims):
            continue
        where = shown_at(address, port)
        yield Found(
            f"{site.engine.kind} {where}",
            [site],
            [scene.declared(site)],
            f"{site.name} answers on {where} for every name that nobody claims, as it stands first",
            remedies=mended(
                "Put a site in front of it that is meant for unknown names, and shows that it is"
            ),
            addresses=1,
        )


@check("claim.default-twice", Impact.OUTAGE, "Two sites are marked default on one address and port")
def default_twice(scene: Scene) -> Iterator[Found]:
    for (_, address, port), bound in scene.bound.items():
        marked = [(site, door) for site, door in bound if door.default]
        if len(marked) < 2:
            continue
        where = shown_at(address, port)
        yield Found(
            f"{marked[0][0].engine.kind} {where}",
            [site for site, _ in marked],
            [scene.line(door.place) for _, door in marked],
            f"{len(marked)} sites are marked default on {where}: the engine does not start",
            remedies=mended("Take the mark off all of them but one"),
            addresses=1,
        )


@check("claim.nobody", Impact.OUTAGE, "A name leads here that no site claims", needs=("names",))
def nobody(scene: Scene) -> Iterator[Found]:
    for name, here in names_without_site(scene):
        if claimed_by_pattern(scene, name):
            continue
        for scheme, port in usual_ports(scene):
            front = scene.ask(read_request(f"{scheme}://{name}/", to=here))
            if front.answered_by is None or not front.decided or front.status is None:
                continue
            site = scene.site_at.get(front.answered_by)
            if site is None:
                continue
            yield Found(
                f"{name} {port}",
                [site],
                [scene.asked(front), scene.declared(site)],
                f"No site claims {name}, so {site.name} answers for it",
                group=site.name,
                remedies=mended(f"Add {name} to the site that is meant, or mend the name there"),
                addresses=1,
            )
            break
