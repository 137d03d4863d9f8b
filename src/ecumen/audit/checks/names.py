"""Where the names of sites lead: nowhere, elsewhere, only by this machine's own file, or to two
servers at once.
"""

from __future__ import annotations

import ipaddress
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator

from ecumen.audit.check import MOST_SHOWN, Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Scene, Site, is_loopback
from ecumen.engines.sites import counterpart
from ecumen.passage.gates.name import parted
from ecumen.passage.verdict import Evidence
from ecumen.survey import HOSTS_FILE, NameRecord

# By convention of nobody outside: RFC 6761, RFC 8375, RFC 9476.
_INSIDE = (".local", ".localhost", ".home.arpa", ".internal", ".alt")


def _records(scene: Scene) -> Iterator[tuple[Site, NameRecord]]:
    """The names of sites of which something is known."""
    known = scene.survey.name_by_text
    for site in scene.hosts:
        for claim in site.summary.claims:
            record = known.get(claim.name)
            if claim.exact and record is not None and "." in claim.name:
                yield site, record


def _told(
    scene: Scene, wrong: Callable[[NameRecord], object], words: Callable[[str, NameRecord], str],
    remedy: Callable[[str], str],
) -> Iterator[Found]:  # fmt: skip
    """One finding for each site, with all of its names that are so."""
    by_site: dict[Site, dict[str, NameRecord]] = defaultdict(dict)
    for site, record in _records(scene):
        if wrong(record):
            by_site[site][record.name.lower()] = record
    for site, records in by_site.items():
        first, record = next(iter(records.items()))
        many = f" and {len(records) - 1} more" if len(records) > 1 else ""
        yield Found(
            site.subject,
            [site],
            [Evidence(text=_shown(each)) for each in list(records.values())[:MOST_SHOWN]],
            words(f"{first}{many}", record),
            remedies=mended(remedy(first)),
            addresses=len(records),
        )


def _shown(record: NameRecord) -> str:
    by = f"{HOSTS_FILE}: " if record.source == "hosts" else ""
    led = ", ".join(record.addresses or ()) or "nowhere"
    through = f" by way of {', '.join(record.aliases)}" if record.aliases else ""
    return f"{by}{record.name} leads to {led}{through}"


def _ours(scene: Scene, addresses: Iterable[str]) -> list[str]:
    own = scene.survey.addresses
    return [each for each in addresses if each in own or is_loopback(each)]


@check("name.nowhere", Impact.OUTAGE, "The site's name does not resolve", needs=("names",))
def nowhere(scene: Scene) -> Iterator[Found]:
    return _told(
        scene,
        lambda record: record.addresses == () and not _is_inside(record.name),
        lambda names, _: f"{names} leads nowhere: no visitor finds the site by it",
        lambda name: f"Publish an address record for {name}, or take it out of the site",
    )


def _is_inside(name: str) -> bool:
    return name.lower().endswith(_INSIDE)


@check("name.elsewhere", Impact.DRIFT, "The site's name leads to another server",
       needs=("names",))  # fmt: skip
def elsewhere(scene: Scene) -> Iterator[Found]:
    # Behind a translation of addresses no address of this machine is known outside.
    own = [a for a in scene.own_addresses if not is_loopback(a)]
    if own and not any(map(_is_public, own)):
        return iter(())
    return _told(
        scene,
        lambda record: record.addresses and not _ours(scene, record.addresses),
        lambda names, record: (
            f"{names} leads to {', '.join(record.addresses or ())}, which is not this server"
        ),
        lambda name: f"Point {name} to this server, or take it out of the site",
    )


def _is_public(address: str) -> bool:
    """Whether others than the machine's own network may know it. Addresses of documentation stand
    for such.
    """
    known = ipaddress.ip_address(address)
    inside = known.is_link_local or known.is_loopback or any(
        known in net for net in _PRIVATE if net.version == known.version
    )  # fmt: skip
    return not inside


# RFC 1918, RFC 6598, RFC 4193.
_PRIVATE = [
    ipaddress.ip_network(net)
    for net in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7")
]


@check("name.hosts-only", Impact.DRIFT, "The site's name leads here by this machine's file alone",
       needs=("names",))  # fmt: skip
def hosts_only(scene: Scene) -> Iterator[Found]:
    return _told(
        scene,
        lambda record: (
            record.source == "hosts"
            and record.published == ()
            and not _is_inside(record.name)
            and _ours(scene, record.addresses or ())
        ),
        lambda names, _: f"{names} leads here by {HOSTS_FILE} alone: nobody else finds it",
        lambda name: f"Publish an address record for {name}",
    )


@check("name.split", Impact.OUTAGE, "The site's v4 and v6 lead to different servers",
       needs=("names",))  # fmt: skip
def split(scene: Scene) -> Iterator[Found]:
    """Some visitors have v6 and are served by it first; they see something else than the others."""

    def astray(record: NameRecord) -> str | None:
        addresses = record.addresses or ()
        return parted(addresses, _ours(scene, addresses))

    def words(names: str, record: NameRecord) -> str:
        ours = _ours(scene, record.addresses or ())
        return (
            f"{names} leads here by {ours[0]}, and by {astray(record)} to another server: some "
            "visitors do not come here"
        )

    return _told(scene, astray, words, lambda name: f"Mend the record of {name} that leads away")


@check("name.unlike", Impact.DRIFT, "The bare name and the one with www do not lead alike",
       needs=("names",))  # fmt: skip
def unlike(scene: Scene) -> Iterator[Found]:
    """One leads here, and the other does not. That both do, and one is claimed by no site, is told
    as such.
    """
    known = scene.survey.name_by_text
    claimed = {c.name for site in scene.hosts for c in site.summary.claims if c.exact}
    for site, record in _records(scene):
        name = record.name.lower()
        other = known.get(counterpart(name) or "")
        if other is None or other.addresses is None or other.name.lower() in claimed:
            continue
        if _ours(scene, record.addresses or ()) and not _ours(scene, other.addresses):
            led = ", ".join(other.addresses) or "nowhere"
            yield Found(
                f"{site.subject} {other.name}",
                [site],
                [Evidence(text=_shown(record)), Evidence(text=_shown(other))],
                f"{name} leads here, and {other.name} {'to ' * bool(other.addresses)}{led}",
                remedies=mended(
                    f"Publish the same record for {other.name}, and add it to the site"
                ),
                addresses=1,
            )
