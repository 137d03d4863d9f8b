"""Remedies in words and commands, as every edge shows them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from ecumen.audit.check import MOST_PLANNED
from ecumen.audit.finding import Remedy

MOST_TOLD = 20
MOST_OPENINGS = 6
MOST_ALONE = 3
SEVERAL = "several causes"


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


def shown_groups(causes: Sequence[tuple[str, str]]) -> list[str]:
    """As which group each finding is shown, by its check's id and its own group, its cause.

    Causes of one kind that each made a single finding are shown as one group, where there are more
    than MOST_ALONE: thousands of lines with the same fault are one thing to be looked at.
    """
    sizes = Counter(group for _, group in causes)
    alone = Counter(id for id, group in causes if sizes[group] == 1)
    return [
        f"{id} {SEVERAL}" if sizes[group] == 1 and alone[id] > MOST_ALONE else group
        for id, group in causes
    ]


def together(remedies: Sequence[Remedy], title: str) -> Remedy | None:
    """One plan for several findings: what the first remedy of each does, in their order; None where
    fewer than two of them do anything. What does not fit is counted as left.
    """
    doing = [remedy for remedy in remedies if remedy.operations]
    if len(doing) < 2:
        return None
    operations = list(dict.fromkeys(each for remedy in doing for each in remedy.operations))
    openings = list({each.words: each for remedy in doing for each in remedy.openings}.values())
    left = len(operations) - MOST_PLANNED + sum(remedy.left for remedy in doing)
    return Remedy(title, operations[:MOST_PLANNED], openings, left=max(0, left))


def told(remedy: Remedy) -> RemedyView:
    first = remedy.operations[:MOST_TOLD]
    return RemedyView(
        remedy.title,
        [operation.describe() for operation in first],
        [opening.words for opening in remedy.openings[:MOST_OPENINGS]],
        [operation.shell() for operation in first] + remedy.commands,
        len(remedy.operations) - len(first) + remedy.left,
    )
