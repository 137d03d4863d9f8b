"""Remedies in words and commands, as every edge shows them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from ecumen.audit.check import MOST_PLANNED
from ecumen.audit.finding import Remedy
from ecumen.operations import Operation
from ecumen.operations.opens import Opening

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


def together(remedies: Iterable[Remedy], count: int) -> Remedy | None:
    """One plan for several findings: what the first remedy of each does, in their order; None where
    fewer than two of them do anything. Nothing more is read once `MOST_PLANNED` operations are
    there: an owner may have made thousands of findings with thousands of paths each.

    count: of all findings of the cause, also of those that are not read.
    """
    operations: dict[Operation, None] = {}
    openings: dict[str, Opening] = {}
    doing = left = 0
    for remedy in remedies:
        if not remedy.operations:
            continue
        doing += 1
        operations |= dict.fromkeys(remedy.operations)
        openings |= {each.words: each for each in remedy.openings}
        left += remedy.left
        if len(operations) >= MOST_PLANNED:
            break
    if doing < 2:
        return None
    first = list(operations)[:MOST_PLANNED]
    title = f"All {count} of this cause at once" if doing == count else (
        f"{doing} of {count} of this cause at once"
    )  # fmt: skip
    left += len(operations) - len(first)
    return Remedy(title, first, list(openings.values()), left=left)


def told(remedy: Remedy) -> RemedyView:
    first = remedy.operations[:MOST_TOLD]
    return RemedyView(
        remedy.title,
        [operation.describe() for operation in first],
        [opening.words for opening in remedy.openings[:MOST_OPENINGS]],
        [operation.shell() for operation in first] + remedy.commands,
        len(remedy.operations) - len(first) + remedy.left,
    )
