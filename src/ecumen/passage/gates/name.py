"""Does the name lead to this server?

Source: RFC 1034; the names that the survey looked up. The server's own answer is in `door`.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence

from ecumen import codes
from ecumen.engines.sites import Arrival, Block, Doubt, Led, Part, Phase, Rank
from ecumen.passage.gates.door import covers
from ecumen.passage.situation import Gate, Situation
from ecumen.survey import NameRecord

_RANK = Rank(Phase.REACH)


def judge(now: Situation) -> Part:
    request = now.request
    if request.to is not None:
        now.address = request.to
        return Part(codes.NAME_GIVEN, {"address": request.to})
    literal = _literal(request.name)
    if literal is not None:
        now.address = literal
        return _ours(
            now, Part(codes.NAME_LITERAL, {"address": literal, "name": literal}), (literal,)
        )
    # Names are told apart by neither case nor the final dot (RFC 4343; RFC 1034, section 3.1).
    record = now.survey.name_by_text.get(request.name.lower().removesuffix("."))
    if record is None or record.addresses is None:
        return _unknown(now)
    if not record.addresses:
        part = Part(codes.NAME_LEADS_HERE, {"name": request.name})
        part.blocks.append(Block(codes.NAME_NOWHERE, _RANK, None, {"name": request.name}))
        now.address = _likely(now)
        return part
    facts: dict[str, object] = {"name": request.name, "address": record.addresses[0]}
    part = _ours(now, Part(codes.NAME_LEADS_HERE, facts), record.addresses)
    part.picture += _steps(now, record)
    return part


def _steps(now: Situation, record: NameRecord) -> Iterator[Led]:
    """From the name to each address, by the file or by the names that it stands for."""
    here = record.name
    for alias in record.aliases if record.source != "hosts" else ():
        yield Led("alias", here, alias, None)
        here = alias
    for address in record.addresses or ():
        by = "file" if record.source == "hosts" else "v6" if ":" in address else "v4"
        yield Led(by, here, address, _is_ours(now, address))


def _ours(now: Situation, part: Part, addresses: tuple[str, ...]) -> Part:
    # A loopback address in the hosts file leads here, for whoever asks on this machine.
    own = [each for each in addresses if _is_ours(now, each)]
    if own:
        now.address = own[0]
        part.facts["address"] = own[0]
        astray = parted(addresses, own)
        if astray is not None:
            part.code = codes.NAME_SPLIT
            part.facts["other"] = astray
    else:
        facts: dict[str, object] = {"name": now.request.name, "address": ", ".join(addresses)}
        part.blocks.append(Block(codes.NAME_ELSEWHERE, _RANK, None, facts))
        now.address = _likely(now)
    return part


def parted(addresses: Sequence[str], own: Sequence[str]) -> str | None:
    """Another server's address, of the kind of which none is this server's; None where there is
    none. Who has that kind goes there; of one kind a name may have several servers.
    """
    strange = [each for each in addresses if each not in own]
    apart = all((":" in each) != (":" in mine) for each in strange for mine in own)
    return strange[0] if own and strange and apart else None


def _is_ours(now: Situation, address: str) -> bool:
    return address in now.survey.addresses or _loopback(address)


def _unknown(now: Situation) -> Part:
    now.address = _likely(now)
    facts: dict[str, object] = {"name": now.request.name, "address": now.address or "none"}
    part = Part(codes.NAME_LEADS_HERE, facts)
    part.doubts.append(Doubt(codes.NAME_UNKNOWN, _RANK, facts))
    return part


def _likely(now: Situation) -> str | None:
    """The own address on which a site claims this name; else the first that the survey has."""
    candidates = [a for a in now.survey.addresses if not _loopback(a)]
    for engine in now.engines:
        candidates += [b.address for b in engine.listens if b.address != "*"]
    candidates.append("127.0.0.1")
    known = list(dict.fromkeys(candidates))
    claiming = [
        address
        for address in known
        if any(engine.claims(_arrival(now, address)) for engine in now.engines)
    ]
    # Of several the first at which an engine is bound at all: the others answer nobody.
    bound = [address for address in claiming or known if _is_bound(now, address)]
    return (bound or claiming or known)[0]


def _is_bound(now: Situation, address: str) -> bool:
    port = now.request.port
    return any(
        binding.port == port and covers(binding.address, address)
        for engine in now.engines
        for binding in engine.listens
    )


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


GATE = Gate("name", judge)
