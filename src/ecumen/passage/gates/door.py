"""Does something listen there, and is it an engine that can answer?

Source: the listening sockets of the survey; ip(7) for wildcard addresses. In front of both stands
the kernel's packet filter.
"""

from __future__ import annotations

import ipaddress
from dataclasses import replace
from functools import lru_cache

from ecumen import codes
from ecumen.caches import Bounded, ByIdentity
from ecumen.doors import Packet, Passing, Ruleset, passing
from ecumen.engines.engine import PROGRAMS, Engine
from ecumen.engines.sites import Arrival, Binding, Block, Doubt, Part, Phase, Proof, Rank
from ecumen.passage.request import greeting
from ecumen.passage.situation import Gate, Situation, not_reached
from ecumen.survey import Listener, PacketFilter

_RANK = Rank(Phase.REACH, 1)
MOST_KEPT = 4096  # doors, each from somewhere


def judge(now: Situation) -> Part:
    if now.address is None:
        return not_reached()
    address, port = now.address, now.request.port
    passed = filtered(now, address)
    if passed is not None:
        port = passed.port
    facts: dict[str, object] = {"address": address, "port": port}
    part = Part(codes.DOOR_OPEN, facts)
    if passed is not None:
        _told(part, passed)
    binding = _declared(now, address, port)
    listener = _listening(now, address, port)
    if now.engine is not None and binding is not None and now.engine.record.declared:
        part.code = codes.DOOR_DECLARED
        part.proofs.append(_declaring(now, binding))
    elif listener is not None:
        _heard(now, part, listener, binding, facts)
    elif (program := _unread(now)) is not None:
        part.facts["program"] = program
        part.doubts.append(Doubt(codes.DOOR_UNREAD_ENGINE, _RANK, part.facts))
    else:
        part.blocks.append(Block(codes.DOOR_UNHEARD, _RANK, None, facts))
        if binding is not None:
            part.proofs.append(_declaring(now, binding))
    # The other gates say what would come of it, were the engine listening.
    if now.engine is None and now.engines:
        now.engine = now.engines[0]
    now.arrival = _arrival(now, address, port)
    return part


def filtered(now: Situation, address: str) -> Passing | None:
    """What the packet filter makes of it; None where nothing is known of one, or the server is one
    that is described and not running.
    """
    known = now.survey.filter
    if known is None or any(engine.record.declared for engine in now.engines):
        return None
    ruleset, passed = _known(known)
    if not ruleset.hooked and not known.older:
        return None
    asked = address, now.request.port, now.request.source
    if asked not in passed:
        passed[asked] = _passing(now, known, ruleset, address)
    return passed[asked]


def _passing(now: Situation, known: PacketFilter, ruleset: Ruleset, address: str) -> Passing:
    source, port = now.request.source, now.request.port
    own = frozenset(now.survey.addresses)
    local = _loopback(address) or (source is not None and (_loopback(source) or source in own))
    v6 = ":" in address
    if source is not None and (":" in source) != v6:
        source = None
    devices = [name for name, each in known.devices.items() if address in each and name != "lo"]
    packet = Packet(
        "ip6" if v6 else "ip", (source or address) if local else source, address, None, port,
        "lo" if local else devices[0] if len(devices) == 1 else None, None, "new", own, port,
        address,
    )  # fmt: skip
    found = passing(ruleset, packet, forwards=known.forwards, to_itself=known.to_itself)
    if found.verdict == "passes" and known.older:
        rule = f"tables of the older filter hold rules ({', '.join(known.older)})"
        return replace(found, verdict="unsure", rules=(rule,))
    return found


# What becomes of a packet, by address, port and who asks: all sites of one door ask the same.
_Passed = Bounded[tuple[str, int, str | None], Passing]
_KEPT: ByIdentity[PacketFilter, tuple[Ruleset, _Passed]] = ByIdentity(8)


def _known(known: PacketFilter) -> tuple[Ruleset, _Passed]:
    found = _KEPT.get(known)
    return _KEPT.put(known, (Ruleset(known.rules), Bounded(MOST_KEPT))) if found is None else found


