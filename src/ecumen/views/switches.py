"""Policy switches with what depends on each here: sites that it would let through, and how many
paths of which type would open or close to the web server if it were turned.
"""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.audit.checks.contexts import stopped_by_policy
from ecumen.audit.scene import Scene
from ecumen.contexts.effects import Effect, effects, type_counts


@dataclass(frozen=True, slots=True)
class SwitchView:
    """sites: stopped now, and let through if the switch is turned."""

    name: str
    on: bool
    sites: list[str]
    effects: list[Effect]


def switches(scene: Scene) -> list[SwitchView]:
    """Every switch on which the web server's domain depends: those that bear on something here
    first.
    """
    confinement = scene.follower.confinement
    policy = confinement.policy
    if policy is None or confinement.mode == "disabled":
        return []
    counts = type_counts(scene.survey.files)
    waiting = _waiting(scene)
    found = [
        SwitchView(name, policy.switches.get(name, False), waiting.get(name, []),
               list(effects(policy, {name: not policy.switches.get(name, False)}, counts)))
        for name in sorted(policy.switches_used)
    ]  # fmt: skip
    return sorted(found, key=lambda each: (-len(each.sites), not each.effects, each.name))


def _waiting(scene: Scene) -> dict[str, list[str]]:
    """The sites whose front page one switch would let past the policy, by its name."""
    found: dict[str, list[str]] = {}
    for stop in stopped_by_policy(scene):
        for way in stop.ways:
            # A site that needs two switches is let through by neither alone.
            if len(way) == 1:
                found.setdefault(next(iter(way)), []).append(stop.site.name)
    return found
