"""TLS: does the certificate let the visitor in? Not evaluated yet: https is unsure here."""

from __future__ import annotations

from ecumen.engines.sites import Doubt, Part, Phase, Rank
from ecumen.passage.situation import Gate, Situation, Words


def judge(now: Situation) -> Part:
    part = Part("seal.plain-http")
    if now.request.scheme == "https":
        part.code = "seal.asked"
        part.doubts.append(Doubt("seal.not-evaluated", Rank(Phase.REACH, 2)))
    return part


GATE = Gate(
    "seal",
    judge,
    {
        "seal.plain-http": Words("Plain HTTP: no certificate is asked for."),
        "seal.asked": Words("The address asks for a sealed connection."),
        "seal.not-evaluated": Words(
            "Certificates are not evaluated yet, so the answer to an https address is not sure."
        ),
    },
)
