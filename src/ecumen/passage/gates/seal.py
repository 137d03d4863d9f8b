"""TLS: does the door speak it, and whose certificate is shown? By the engine's adapter.

Left to the audit: whether the certificate holds the name, and until when.
"""

from __future__ import annotations

from ecumen import codes
from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, not_reached


def judge(now: Situation) -> Part:
    if now.request.scheme != "https":
        return Part(codes.SEAL_PLAIN_HTTP)
    if now.engine is None or now.arrival is None:
        return not_reached()
    return now.engine.seal(now.arrival)


GATE = Gate("seal", judge)
