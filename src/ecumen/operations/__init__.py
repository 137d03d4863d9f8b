"""Operations: typed changes of a server, the plans that are made of them, and what those open.

Each kind has a file of its own and the same few verbs; `plan.KINDS` lists them.
"""

from ecumen.operations.draft import cut_to, done, simulated
from ecumen.operations.operation import Hands, Kept, Looking, Operation, Standing
from ecumen.operations.plan import KINDS, Ground, Plan, read_operation, read_plan, stands, written

__all__ = [
    "KINDS",
    "Ground",
    "Hands",
    "Kept",
    "Looking",
    "Operation",
    "Plan",
    "Standing",
    "cut_to",
    "done",
    "read_operation",
    "read_plan",
    "simulated",
    "stands",
    "written",
]
