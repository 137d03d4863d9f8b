"""Security context and policy switches: may the engine's domain take each step of the ladder.

Where no policy is in force nothing is stopped. Answers that rest on the policy that comes with
Ecumen, and not on the server's own, are not sure.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from ecumen import codes
from ecumen.codes import Facts
from ecumen.contexts.confinement import FOLLOW, LIST, PASS, READ, Confined, Confinement
from ecumen.contexts.cures import OtherPort, OwnRule, Relabelled, Turned
from ecumen.engines.sites import (
    Block,
    Doubt,
    Handling,
    Labelled,
    Mapped,
    Part,
    Phase,
    Proof,
    Rank,
    Rung,
)
from ecumen.passage.situation import Gate, Situation, not_reached
from ecumen.survey import Kind

_FALLBACKS = ("tried", "tried-last", "rewrite", "again")


def judge(now: Situation) -> Part:
    if now.handling is None:
        return not_reached()
    confinement = now.confinement
    mode = confinement.mode
    part = Part(codes.CONTEXT_NONE, {"mode": mode})
    if mode == "permissive":
        part.code = codes.CONTEXT_PERMISSIVE
    if not confinement.enforced:
        return part
    part.code = codes.CONTEXT_CLEAR
    policy = confinement.policy
    part.facts["domain"] = policy.domain if policy else "the engine"
    handling = now.handling
    if handling.upstream is not None:
        _upstream(part, confinement, handling, now)
    steps = list(_steps(confinement, handling))
    for asked, step in steps:
        _take(part, asked, step, handling, now)
    if not steps and handling.upstream is None:
        part.code = codes.PASSAGE_NOT_REACHED
    rank = Rank(Phase.WALK)
    if policy is None:
        part.doubts.append(Doubt(codes.CONTEXT_NOT_READ, rank, {"why": confinement.trouble}))
    elif confinement.shipped and (steps or handling.upstream):
        part.doubts.append(Doubt(codes.CONTEXT_SHIPPED, rank))
    return part


def _steps(confinement: Confinement, handling: Handling) -> Iterator[tuple[str, Confined]]:
    """Each entry that the worker passes, follows or reads, once, by the path that was walked."""
    seen: set[tuple[str, str]] = set()
    for rung in handling.ladder.picture:
        if not isinstance(rung, Rung):
            continue
        link = rung.entry.kind is Kind.LINK
        need = FOLLOW if link else PASS if rung.need == "x" else READ
        if (rung.entry.path, need[-1]) not in seen:
            seen.add((rung.entry.path, need[-1]))
            yield rung.asked, confinement.step(rung.entry, need)
    if handling.serve.code == codes.SERVE_LISTING and handling.file is not None:
        entry = confinement.survey.files.get(handling.file.rstrip("/") or "/")
        if entry is not None:
            yield entry.path, confinement.step(entry, LIST)


def _take(part: Part, asked: str, step: Confined, handling: Handling, now: Situation) -> None:
    entry = step.entry
    part.picture.append(
        Labelled(entry, step.type or "", step.expected or "", step.allowed, step.why)
    )
    lists = entry.kind is Kind.DIR and step.perm in ("open", "read")
    on_walk = entry.kind in (Kind.DIR, Kind.LINK) and not lists
    assert now.engine is not None, "who handles a request is known"
    rank = now.engine.meets(asked if on_walk else None, handling)
    if step.allowed is None:
        facts: Facts = {"path": entry.path, "why": step.why}
        part.doubts.append(Doubt(codes.CONTEXT_UNKNOWN, rank, facts, (Proof(entry=entry),)))
        return
    if step.allowed:
        return
    code = {
        Kind.DIR: codes.CONTEXT_UNLISTABLE if lists else codes.CONTEXT_SHUT,
        Kind.LINK: codes.CONTEXT_LINK,
    }.get(entry.kind, codes.CONTEXT_UNREADABLE)
    facts = {
        "path": entry.path,
        "type": step.type or "",
        "domain": part.facts["domain"],
        "mend": _cure(step, now.confinement),
    }
    part.blocks.append(Block(code, rank, 403, facts, (Proof(entry=entry),)))
    if any(m.how in _FALLBACKS for m in handling.way.picture if isinstance(m, Mapped)):
        # What may not be looked at can be taken for what is not there.
        part.doubts.append(Doubt(codes.CONTEXT_FALLBACK, rank, facts))


def _cure(step: Confined, confinement: Confinement) -> Relabelled | Turned | OwnRule:
    path, perms = step.entry.path, confinement.perms_for(step.entry)
    if step.differs and confinement.would(step.expected, step.entry.kind, perms):
        return Relabelled(path, step.expected or "")
    return Turned(step.switches[0]) if step.switches else OwnRule(path)


def _upstream(part: Part, confinement: Confinement, handling: Handling, now: Situation) -> None:
    """Connecting to another program needs the policy's leave, by the type of its port."""
    url = (handling.upstream or "").removeprefix("proxy:")
    rank = Rank(Phase.CONTENT, -1)
    port = _port_of(url)
    if port is None:
        part.doubts.append(Doubt(codes.CONTEXT_UNKNOWN, rank, {"path": url, "why": "no port"}))
        return
    allowed, type_, ways = confinement.connects(port)
    facts: dict[str, object] = {
        "port": port,
        "type": type_,
        "domain": part.facts["domain"],
        "path": url,
    }
    if allowed is None:
        facts["why"] = "the policy names no type for its port"
        part.doubts.append(Doubt(codes.CONTEXT_UNKNOWN, rank, facts))
    elif not allowed:
        facts["mend"] = Turned(ways[0]) if ways else OtherPort()
        status = now.engine.upstream_fails if now.engine is not None else 503
        part.blocks.append(Block(codes.CONTEXT_CONNECT, rank, status, facts))


def _port_of(url: str) -> int | None:
    """The port of an upstream; None where it has none, as a socket."""
    match = _UPSTREAM.match(url)
    if match is None or "unix:" in url:
        return None
    return int(match[2]) if match[2] else _USUAL.get(match[1].lower())


_UPSTREAM = re.compile(r"([A-Za-z]+)://(?:\[[^]/]*\]|[^:/\[]+)(?::([0-9]{1,5}))?(?:/|$)")
_USUAL = {"http": 80, "https": 443, "fcgi": 8000, "ajp": 8009, "scgi": 4000, "uwsgi": 3031}
GATE = Gate("context", judge)
