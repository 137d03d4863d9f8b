"""What every answer that is made in a test must be: its codes stand where they were declared for,
and no sentence lacks a fact.
"""

from __future__ import annotations

from ecumen.codes import Code, Facts, Verdict
from ecumen.passage import words
from ecumen.passage.follow import Follower, Ran
from ecumen.passage.request import Request

MISSING = words._Facts.__missing__
_run = Follower.run


def missing(facts: words._Facts, key: str) -> str:
    raise KeyError(f"a sentence lacks its fact {key}")


def run(follower: Follower, request: Request) -> Ran:
    ran = _run(follower, request)
    for name, part in ran.results.items():
        for block in part.blocks:
            _right(block.code, Verdict.BLOCKED, name, block.facts)
        for doubt in part.doubts:
            _right(doubt.code, Verdict.UNSURE, name, doubt.facts)
        assert part.code.verdict is not Verdict.BLOCKED, part.code
        assert part.code.gate in (name, ""), (part.code, name)
    return ran


def _right(code: Code, verdict: Verdict, gate: str, facts: Facts) -> None:
    assert isinstance(code, Code), code
    assert code.verdict is verdict, (code, verdict)
    assert code.gate == gate, (code, gate)
    assert code.facts <= facts.keys(), (code, code.facts - facts.keys())


def watch() -> None:
    """From now on an answer that is not whole is an error."""
    words._Facts.__missing__ = missing  # type: ignore[method-assign]
    Follower.run = run  # type: ignore[method-assign]
