"""The checks, by concern; importing one registers it."""

from ecumen.audit.checks import (
    claims,
    contexts,
    doors,
    fronts,
    indexes,
    logs,
    names,
    owners,
    patterns,
    roots,
    seals,
    served,
    states,
    users,
)

__all__ = [
    "claims",
    "contexts",
    "doors",
    "fronts",
    "indexes",
    "logs",
    "names",
    "owners",
    "patterns",
    "roots",
    "seals",
    "served",
    "states",
    "users",
]
