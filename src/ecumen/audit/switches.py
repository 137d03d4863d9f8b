"""Policy switches with what depends on each here: sites that it would let through, and how many
paths of which type would open or close to the web server if it were turned.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

from ecumen.audit.checks.fronts import stopped
from ecumen.audit.scene import Scene
from ecumen.contexts.confinement import CLASSES, LIST, READ, Confinement, type_of
from ecumen.contexts.policy import Policy
from ecumen.survey import Kind
from ecumen.survey.files import KINDS

_ASKED = (
    (Kind.FILE, READ, "read files"),
    (Kind.FILE, ("getattr", "open", "write"), "change files"),
    (Kind.DIR, ("search",), "pass folders"),
    (Kind.DIR, LIST, "list folders"),
)


@dataclass(frozen=True, slots=True)
class Effect:
    """What turning a switch would open or close: what may be done with a type, and on how many
    paths.
    """

    opens: bool
    what: str
    type: str
    paths: int


@dataclass(frozen=True, slots=True)
class Switch:
    """sites: stopped now, and let through if the switch is turned."""

    name: str
    on: bool
    sites: list[str]
    effects: list[Effect]


def switches(scene: Scene) -> list[Switch]:
    """Every switch on which the web server's domain depends: those that bear on something here
    first.
    """
    confinement = scene.follower.confinement
    policy = confinement.policy
    if policy is None or confinement.mode == "disabled":
        return []
    counts = _counts(scene)
    waiting = _waiting(scene)
    found = [
        Switch(name, policy.switches.get(name, False), waiting.get(name, []),
               list(_effects(policy, name, counts)))
        for name in sorted(policy.switches_used)
    ]  # fmt: skip
    return sorted(found, key=lambda each: (-len(each.sites), not each.effects, each.name))


def _counts(scene: Scene) -> Counter[tuple[Kind, str]]:
    """How many paths of each kind and type the survey holds."""
    files = scene.survey.files
    pairs = Counter(zip(files.kind, files.context, strict=True))
    found: Counter[tuple[Kind, str]] = Counter()
    for (kind, code), count in pairs.items():
        type_ = type_of(files.context_names[code])
        if type_ is not None:
            found[KINDS[kind], type_] += count
    return found


def _effects(policy: Policy, name: str, counts: Counter[tuple[Kind, str]]) -> Iterator[Effect]:
    turned = {name: not policy.switches.get(name, False)}
    for kind, perms, what in _ASKED:
        for (other, type_), count in sorted(counts.items()):
            if other is not kind:
                continue
            now = _all(policy, type_, kind, perms, {})
            then = _all(policy, type_, kind, perms, turned)
            if now != then:
                yield Effect(then, what, type_, count)


def _all(
    policy: Policy, type_: str, kind: Kind, perms: tuple[str, ...], state: dict[str, bool]
) -> bool:
    return all(policy.allowed(type_, CLASSES[kind], perm, state).allowed for perm in perms)


def _waiting(scene: Scene) -> dict[str, list[str]]:
    """The sites whose front page one switch would let past the policy, by its name."""
    found: dict[str, list[str]] = {}
    confinement: Confinement = scene.follower.confinement
    for site, front, block in stopped(scene):
        if front.gate != "context":
            continue
        if block.code == "context.connect":
            ways = confinement.connects(int(block.facts["port"]))[2]
        else:
            step = confinement.step_at(block.facts.get("path", ""))
            ways = step.switches if step is not None else ()
        for way in ways:
            if len(way) == 1:
                found.setdefault(next(iter(way)), []).append(site.name)
    return found
