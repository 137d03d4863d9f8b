"""Does the name lead to this server?

Source: RFC 1034; the names that the survey looked up. The server's own answer is in `door`.
"""

from __future__ import annotations

import ipaddress

from ecumen.engines.sites import Arrival, Block, Doubt, Part, Phase, Rank
from ecumen.passage.situation import Gate, Situation, Words

_RANK = Rank(Phase.REACH)


def judge(now: Situation) -> Part:
    request = now.request
    if request.to is not None:
        now.address = request.to
        return Part("name.given", {"address": request.to})
    literal = _literal(request.name)
    if literal is not None:
        now.address = literal
        return _ours(now, Part("name.literal", {"address": literal, "name": literal}), (literal,))
    record = now.survey.name_by_text.get(request.name.lower().removesuffix("."))
    if record is None or record.addresses is None:
        return _unknown(now)
    if not record.addresses:
        part = Part("name.leads-here", {"name": request.name})
        part.blocks.append(Block("name.nowhere", _RANK, None, {"name": request.name}))
        now.address = _likely(now)
        return part
    facts = {"name": request.name, "address": record.addresses[0]}
    return _ours(now, Part("name.leads-here", facts), record.addresses)


def _ours(now: Situation, part: Part, addresses: tuple[str, ...]) -> Part:
    own = [a for a in addresses if a in now.survey.addresses or _loopback(a)]
    if own:
        now.address = own[0]
        part.facts["address"] = own[0]
    else:
        facts = {"name": now.request.name, "address": ", ".join(addresses)}
        part.blocks.append(Block("name.elsewhere", _RANK, None, facts))
        now.address = _likely(now)
    return part


def _unknown(now: Situation) -> Part:
    now.address = _likely(now)
    facts = {"name": now.request.name, "address": now.address or "none"}
    part = Part("name.leads-here", facts)
    part.doubts.append(Doubt("name.unknown", _RANK, facts))
    return part


def _likely(now: Situation) -> str | None:
    """The own address on which a site claims this name; else the first that the survey has."""
    candidates = [a for a in now.survey.addresses if not _loopback(a)]
    for engine in now.engines:
        candidates += [b.address for b in engine.listens if b.address != "*"]
    candidates.append("127.0.0.1")
    for address in dict.fromkeys(candidates):
        for engine in now.engines:
            if engine.claims(_arrival(now, address)):
                return address
    return candidates[0]


def _arrival(now: Situation, address: str) -> Arrival:
    request = now.request
    return Arrival(address, request.port, False, None, request.host_header, "GET", "/", None, None)


def _literal(name: str) -> str | None:
    try:
        return str(ipaddress.ip_address(name.strip("[]")))
    except ValueError:
        return None


def _loopback(address: str) -> bool:
    return ipaddress.ip_address(address).is_loopback


GATE = Gate(
    "name",
    judge,
    {
        "name.given": Words("The connection goes to {address} as asked; no name is looked up."),
        "name.literal": Words("The address names the server by its number, {address}."),
        "name.leads-here": Words("{name} leads to this server, at {address}."),
        "name.nowhere": Words(
            "{name} does not resolve: no visitor finds a server by this name.",
            "Publish an address record for {name} that points to this server.",
        ),
        "name.elsewhere": Words(
            "{name} leads to {address}, which is not this server.",
            "Point {name} to an address of this server, or ask the server that it names.",
        ),
        "name.unknown": Words(
            "The survey does not know where {name} leads. What follows holds if it leads here, "
            "to {address}."
        ),
    },
)
