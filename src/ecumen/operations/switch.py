"""A switch of the security policy. Source: setsebool(8)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.survey import Delta

_NAME = re.compile(r"[A-Za-z0-9_]+\Z")
_SPELT = {True: "on", False: "off", None: ""}


@dataclass(frozen=True, slots=True)
class Switch(Operation):
    """was, to: `on` or `off`; was is "" where it is not known."""

    what: ClassVar[str] = "switch"
    of_policy: ClassVar[bool] = True
    name: str
    was: str
    to: str

    def __post_init__(self) -> None:
        if not _NAME.match(self.name) or self.to not in ("on", "off"):
            raise ValueError(f"no switch: {self.name} {self.to}")

    @classmethod
    def of(cls, looking: Looking, name: str, *, on: bool) -> Switch:
        return cls(name, _SPELT[looking.switch(name)], _SPELT[on])

    @property
    def at(self) -> str:
        return ""

    @property
    def on(self) -> bool:
        return self.to == "on"

    def standing(self, looking: Looking) -> Standing:
        now = _SPELT[looking.switch(self.name)]
        if now == self.to:
            return Standing.DONE
        return Standing.DUE if now == self.was else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        return Delta(switches={self.name: self.on})

    def keep(self, looking: Looking) -> Before:
        return ((self.name, _SPELT[looking.switch(self.name)]),)

    def forward(self, hands: Hands, kept: Before) -> None:
        if hands.switch(self.name) != self.on:
            hands.turn(self.name, self.on)

    def backward(self, hands: Hands, kept: Before) -> None:
        for name, state in kept:
            if hands.switch(name) == self.on and state and state != self.to:
                hands.turn(name, state == "on")

    def describe(self) -> str:
        return f"turn {self.to} the switch {self.name}"

    def shell(self) -> str:
        return f"setsebool -P {self.name} {self.to}"
