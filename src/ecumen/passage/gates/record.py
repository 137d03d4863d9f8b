"""Which log gets the line? By the engine's adapter."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, not_reached


def judge(now: Situation) -> Part:
    return now.handling.record if now.handling else not_reached()


GATE = Gate("record", judge)
