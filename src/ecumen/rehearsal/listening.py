"""Where engines listen once a plan is done.

A survey holds the sockets that were there. An engine that reads its configuration again, or is
started, listens where that says; one that is stopped listens nowhere. Source: ip(7); httpd's
"Binding to Addresses and Ports"; nginx, `listen`.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping, Sequence

from ecumen.engines.engine import PROGRAMS, Engine
from ecumen.passage.gates.door import covers
from ecumen.survey import Listener

_Heard = Mapping[tuple[str, int], Listener | None]


def listening(
    was: Sequence[Engine], now: Sequence[Engine], listeners: Sequence[Listener]
) -> _Heard:
    """Which listeners are otherwise: None for those that are gone. was, now: the engines before and
    after the change; listeners: those of the survey.
    """
    found: dict[tuple[str, int], Listener | None] = {}
    for before, engine in zip(was, now, strict=False):
        if before.kind == engine.kind:
            found |= _of(before, engine, listeners)
    return found


def _of(before: Engine, engine: Engine, listeners: Sequence[Listener]) -> _Heard:
    runs, ran = engine.record.running, before.record.running
    own = [each for each in listeners if PROGRAMS.get(each.program or "") == engine.kind]
    if runs is False:
        return {(each.address, each.port): None for each in own} if ran is not False else {}
    wanted = set(_wanted(engine))
    moved = wanted != set(_wanted(before)) or (runs and ran is False)
    # What does not load is not read: everything stays as it was.
    if not runs or not moved or engine.breaks:
        return {}
    gone = [each for each in own if not any(_fits(door, each) for door in wanted)]
    found: dict[tuple[str, int], Listener | None] = {(g.address, g.port): None for g in gone}
    left = [each for each in listeners if each not in gone]
    for address, port in sorted(wanted):
        bound = _wildcard(engine, own) if address == "*" else address
        if _is_address(bound) and not any(_covered(bound, port, each) for each in left):
            found[bound, port] = Listener(bound, port, engine.programs[0], None)
    return found


def _wanted(engine: Engine) -> Iterator[tuple[str, int]]:
    for binding in engine.listens:
        if binding.port is not None:
            yield binding.address, binding.port


def _fits(door: tuple[str, int], listener: Listener) -> bool:
    return door[1] == listener.port and covers(door[0], listener.address)


def _covered(address: str, port: int, listener: Listener) -> bool:
    return port == listener.port and covers(listener.address, address)


def _wildcard(engine: Engine, own: Sequence[Listener]) -> str:
    """How this machine has an engine listen at all addresses."""
    known = {each.address for each in own} & {"::", "0.0.0.0"}
    return engine.wildcard if not known or engine.wildcard in known else known.pop()


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
