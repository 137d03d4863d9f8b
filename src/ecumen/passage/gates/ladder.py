"""Owner, mode and ACL at every step of the path, as the kernel decides for the engine's worker.

Source: path_resolution(7), acl(5). The links that the configuration allows are judged here too.
"""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, not_reached


def judge(now: Situation) -> Part:
    return now.handling.ladder if now.handling else not_reached()


GATE = Gate("ladder", judge)