def _told(part: Part, passed: Passing) -> None:
    facts = {"rule": "; ".join(passed.rules[:3]) or "its policy", "port": passed.port}
    match passed.verdict:
        case "drop" | "reject":
            code = codes.DOOR_NO_ANSWER if passed.answer else codes.DOOR_KEPT_IN
            # Once the connection stands, all that is sent is dropped: first somebody must listen.
            rank = Rank(Phase.REACH, 2) if passed.later else _RANK
            part.blocks.append(Block(code, rank, None, facts))
        case "elsewhere":
            part.doubts.append(Doubt(codes.DOOR_HANDED_ON, _RANK, facts | {"to": passed.to}))
        case "unsure":
            part.doubts.append(Doubt(codes.DOOR_FILTER_UNKNOWN, _RANK, facts))


def _heard(
    now: Situation,
    part: Part,
    listener: Listener,
    binding: Binding | None,
    facts: dict[str, object],
) -> None:
    program = listener.program or ""
    kind = PROGRAMS.get(program)
    part.facts |= {"program": program or "a program that the survey cannot name"}
    # The survey was made by somebody who may not see whose socket it is; that an engine's
    # configuration declares the very same binding is as good.
    if listener.program is None and binding is not None:
        return
    engine = next((e for e in now.engines if e.kind == kind), None)
    if engine is not None:
        now.engine = engine
        return
    if kind is not None:
        part.doubts.append(Doubt(codes.DOOR_UNREAD_ENGINE, _RANK, part.facts))
    else:
        part.doubts.append(Doubt(codes.DOOR_HELD, _RANK, part.facts))


def _declared(now: Situation, address: str, port: int) -> Binding | None:
    """The binding that an engine's configuration has for this address; sets the engine."""
    for engine in now.engines:
        for binding in engine.listens:
            if binding.port == port and covers(binding.address, address):
                _take(now, engine)
                return binding
    return None


def _unread(now: Situation) -> str | None:
    """What may listen there unseen: an engine whose configuration is not read, or sockets that
    the survey could not list."""
    read = {id(engine.record) for engine in now.engines}
    for record in now.survey.engines:
        if record.declared and id(record) not in read:
            return record.kind
    for engine in now.engines:
        if engine.record.declared and engine.breaks:
            # Reading stopped there, and what it would listen on may stand behind.
            return engine.kind
    if any(gap.what == "listeners" for gap in now.survey.gaps):
        return "a program that the survey cannot name"
    return None


def _declaring(now: Situation, binding: Binding) -> Proof:
    """The line as it stands, in the engine's own words."""
    return Proof(place=binding.place, text=now.source.line(binding.place) or str(binding))


def _take(now: Situation, engine: Engine) -> None:
    now.engine = engine


def _listening(now: Situation, address: str, port: int) -> Listener | None:
    hits = [x for x in now.survey.listeners if x.port == port and covers(x.address, address)]
    # A socket of one address takes what a wildcard one beside it would (ip(7)).
    exact = [x for x in hits if x.address == address]
    return next(iter(exact or hits), None)


@lru_cache(maxsize=4096)
def covers(bound: str, address: str) -> bool:
    if bound == "*":
        return True
    try:
        own, asked = ipaddress.ip_address(bound), ipaddress.ip_address(address)
    except ValueError:
        return False
    if own.is_unspecified:
        # A v6 wildcard socket takes v4 connections too (ipv6(7), IPV6_V6ONLY off).
        return own.version == 6 or asked.version == 4
    return own == asked


def _arrival(now: Situation, address: str, port: int) -> Arrival:
    request = now.request
    client = request.source
    if client is None and _loopback(address):
        # Only the server itself can reach its loopback address.
        client = "::1" if ":" in address else "127.0.0.1"
    return Arrival(
        address=address,
        port=port,
        sealed=request.scheme == "https",
        server_name=greeting(request),
        host=request.host_header,
        method=request.method,
        path=request.path,
        query=request.query,
        client=client,
        signed_in=request.signed_in,
        headers={name.lower(): value for name, value in request.headers.items()},
    )


@lru_cache(maxsize=4096)
def _loopback(address: str) -> bool:
    return ipaddress.ip_address(address).is_loopback


GATE = Gate("door", judge)
