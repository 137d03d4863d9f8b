"""What goes out: the file, an index, a listing, a redirect to the folder. By the adapter."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, not_reached


def judge(now: Situation) -> Part:
    return now.handling.serve if now.handling else not_reached()


GATE = Gate("serve", judge)
