"""Something taken away, and kept aside so that it comes back. Source: rename(2)."""

from __future__ import annotations

import posixpath
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.quoting import quoted
from ecumen.survey import Delta, Entry


@dataclass(frozen=True, slots=True)
class Remove(Operation):
    """path: what is taken away, with all that lies in it. was: what is expected there, as
    `dir 0755 1001:1001`, of a link with what it leads to.
    """

    what: ClassVar[str] = "remove"
    path: str
    was: str

    def __post_init__(self) -> None:
        if self.path == "/":
            raise ValueError("the root of all cannot be taken away")

    @classmethod
    def of(cls, looking: Looking, path: str) -> Remove:
        """Raises LookupError where nothing is there."""
        entry = looking.entry(path)
        if entry is None:
            raise LookupError(f"nothing is known of {path}")
        return cls(path, _state(entry))

    @property
    def at(self) -> str:
        return posixpath.dirname(self.path)

    def standing(self, looking: Looking) -> Standing:
        entry = looking.entry(self.path)
        if entry is None:
            return Standing.DONE
        return Standing.DUE if _state(entry) == self.was else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        gone = [self.path, *looking.below(self.path)]
        return Delta(dict.fromkeys(gone), texts=dict.fromkeys(gone))

    def keep(self, looking: Looking) -> Before:
        if looking.entry(self.path) is None:
            return ()
        return ((self.path, looking.aside(self.path)),)

    def forward(self, hands: Hands, kept: Before) -> None:
        for path, there in kept:
            entry = hands.entry(path)
            if entry is not None and hands.entry(there) is None:
                hands.put_aside(entry, there)

    def backward(self, hands: Hands, kept: Before) -> None:
        for path, there in kept:
            # Where somebody has put something else meanwhile, both stay where they are.
            if hands.entry(path) is None and hands.entry(there) is not None:
                hands.rename(there, path)

    def describe(self) -> str:
        return f"take away {self.path}, kept aside"

    def shell(self) -> str:
        kind = self.was.split()[0]
        return f"rm {'-r ' if kind == 'dir' else ''}-- {quoted(self.path)}"


def _state(entry: Entry) -> str:
    told = f"{entry.kind.value} {entry.mode:04o} {entry.uid}:{entry.gid}"
    return told if entry.target is None else f"{told} -> {entry.target}"
