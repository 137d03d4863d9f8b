"""One plan that mends every obstacle of a passage that lies in owners, modes, ACLs and contexts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from ecumen.contexts.cures import Relabelled, Turned
from ecumen.contexts.effects import effects, type_counts
from ecumen.engines.sites import Block
from ecumen.operations.context import Context
from ecumen.operations.opens import Opening
from ecumen.operations.operation import Operation
from ecumen.operations.switch import Switch
from ecumen.operations.trial import Trial
from ecumen.operations.ways import Need, Way, ways
from ecumen.passage.follow import Follower
from ecumen.passage.gates.context import GATE as CONTEXT
from ecumen.passage.request import Request
from ecumen.rights.decide import Subject


@dataclass(frozen=True, slots=True)
class Mending:
    """ways: plans, the least opening first. mends, of: how many obstacles each of them mends."""

    ways: list[Way]
    mends: int
    of: int


@dataclass(frozen=True, slots=True)
class Needed:
    """What a request's obstacles need. worker: whose rights are lacking, None where nobody's is
    known. mended, of: how many obstacles this mends, of all.
    """

    worker: Subject | None
    needs: list[Need]
    others: list[Operation]
    mended: int
    of: int


def mending(follower: Follower, request: Request) -> Mending:
    """What mends a request's obstacles. Never raises."""
    found = needed(follower, request)
    return Mending(ways_of(follower, [found]), found.mended, found.of)


def needed(follower: Follower, request: Request) -> Needed:
    """What a request's obstacles need, without the ways to get it. Never raises."""
    ran = follower.run(request)
    now, outcome = ran.now, ran.outcome
    total = len(outcome.blocks)
    worker = None
    if now.engine is not None and now.handling is not None:
        worker = now.engine.worker_of(now.handling.site_place)
    if worker is None:
        return Needed(None, [], [], 0, total)
    needs: list[Need] = []
    operations: list[Operation] = []
    mended = 0
    for gate, block in outcome.blocks:
        need = _need(block)
        if need is not None:
            needs.append(need)
            mended += 1
        elif gate == CONTEXT.name:
            operation = _by_policy(follower, block)
            if operation is not None:
                operations.append(operation)
                mended += 1
    return Needed(worker, needs, operations, mended, total)


def ways_of(follower: Follower, all_of: Sequence[Needed]) -> list[Way]:
    """The ways that give what several requests need, each of them to all; none where they need it
    for different accounts.
    """
    workers = {each.worker for each in all_of if each.mended}
    needs = [need for each in all_of for need in each.needs]
    others = list(dict.fromkeys(operation for each in all_of for operation in each.others))
    if len(workers) != 1 or not (needs or others):
        return []
    (worker,) = workers
    assert worker is not None
    told = _by_switches(follower, others)
    if needs:
        # What the modes lack can be given in several ways; what the policy lacks has one cure,
        # which each way then holds.
        found = ways(follower.opener, worker, needs, others)
        return [replace(way, openings=[*way.openings, *told]) for way in found]
    turned = all(isinstance(operation, Switch) for operation in others)
    title = "Let the policy allow it" if turned else "Set the contexts right"
    return [Way(title, others, [*follower.opener.opens(others), *told])]


def _by_switches(follower: Follower, operations: list[Operation]) -> list[Opening]:
    """What else the switches would open to the web server, by type."""
    policy = follower.confinement.policy
    turned = {each.name: each.on for each in operations if isinstance(each, Switch)}
    if policy is None or not turned:
        return []
    counts = type_counts(follower.survey.files)
    return [
        Opening(each.opens, f"{each.what} of the type", ["the web server"], each.paths, each.type)
        for each in effects(policy, turned, counts)
    ]


def _need(block: Block) -> Need | None:
    if not block.code.needs or block.entry is None:
        return None
    return Need(block.entry, block.code.needs)


def _by_policy(follower: Follower, block: Block) -> Operation | None:
    """The operation that a block's cure comes to, where it is one."""
    cure = block.facts.get("mend")
    if isinstance(cure, Relabelled) and block.entry is not None:
        return Context(cure.path, Context.state(block.entry), cure.context)
    # Several switches at once open far more than one address: that is for a person to decide, not
    # for a plan to offer.
    if isinstance(cure, Turned) and len(cure.switches) == 1:
        ((name, on),) = cure.switches.items()
        return Switch.of(Trial(follower.survey), name, on=on)
    return None
