"""Which log gets the line? By the engine's adapter."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    return now.handling.record if now.handling else not_reached()


GATE = Gate(
    "record",
    judge,
    {
        "record.log": Words("The line lands in {log}."),
        "record.program": Words("The line goes to a program: {log}."),
        "record.nowhere": Words("No access log is set: the request leaves no line."),
        "record.conditional": Words("Whether a log gets the line depends on the request."),
    },
)
