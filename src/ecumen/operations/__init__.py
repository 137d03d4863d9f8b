"""Operations: typed changes of a server, the plans that are made of them, and what those open.

Each kind has a file of its own and the same few verbs; `plan.KINDS` lists them.
"""

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.plan import (
    KINDS,
    Plan,
    PlanGround,
    read_operation,
    read_plan,
    stands,
    written,
)
from ecumen.operations.trial import cut_to, done, simulated

__all__ = [
    "KINDS",
    "Before",
    "Hands",
    "Looking",
    "Operation",
    "Plan",
    "PlanGround",
    "Standing",
    "cut_to",
    "done",
    "read_operation",
    "read_plan",
    "simulated",
    "stands",
    "written",
]
