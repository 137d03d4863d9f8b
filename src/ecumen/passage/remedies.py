"""One plan that mends every obstacle of a passage that lies in owners, modes, ACLs and contexts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from ecumen.contexts.confinement import Confined
from ecumen.contexts.effects import effects, type_counts
from ecumen.engines.sites import Block
from ecumen.passage.follow import Follower
from ecumen.passage.request import Request
from ecumen.plan.opens import Opening
from ecumen.plan.operations import Operation, What
from ecumen.plan.ways import Need, Way, ways
from ecumen.rights.decide import READ, SEARCH, Subject

_NEEDS = {
    "ladder.shut": SEARCH,
    "ladder.unreadable": READ,
    "ladder.unlistable": READ,
    "rule.override-closed": READ,
}


@dataclass(frozen=True, slots=True)
class Mending:
    """ways: plans, the least opening first. mends, of: how many obstacles each of them mends."""

    ways: list[Way]
    mends: int
    of: int


def mending(follower: Follower, request: Request) -> Mending:
    """What mends a request's obstacles. Never raises."""
    ran = follower.run(request)
    now, outcome = ran.now, ran.outcome
    total = len(outcome.blocks)
    worker = None
    if now.engine is not None and now.handling is not None:
        worker = now.engine.worker_of(now.handling.site_place)
    if worker is None:
        return Mending([], 0, total)
    needs: dict[tuple[str, int], Need] = {}
    operations: list[Operation] = []
    mended = 0
    for gate, block in outcome.blocks:
        need = _need(block)
        if need is not None:
            needs[need.entry.path, need.perms] = need
            mended += 1
        elif gate == "context":
            operation = _by_policy(follower, block)
            if operation is not None:
                operations.append(operation)
                mended += 1
    if not needs and not operations:
        return Mending([], 0, total)
    return Mending(_ways(follower, worker, list(needs.values()), operations), mended, total)


def _ways(
    follower: Follower, worker: Subject, needs: list[Need], operations: list[Operation]
) -> list[Way]:
    others = list(dict.fromkeys(operations))
    told = _by_switches(follower, others)
    if needs:
        found = ways(follower.opener, worker, needs, others)
        return [replace(way, openings=[*way.openings, *told]) for way in found]
    turned = all(operation.what is What.SWITCH for operation in others)
    title = "Let the policy allow it" if turned else "Set the contexts right"
    return [Way(title, others, [*follower.opener.opens(others), *told])]


def _by_switches(follower: Follower, operations: list[Operation]) -> list[Opening]:
    """What else the switches would open to the web server, by type."""
    policy = follower.confinement.policy
    turned = {o.path: o.value == "on" for o in operations if o.what is What.SWITCH}
    if policy is None or not turned:
        return []
    counts = type_counts(follower.survey.files)
    return [
        Opening(each.opens, f"{each.what} of the type", ["the web server"], each.paths, each.type)
        for each in effects(policy, turned, counts)
    ]


def _need(block: Block) -> Need | None:
    perms = _NEEDS.get(block.code)
    entry = next((proof.entry for proof in block.proofs if proof.entry is not None), None)
    if perms is None or entry is None:
        return None
    return Need(entry, perms)


def _by_policy(follower: Follower, block: Block) -> Operation | None:
    if block.code == "context.connect":
        _, _, turned = follower.confinement.connects(int(block.facts["port"]))
        return _switch(turned)
    step = follower.confinement.step_at(block.facts.get("path", ""))
    return None if step is None else _relabelled(follower, step)


def _switch(ways: Sequence[Mapping[str, bool]]) -> Operation | None:
    """The one switch that does it, where one is enough."""
    if not ways or len(ways[0]) != 1:
        return None
    ((name, on),) = ways[0].items()
    return Operation(What.SWITCH, name, "on" if on else "off")


def _relabelled(follower: Follower, step: Confined) -> Operation | None:
    """The context of the rules where that is let through, else the fewest switches."""
    confinement = follower.confinement
    path = step.entry.path
    if step.differs and step.expected is not None:
        perms = confinement.perms_for(step.entry)
        if confinement.would(step.expected, step.entry.kind, perms):
            return Operation(What.CONTEXT, path, step.expected)
    return _switch(step.switches)
