"""An engine that is started, or stopped for good."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.ofengine import OfEngine
from ecumen.operations.operation import Before, Hands, Looking, Standing
from ecumen.survey import Delta

_SPELT = {True: "running", False: "stopped", None: ""}


@dataclass(frozen=True, slots=True)
class Running(OfEngine):
    """on: whether it is to run."""

    on: ClassVar[bool]

    def standing(self, looking: Looking) -> Standing:
        now = looking.running(self.engine)
        if now is None:
            return Standing.STALE
        return Standing.DONE if now == self.on else Standing.DUE

    def simulate(self, looking: Looking) -> Delta:
        return Delta(running={self.engine: self.on})

    def keep(self, looking: Looking) -> Before:
        return ((self.engine, _SPELT[looking.running(self.engine)]),)

    def forward(self, hands: Hands, kept: Before) -> None:
        if hands.running(self.engine) != self.on:
            hands.run(self.engine, self.on)

    def describe(self) -> str:
        return f"{self.what} {self.engine}"

    def backward(self, hands: Hands, kept: Before) -> None:
        for engine, state in kept:
            if state == _SPELT[not self.on] and hands.running(engine) == self.on:
                hands.run(engine, not self.on)


@dataclass(frozen=True, slots=True)
class Start(Running):
    """An engine that does not run."""

    what: ClassVar[str] = "start"
    on: ClassVar[bool] = True


@dataclass(frozen=True, slots=True)
class Stop(Running):
    """Whom it serves at that moment is served to the end; then nobody is."""

    what: ClassVar[str] = "stop"
    on: ClassVar[bool] = False
