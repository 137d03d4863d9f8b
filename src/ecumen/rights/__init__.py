"""May this account do that to this path: owner, mode, ACL and links, as the kernel decides."""

from ecumen.rights.decide import (
    BY_POLICY,
    FOLLOW,
    LOOK,
    READ,
    SEARCH,
    WRITE,
    Decision,
    Guard,
    Subject,
    decide,
    subject_of,
    subjects_of,
)
from ecumen.rights.walk import Problem, Step, Walk, Walker

__all__ = [
    "BY_POLICY",
    "FOLLOW",
    "LOOK",
    "READ",
    "SEARCH",
    "WRITE",
    "Decision",
    "Guard",
    "Problem",
    "Step",
    "Subject",
    "Walk",
    "Walker",
    "decide",
    "subject_of",
    "subjects_of",
]
