"""What the operations that tell an engine something have in common."""

from __future__ import annotations

import re
from dataclasses import dataclass

from ecumen.operations.operation import Operation
from ecumen.operations.quoting import quoted


@dataclass(frozen=True, slots=True)
class OfEngine(Operation):
    """engine: its kind. program: what its service is called, and a person tells it by."""

    engine: str
    program: str = ""

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[a-z][a-z0-9_-]*", self.engine):
            raise ValueError(f"no engine: {self.engine}")

    @property
    def at(self) -> str:
        return ""

    def shell(self) -> str:
        return f"systemctl {self.what} -- {quoted(self.program or self.engine)}"
