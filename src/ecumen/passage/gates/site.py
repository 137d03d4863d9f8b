"""Which virtual host answers, and why that one? The engine's adapter holds the contest."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, not_reached


def judge(now: Situation) -> Part:
    if now.engine is None or now.arrival is None:
        return not_reached()
    now.handling = now.engine.handle(now.arrival)
    return now.handling.site


GATE = Gate("site", judge)
