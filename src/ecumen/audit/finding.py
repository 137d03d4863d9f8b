"""What an audit finds: values that can be shown, stored and sent anywhere."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from enum import StrEnum

from ecumen.operations import Operation
from ecumen.operations.opens import Opening
from ecumen.passage.verdict import Evidence


class Impact(StrEnum):
    """What a finding means for visitors and owners, the worst first."""

    OUTAGE = "outage"
    EXPOSURE = "exposure"
    CLASH = "clash"
    DRIFT = "drift"
    UPKEEP = "upkeep"


@dataclass(frozen=True, slots=True)
class Toll:
    """How much a finding costs. requests_a_day, visitors_a_day: None where no log says."""

    sites: int = 0
    addresses: int = 0
    accounts: int = 0
    requests_a_day: int | None = None
    visitors_a_day: int | None = None


@dataclass(frozen=True, slots=True)
class Remedy:
    """One way to mend a finding: a plan's operations, and what else it would open or close.
    commands: to copy, where no operation does it yet. left: how many more paths there are of the
    same kind; an owner may have made millions of them.
    """

    title: str
    operations: list[Operation] = field(default_factory=list)
    openings: list[Opening] = field(default_factory=list)
    commands: list[str] = field(default_factory=list)
    left: int = 0


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing wrong. subject: what it is about, the same from survey to survey.

    group: findings with one cause have one group, named by it.
    """

    id: str
    impact: Impact
    title: str
    subject: str
    sites: list[str]
    evidence: list[Evidence]
    toll: Toll
    group: str
    remedies: list[Remedy] = field(default_factory=list)

    @property
    def key(self) -> str:
        """Keeps a finding's identity from survey to survey."""
        # Paths may hold bytes that are no UTF-8, and no path holds the byte zero.
        data = f"{self.id}\0{self.subject}".encode("utf-8", "surrogateescape")
        return hashlib.sha256(data).hexdigest()[:16]


@dataclass(frozen=True, slots=True)
class FailedCheck:
    """A check that could not be run to its end; the others were."""

    id: str
    why: str


@dataclass(frozen=True, slots=True)
class Audit:
    """All that was found, the worst first."""

    findings: list[Finding]
    failed_checks: list[FailedCheck]
