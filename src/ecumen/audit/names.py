"""Names that lead to this server, by the survey, and whether a site has them."""

from __future__ import annotations

from collections.abc import Iterator

from ecumen.audit.scene import Scene, is_loopback
from ecumen.engines.sites import Arrival

_OF_THE_MACHINE = ("localhost", "ip6-localhost", "ip6-loopback", "localhost.localdomain")
_USUAL = (("http", 80), ("https", 443))


def heard_ports(scene: Scene) -> set[int]:
    return {b.port for engine in scene.engines for b in engine.listens if b.port is not None}


def usual_ports(scene: Scene) -> Iterator[tuple[str, int]]:
    """Where visitors come who give no port, as far as an engine listens there."""
    ports = heard_ports(scene)
    yield from ((scheme, port) for scheme, port in _USUAL if port in ports)


def names_without_site(scene: Scene) -> Iterator[tuple[str, str]]:
    """Names that no site is called, in small letters, each with the address here to which it
    leads.
    """
    own = set(scene.survey.addresses)
    claimed = {claim.name for site in scene.sites for claim in site.summary.claims if claim.exact}
    machine = scene.survey.host.lower()
    for record in scene.survey.names:
        name = record.name.lower()
        here = [a for a in record.addresses or () if a in own and not is_loopback(a)]
        # The machine's own names are for those who work on it; no site need claim them.
        if not here or name in _OF_THE_MACHINE or name.partition(".")[0] == machine:
            continue
        if name.replace(".", "").isdecimal() or ":" in name or name in claimed:
            continue
        yield name, here[0]


def claimed_by_pattern(scene: Scene, name: str) -> bool:
    """Whether a site has this name by a wildcard or a pattern, and not only answers for it."""
    return any(
        engine.claims(Arrival(address, port, False, None, name, "GET", "/", None, None))
        for engine in scene.engines
        for address in scene.own_addresses
        for port in {b.port for b in engine.listens if b.port is not None}
    )
