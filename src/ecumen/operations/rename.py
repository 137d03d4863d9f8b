"""Another name, or another place on the same disk. Source: rename(2), mv(1)."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass, replace
from typing import ClassVar

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.quoting import quoted
from ecumen.survey import Delta, Entry


@dataclass(frozen=True, slots=True)
class Rename(Operation):
    """path: what is renamed, with all that lies in it; to: its path afterwards, where nothing is
    yet. was: what is expected there, as `dir 0755 1001:1001`.
    """

    what: ClassVar[str] = "rename"
    path: str
    to: str
    was: str

    def __post_init__(self) -> None:
        if self.to == self.path or self.to.startswith(f"{self.path}/"):
            raise ValueError(f"{self.path} cannot be moved into itself")

    @classmethod
    def of(cls, looking: Looking, path: str, to: str) -> Rename:
        """Raises LookupError where nothing is there, or something is in its way."""
        entry = looking.entry(path)
        if entry is None:
            raise LookupError(f"nothing is known of {path}")
        if looking.entry(to) is not None:
            raise LookupError(f"{to} is there already")
        return cls(path, to, _state(entry))

    @property
    def at(self) -> str:
        # What both lie in: there some may lose what others gain.
        return posixpath.commonpath((posixpath.dirname(self.path), posixpath.dirname(self.to)))

    def standing(self, looking: Looking) -> Standing:
        here, there = looking.entry(self.path), looking.entry(self.to)
        if there is None:
            return Standing.DUE if here is not None and _state(here) == self.was else Standing.STALE
        return Standing.DONE if here is None and _state(there) == self.was else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        if looking.entry(self.path) is None:
            raise LookupError(f"nothing is known of {self.path}")
        moved: dict[str, Entry | None] = {}
        texts: dict[str, bytes | None] = {}
        for path in (self.path, *looking.below(self.path)):
            inner, text = looking.entry(path), looking.text(path)
            there = self.to + path[len(self.path) :]
            if inner is not None:
                moved[path], moved[there] = None, replace(inner, path=there)
            if text is not None:
                texts[path], texts[there] = None, text
        return Delta(moved, texts=texts)

    def keep(self, looking: Looking) -> Before:
        # What was done before was not done by this plan.
        return ((self.path, self.to),) if looking.entry(self.path) is not None else ()

    def forward(self, hands: Hands, kept: Before) -> None:
        if hands.entry(self.path) is not None and hands.entry(self.to) is None:
            hands.rename(self.path, self.to)

    def backward(self, hands: Hands, kept: Before) -> None:
        for path, to in kept:
            there = hands.entry(to)
            if there is not None and hands.entry(path) is None and _state(there) == self.was:
                hands.rename(to, path)

    def describe(self) -> str:
        return f"rename {self.path} to {self.to}"

    def shell(self) -> str:
        return f"mv -n -T -- {quoted(self.path)} {quoted(self.to)}"


def _state(entry: Entry) -> str:
    return f"{entry.kind.value} {entry.mode:04o} {entry.uid}:{entry.gid}"
