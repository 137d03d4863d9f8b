"""Remedies in words and commands, as every edge shows them."""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.audit.finding import Remedy

MOST_TOLD = 20
MOST_OPENINGS = 6


@dataclass(frozen=True, slots=True)
class RemedyView:
    """operations: in words; shell: the commands to copy; of both the first `MOST_TOLD`, and how
    many more there are. opens: what else it would open or close.
    """

    title: str
    operations: list[str]
    opens: list[str]
    shell: list[str]
    more: int


def told(remedy: Remedy) -> RemedyView:
    first = remedy.operations[:MOST_TOLD]
    return RemedyView(
        remedy.title,
        [operation.describe() for operation in first],
        [opening.words for opening in remedy.openings[:MOST_OPENINGS]],
        [operation.shell() for operation in first] + remedy.commands,
        len(remedy.operations) - len(first) + remedy.left,
    )
