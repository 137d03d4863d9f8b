"""A new symbolic link, of root. Source: symlink(2), ln(1)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.making import Making
from ecumen.operations.operation import Hands
from ecumen.operations.quoting import quoted
from ecumen.survey import Entry, Kind


@dataclass(frozen=True, slots=True)
class Link(Making):
    """target: what it leads to, as it stands in the link."""

    what: ClassVar[str] = "link"
    target: str

    def made(self) -> Entry:
        return Entry(self.path, Kind.LINK, 0o777, 0, 0, target=self.target)

    def make(self, hands: Hands, there: str) -> None:
        hands.make_link(self.path, self.target)

    def describe(self) -> str:
        return f"make the link {self.path} to {self.target}"

    def shell(self) -> str:
        return f"ln -s -- {quoted(self.target)} {quoted(self.path)}"
