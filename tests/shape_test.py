"""The shape of the code, where no tool of its own holds it."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

from ecumen.engines.engine import KINDS

SRC = Path(__file__).parents[1] / "src"


def sources(*rooms: str) -> list[Path]:
    found = [path for room in rooms for path in (SRC / room).rglob("*.py")]
    return [path for path in found if not path.name.endswith("_test.py")]


@pytest.mark.parametrize(
    "path",
    [path for path in sources("ecumen", "ecumen_web", "ecumen_cli") if "engines" not in path.parts],
    ids=lambda path: str(path.relative_to(SRC)),
)
def test_only_the_adapters_know_the_kinds_of_engines(path: Path) -> None:
    """What an engine does otherwise than another it says itself (`engines.engine.Engine`)."""
    texts = {
        node.value
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Constant) and isinstance(node.value, str)
    }
    assert not texts & set(KINDS)
