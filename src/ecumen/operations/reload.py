"""An engine reads its configuration again, gracefully."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.quoting import quoted
from ecumen.survey import Delta


@dataclass(frozen=True, slots=True)
class Reload(Operation):
    """engine: its kind. program: what a person tells it by, as in `apachectl`."""

    what: ClassVar[str] = "reload"
    follows: ClassVar[bool] = True
    engine: str
    program: str = ""

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[a-z][a-z0-9_-]*", self.engine):
            raise ValueError(f"no engine: {self.engine}")

    @property
    def at(self) -> str:
        return ""

    def standing(self, looking: Looking) -> Standing:
        return Standing.DUE

    def simulate(self, looking: Looking) -> Delta:
        return Delta()

    def keep(self, looking: Looking) -> Before:
        return ()

    def forward(self, hands: Hands, kept: Before) -> None:
        hands.reload(self.engine)

    def backward(self, hands: Hands, kept: Before) -> None:
        hands.reload(self.engine)

    def describe(self) -> str:
        return f"have {self.engine} read its configuration again"

    def shell(self) -> str:
        return f"systemctl reload -- {quoted(self.program or self.engine)}"
