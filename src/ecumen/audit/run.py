"""Runs the checks over one survey, each on its own: one that fails does not stop the rest."""

from __future__ import annotations

from collections.abc import Callable

from ecumen.audit.check import CHECKS
from ecumen.audit.finding import Audit, FailedCheck, Finding, Impact
from ecumen.audit.scene import Scene, Spread, by_itself
from ecumen.passage import Follower

Progress = Callable[[str, int, int], None]
_ORDER = {impact: number for number, impact in enumerate(Impact)}


def audit(
    ground: Follower | Scene,
    progress: Progress = lambda doing, done, total: None,
    spread: Spread = by_itself,
) -> Audit:
    """All findings, the worst first. A check that fails is named in the result."""
    scene = ground if isinstance(ground, Scene) else Scene(ground)
    scene.look(spread, lambda *step: progress("following every front page", *step))
    findings: list[Finding] = []
    failed: list[FailedCheck] = []
    for number, check in enumerate(CHECKS.values()):
        progress(f"checking {check.id}", number, len(CHECKS))
        try:
            findings += check.findings(scene)
        # Anything at all: what one check does not understand must not hide what forty others found.
        except Exception as error:
            failed.append(FailedCheck(check.id, f"{type(error).__name__}: {error}"))
    findings.sort(key=lambda f: (_ORDER[f.impact], -f.toll.sites, f.id, f.subject))
    return Audit(findings, failed)
