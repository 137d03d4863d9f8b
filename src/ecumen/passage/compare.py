"""What a server answered, beside what was predicted."""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.passage.verdict import Passage


@dataclass(frozen=True, slots=True)
class Compared:
    """One thing that a visitor sees. agrees: None where nothing sure was predicted.

    what: status, content_type or location.
    """

    what: str
    predicted: str | None
    observed: str | None
    agrees: bool | None


def compare(
    passage: Passage, status: int | None, content_type: str | None, location: str | None
) -> list[Compared]:
    """Row by row; a location is left out where neither side has one."""
    rows = [
        ("status", _text(passage.status), _text(status)),
        ("content_type", passage.content_type, content_type),
        ("location", passage.location, location),
    ]
    # A type that was left open is no prediction.
    open_rows = {"content_type"} if passage.decided and passage.content_type is None else set()
    return [
        Compared(
            what,
            predicted,
            observed,
            None if not passage.decided or what in open_rows else predicted == observed,
        )
        for what, predicted, observed in rows
        if what == "status" or predicted is not None or observed is not None
    ]


def _text(status: int | None) -> str | None:
    return None if status is None else str(status)
