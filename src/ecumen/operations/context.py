"""The security context of a path. Source: chcon(1)."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from ecumen.operations.attribute import Attribute
from ecumen.operations.operation import Hands
from ecumen.operations.quoting import quoted
from ecumen.survey import Entry


@dataclass(frozen=True, slots=True)
class Context(Attribute):
    """States are whole contexts, "" for none."""

    what: ClassVar[str] = "context"
    of_policy: ClassVar[bool] = True

    @staticmethod
    def state(entry: Entry) -> str:
        return entry.context or ""

    @staticmethod
    def changed(entry: Entry, state: str) -> Entry:
        return replace(entry, context=state or None)

    @staticmethod
    def put(hands: Hands, entry: Entry, state: str) -> None:
        hands.set_context(entry, state)

    def describe(self) -> str:
        return self.told("context", self.to)

    def shell(self) -> str:
        # Without the option chcon(1) relabels what a link leads to, which its owner chooses.
        return self.run("chcon --no-dereference", quoted(self.to), "-R")
