"""The passage: what happens to one request, as a row of gates."""

from ecumen.passage.follow import Follower, follow
from ecumen.passage.request import Request, read_request
from ecumen.passage.verdict import GateResult, Obstacle, Passage, Verdict

__all__ = [
    "Follower",
    "GateResult",
    "Obstacle",
    "Passage",
    "Request",
    "Verdict",
    "follow",
    "read_request",
]
