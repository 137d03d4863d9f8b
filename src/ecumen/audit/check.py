"""The catalogue of checks: each registers itself and looks at the scene for one kind of thing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace

from ecumen.audit.finding import Finding, Impact, Remedy, Toll
from ecumen.audit.scene import Scene, Site
from ecumen.operations import Operation
from ecumen.operations.mode import Mode
from ecumen.operations.ways import Way
from ecumen.passage.verdict import Evidence
from ecumen.survey import Entry


@dataclass(frozen=True, slots=True)
class Found:
    """What a check yields; the rest of the finding stands in the catalogue.

    title: where it says more than the check's own. group: the cause, where several share one.
    """

    subject: str
    sites: list[Site]
    evidence: list[Evidence]
    title: str = ""
    group: str = ""
    impact: Impact | None = None
    remedies: list[Remedy] = field(default_factory=list)
    addresses: int = 0
    accounts: int = 0


MOST_SHOWN = 5  # pieces of evidence of one kind in a finding
MOST_PLANNED = 1000  # operations of one remedy
Look = Callable[[Scene], Iterable[Found]]


@dataclass(frozen=True, slots=True)
class Check:
    """One rule of the audit. needs: what a survey must hold for it; it is passed over otherwise."""

    id: str
    impact: Impact
    title: str
    look: Look
    needs: tuple[str, ...] = ()

    def findings(self, scene: Scene) -> Iterable[Finding]:
        if not all(scene.holds(need) for need in self.needs):
            return
        for found in self.look(scene):
            yield Finding(
                id=self.id,
                impact=found.impact or self.impact,
                title=found.title or self.title,
                subject=found.subject,
                sites=[site.name for site in found.sites],
                evidence=found.evidence,
                toll=Toll(len(found.sites), found.addresses, found.accounts),
                # Findings of different checks never share a cause, whatever each calls it.
                group=f"{self.id} {found.group}".rstrip(),
                remedies=found.remedies,
            )


CHECKS: dict[str, Check] = {}


def check(
    id: str, impact: Impact, title: str, *, needs: tuple[str, ...] = ()
) -> Callable[[Look], Look]:
    """Registers a function as the check of this id."""

    def register(look: Look) -> Look:
        # Two checks of one name would hide each other, at import and not in a test.
        assert id not in CHECKS, id
        CHECKS[id] = Check(id, impact, title, look, needs)
        return look

    return register


def mended(
    *titles: str, operations: Iterable[Operation] = (), commands: Iterable[str] = ()
) -> list[Remedy]:
    """Remedies in words, the least opening first; what does it belongs to the first."""
    found = [Remedy(title) for title in titles]
    if found:
        found[0] = replace(found[0], operations=list(operations), commands=list(commands))
    return found


def changed_modes(title: str, entries: Sequence[Entry], change: str) -> list[Remedy]:
    """One remedy that changes the mode of each, as `o-w`; of the first `MOST_PLANNED` of them."""
    first = [Mode.of(entry, change) for entry in entries[:MOST_PLANNED]]
    return [Remedy(title, list(first), left=len(entries) - len(first))]


def remedy_of(way: Way) -> Remedy:
    """A plan as a remedy."""
    return Remedy(way.title, way.operations, way.openings)
