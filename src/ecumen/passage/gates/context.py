"""Security context and policy switches: may the engine's domain take each step of the ladder.

Where no policy is in force nothing is stopped. Answers that rest on the policy that comes with
Ecumen, and not on the server's own, are not sure.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from ecumen.contexts.confinement import FOLLOW, LIST, PASS, READ, Confined, Confinement
from ecumen.engines.httpd.walk import HALF
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
from ecumen.passage.situation import Gate, Situation, Words, not_reached
from ecumen.survey import Kind

_FALLBACKS = ("tried", "tried-last", "rewrite", "again")


def judge(now: Situation) -> Part:
    if now.handling is None:
        return not_reached()
    confinement = now.confinement
    mode = confinement.mode
    part = Part("context.none", {"mode": mode})
    if mode == "permissive":
        part.code = "context.permissive"
    if not confinement.enforced:
        return part
    part.code = "context.clear"
    policy = confinement.policy
    part.facts["domain"] = policy.domain if policy else "the engine"
    handling = now.handling
    if handling.upstream is not None:
        _upstream(part, confinement, handling, now)
    steps = list(_steps(confinement, handling))
    for asked, step in steps:
        _take(part, asked, step, handling, now)
    if not steps and handling.upstream is None:
        part.code = "passage.not-reached"
    rank = Rank(Phase.WALK)
    if policy is None:
        part.doubts.append(Doubt("context.not-read", rank, {"why": confinement.trouble}))
    elif confinement.shipped and (steps or handling.upstream):
        part.doubts.append(Doubt("context.shipped", rank))
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
    if handling.serve.code == "serve.listing" and handling.file is not None:
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
    rank = _rank(asked if on_walk else None, handling, now)
    if step.allowed is None:
        facts = {"path": entry.path, "why": step.why}
        part.doubts.append(Doubt("context.unknown", rank, facts, (Proof(entry=entry),)))
        return
    if step.allowed:
        return
    code = {
        Kind.DIR: "context.unlistable" if lists else "context.shut",
        Kind.LINK: "context.link",
    }.get(entry.kind, "context.unreadable")
    facts = {
        "path": entry.path,
        "type": step.type or "",
        "domain": part.facts["domain"],
        "mend": _mend(step, now.confinement),
    }
    part.blocks.append(Block(code, rank, 403, facts, (Proof(entry=entry),)))
    if any(m.how in _FALLBACKS for m in handling.way.picture if isinstance(m, Mapped)):
        # What may not be looked at can be taken for what is not there.
        part.doubts.append(Doubt("context.fallback", rank, facts))


def _rank(walked: str | None, handling: Handling, now: Situation) -> Rank:
    """When the engine meets it. walked: a folder or link on the way, which httpd meets before it
    asks who may; None for what is opened at the end.
    """
    answer = handling.serve.answer
    lap = answer.rank.lap if answer is not None else 0
    if walked is not None and now.engine is not None and now.engine.kind == "httpd":
        depth = 0 if walked == "/" else walked.count("/")
        return Rank(Phase.WALK, (depth + 1) * HALF).on_lap(lap)
    if answer is None:
        return Rank(Phase.CONTENT, -1)
    return Rank(answer.rank.phase, answer.rank.step - 1)


def _mend(step: Confined, confinement: Confinement) -> str:
    path, perms = step.entry.path, confinement.perms_for(step.entry)
    helps = step.differs and confinement.would(step.expected, step.entry.kind, perms)
    if helps:
        return f"Give {path} the context {step.expected}, as the rules say"
    if step.switches:
        return f"Turn {spelt(step.switches[0])}"
    return f"Add a rule that gives {path} a context which the web server may read"


def spelt(switches: Mapping[str, bool]) -> str:
    """Switches with how they are to stand, in words."""
    return " and ".join(f"{'on' if on else 'off'} the switch {n}" for n, on in switches.items())


def _upstream(part: Part, confinement: Confinement, handling: Handling, now: Situation) -> None:
    """Connecting to another program needs the policy's leave, by the type of its port."""
    url = (handling.upstream or "").removeprefix("proxy:")
    rank = Rank(Phase.CONTENT, -1)
    port = _port_of(url)
    if port is None:
        part.doubts.append(Doubt("context.unknown", rank, {"path": url, "why": "no port"}))
        return
    allowed, type_, ways = confinement.connects(port)
    facts = {"port": str(port), "type": type_, "domain": part.facts["domain"], "path": url}
    if allowed is None:
        facts["why"] = "the policy names no type for its port"
        part.doubts.append(Doubt("context.unknown", rank, facts))
    elif not allowed:
        facts["mend"] = f"Turn {spelt(ways[0])}" if ways else "Use another port"
        status = 502 if now.engine is not None and now.engine.kind == "nginx" else 503
        part.blocks.append(Block("context.connect", rank, status, facts))


def _port_of(url: str) -> int | None:
    """The port of an upstream; None where it has none, as a socket."""
    match = _UPSTREAM.match(url)
    if match is None or "unix:" in url:
        return None
    return int(match[2]) if match[2] else _USUAL.get(match[1].lower())


_UPSTREAM = re.compile(r"([A-Za-z]+)://(?:\[[^]/]*\]|[^:/\[]+)(?::([0-9]{1,5}))?(?:/|$)")
_USUAL = {"http": 80, "https": 443, "fcgi": 8000, "ajp": 8009, "scgi": 4000, "uwsgi": 3031}
_MEND = "{mend}."
GATE = Gate(
    "context",
    judge,
    {
        "context.none": Words("No security policy is enforced on this server."),
        "context.permissive": Words("The security policy only warns: it stops nothing."),
        "context.clear": Words("The security policy lets {domain} take every step."),
        "context.shut": Words(
            "The security policy does not let {domain} pass through {path}, which has the type "
            "{type}.",
            _MEND,
        ),
        "context.unreadable": Words(
            "The security policy does not let {domain} read {path}, which has the type {type}.",
            _MEND,
        ),
        "context.unlistable": Words(
            "The security policy does not let {domain} list {path}, which has the type {type}.",
            _MEND,
        ),
        "context.link": Words(
            "The security policy does not let {domain} follow the link {path}, which has the type "
            "{type}.",
            _MEND,
        ),
        "context.connect": Words(
            "The security policy does not let {domain} connect to port {port}, which has the type "
            "{type}.",
            _MEND,
        ),
        "context.unknown": Words("What the policy says of {path} is not known: {why}."),
        "context.not-read": Words("The security policy of this server could not be read: {why}."),
        "context.shipped": Words(
            "The survey holds no policy of this server: the answer is that of the policy which "
            "comes with Ecumen, and other policies differ."
        ),
        "context.fallback": Words(
            "The engine may take {path}, which it cannot look at, for something that is not there."
        ),
    },
)
