"""TLS: does the door speak it, and whose certificate is shown? By the engine's adapter.

Left to the audit: whether the certificate holds the name, and until when.
"""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    if now.request.scheme != "https":
        return Part("seal.plain-http")
    if now.engine is None or now.arrival is None:
        return not_reached()
    return now.engine.seal(now.arrival)


GATE = Gate(
    "seal",
    judge,
    {
        "seal.plain-http": Words("Plain HTTP: no certificate is asked for."),
        "seal.spoken": Words("The door speaks TLS; the certificate shown is that of {site}."),
        "seal.not-spoken": Words(
            "The door does not speak TLS: the connection fails.",
            "Ask with http, or have the site speak TLS on this port.",
        ),
        "seal.rejected": Words(
            "{site} rejects TLS for this name: the connection fails.",
            "Give the name a certificate, or ask for another name.",
        ),
    },
)
