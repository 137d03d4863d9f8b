"""An engine reads its configuration again, gracefully."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.ofengine import OfEngine
from ecumen.operations.operation import Before, Hands, Looking, Standing
from ecumen.survey import Delta


@dataclass(frozen=True, slots=True)
class Reload(OfEngine):
    """Whom it serves at that moment is served to the end."""

    what: ClassVar[str] = "reload"
    follows: ClassVar[bool] = True

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
