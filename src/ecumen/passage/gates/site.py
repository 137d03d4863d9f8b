"""Which virtual host answers, and why that one? The engine's adapter holds the contest."""

from __future__ import annotations

from ecumen.engines.releases import untried
from ecumen.engines.sites import Part, Proof
from ecumen.passage.situation import Gate, Situation, not_reached


def judge(now: Situation) -> Part:
    if now.engine is None or now.arrival is None:
        return not_reached()
    now.handling = now.engine.handle(now.arrival)
    site, record = now.handling.site, now.engine.record
    said = untried(record.kind, record.version)
    if said:
        site.proofs.append(Proof(text=said))
    return site


GATE = Gate("site", judge)
