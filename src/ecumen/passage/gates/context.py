"""Security context and policy switches: may the engine's domain take each step of the ladder.

Where no policy is in force nothing is stopped. Answers that rest on the policy that comes with
Ecumen, and not on the server's own, are not sure.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

from ecumen import codes
from ecumen.codes import Code, Facts
from ecumen.contexts.confinement import FOLLOW, LIST, PASS, READ, Confined, Confinement
from ecumen.contexts.cures import OtherPort, OwnRule, Relabelled, Turned
from ecumen.engines.sites import (
    Block,
    Doubt,
    Handling,
    Labelled,
    Part,
    Phase,
    Proof,
    Rank,
    Rung,
)
from ecumen.passage.situation import Gate, Situation, not_reached
from ecumen.rights import BY_POLICY, SEARCH, Subject, decide
from ecumen.rights import READ as MAY_READ
from ecumen.survey import Kind

# Domains that the policy keeps from nothing: of a session of root's, and of the system itself.
_FREE = ("unconfined_t", "unconfined_service_t", "kernel_t")
# What the policy is asked where an engine stops for want of a right, by what is in the way.
_RUN = ("getattr", "execute")
_NEEDED: Mapping[Code, Mapping[Kind, tuple[str, ...]]] = {
    codes.LADDER_SHUT: {Kind.DIR: PASS, Kind.LINK: FOLLOW},
    codes.LADDER_UNREADABLE: {},
    codes.LADDER_UNLISTABLE: {Kind.DIR: LIST},
    codes.LADDER_NOT_RUN: {Kind.FILE: _RUN},
    codes.RULE_OVERRIDE_CLOSED: {},
}


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
    record = now.engine.record if now.engine is not None else None
    if record is not None and not confinement.confines(record):
        facts: Facts = {"domain": record.domain or ""}
        part.code, part.facts = codes.CONTEXT_OTHER_DOMAIN, dict(facts)
        if record.domain not in _FREE:
            part.doubts.append(Doubt(codes.CONTEXT_DOMAIN_UNKNOWN, Rank(Phase.WALK), facts))
        return part
    part.code = codes.CONTEXT_CLEAR
    policy = confinement.policy
    part.facts["domain"] = policy.domain if policy else "the engine"
    handling = now.handling
    if handling.upstream is not None:
        _upstream(part, confinement, handling, now)
    told = _told(handling, now)
    part.blocks += told.values()
    steps = list(_steps(confinement, handling))
    for asked, step in steps:
        _take(part, asked, step, told, now)
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


def _told(handling: Handling, now: Situation) -> dict[str, Block]:
    """What the policy keeps the worker from, by path: the engine met it where modes would have
    stopped it, and said so in their words.
    """
    found: dict[str, Block] = {}
    for part in (handling.ladder, handling.rule):
        stays: list[Block] = []
        for block in part.blocks:
            made = _by_policy(block, now)
            if made is None:
                stays.append(block)
                continue
            found.setdefault(made.path, made)
            if not _modes_let(block, now):
                stays.append(block)
        part.blocks = stays
    picture = handling.ladder.picture
    handling.ladder.picture = [_by_modes(each, now) for each in picture]
    return found


def _by_policy(block: Block, now: Situation) -> Block | None:
    """The same in the words of the policy; None for what it has no part in."""
    entry = block.entry
    if entry is None or block.code not in _NEEDED:
        return None
    confinement = now.confinement
    step = confinement.step(entry, _NEEDED[block.code].get(entry.kind, READ))
    if step.allowed is not False:
        return None
    lists = block.code == codes.LADDER_UNLISTABLE
    code = {
        Kind.DIR: codes.CONTEXT_UNLISTABLE if lists else codes.CONTEXT_SHUT,
        Kind.LINK: codes.CONTEXT_LINK,
    }.get(entry.kind, codes.CONTEXT_UNREADABLE)
    policy = confinement.policy
    facts = {
        "path": entry.path,
        "type": step.type or "",
        "domain": policy.domain if policy else "",
        "mend": _cure(step, confinement),
    }
    return Block(code, block.rank, block.status, facts, (Proof(entry=entry),), block.page)


def _modes_let(block: Block, now: Situation) -> bool:
    """Whether modes and ACLs alone would not stop it."""
    worker, entry = _worker(now), block.entry
    if worker is None or entry is None:
        return True
    need = block.code.needs or (MAY_READ if block.code == codes.RULE_OVERRIDE_CLOSED else 0)
    if entry.kind is not Kind.DIR and block.code == codes.LADDER_SHUT:
        need = 0
    return decide(entry, worker, need).allowed


def _by_modes(each: object, now: Situation) -> Any:
    """A step of the ladder as modes and ACLs have it; what the policy says stands at its gate."""
    worker = _worker(now)
    if not isinstance(each, Rung) or each.by != BY_POLICY or worker is None:
        return each
    if each.entry.kind is Kind.LINK:
        return replace(each, need="", allowed=True, by="", line="", link_rule="all")
    decision = decide(each.entry, worker, SEARCH if each.need == "x" else MAY_READ)
    return replace(each, allowed=decision.allowed, by=decision.by, line=decision.line)


def _worker(now: Situation) -> Subject | None:
    if now.engine is None or now.handling is None:
        return None
    return now.engine.worker_of(now.handling.site_place) or now.engine.worker


def _take(
    part: Part, asked: str, step: Confined, told: Mapping[str, Block], now: Situation
) -> None:
    entry, allowed = step.entry, step.allowed
    if allowed is False and entry.path not in told:
        # What the engine never asks of it on this way keeps nobody out.
        allowed = True
    part.picture.append(Labelled(entry, step.type or "", step.expected or "", allowed, step.why))
    if step.allowed is not None:
        return
    lists = entry.kind is Kind.DIR and step.perm in ("open", "read")
    on_walk = entry.kind in (Kind.DIR, Kind.LINK) and not lists
    assert now.engine is not None, "who handles a request is known"
    assert now.handling is not None, "what is taken was met on its way"
    rank = now.engine.meets(asked if on_walk else None, now.handling)
    facts: Facts = {"path": entry.path, "why": step.why}
    part.doubts.append(Doubt(codes.CONTEXT_UNKNOWN, rank, facts, (Proof(entry=entry),)))


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
