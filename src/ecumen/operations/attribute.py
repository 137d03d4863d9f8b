"""What the operations on owners, modes, ACLs and contexts have in common: one attribute of a path,
or of all below it.
"""

from __future__ import annotations

from abc import abstractmethod
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.survey import Delta, Entry

# States of what lies below a folder, and how many paths have each.
Census = tuple[tuple[str, int], ...]


@dataclass(frozen=True, slots=True)
class Attribute(Operation):
    """path: what is changed. was, to: its state. below: None, or the states of all below it, which
    are set to the same.
    """

    path: str
    was: str
    to: str
    below: Census | None = None

    @property
    def at(self) -> str:
        return self.path

    @staticmethod
    @abstractmethod
    def state(entry: Entry) -> str:
        """The state of an entry."""

    @staticmethod
    @abstractmethod
    def changed(entry: Entry, state: str) -> Entry:
        """The entry with another state. Raises ValueError for what is no state."""

    @staticmethod
    @abstractmethod
    def put(hands: Hands, entry: Entry, state: str) -> None:
        """Sets the state of what was looked at."""

    @classmethod
    def kept(cls, entry: Entry) -> str:
        """All of an entry that setting the state may change."""
        return cls.state(entry)

    @classmethod
    def restore(cls, hands: Hands, entry: Entry, kept: str) -> None:
        """Sets all of it back."""
        cls.put(hands, entry, kept)

    def ours(self, entry: Entry, kept: str) -> bool:
        """Whether an entry is as this leaves it, done or half undone: what others changed since
        is not ours to take back.
        """
        return self.state(entry) == self.to

    @classmethod
    def census(cls, looking: Looking, path: str) -> Census:
        """The states of all below a folder."""
        found = Counter(cls.state(entry) for entry in _below(looking, path))
        return tuple(sorted(found.items()))

    def standing(self, looking: Looking) -> Standing:
        entry = looking.entry(self.path)
        if entry is None:
            return Standing.STALE
        state = self.state(entry)
        below = None if self.below is None else self.census(looking, self.path)
        if state == self.to and all(each == self.to for each, _ in below or ()):
            return Standing.DONE
        # A census and not a list of paths: a plan for a hundred thousand files stays readable, and
        # yet a single file that changed makes it stale.
        return Standing.DUE if (state, below) == (self.was, self.below) else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        return Delta({entry.path: self.changed(entry, self.to) for entry in self._whole(looking)})

    def keep(self, looking: Looking) -> Before:
        return tuple((entry.path, self.kept(entry)) for entry in self._whole(looking))

    def forward(self, hands: Hands, kept: Before) -> None:
        for entry in self._whole(hands):
            # A change that changes nothing would still touch the time of change, and backups would
            # take the file again.
            if self.state(entry) != self.to:
                self.put(hands, entry, self.to)

    def backward(self, hands: Hands, kept: Before) -> None:
        for path, before in kept:
            entry = hands.entry(path)
            if entry is not None and self.kept(entry) != before and self.ours(entry, before):
                self.restore(hands, entry, before)

    def _whole(self, looking: Looking) -> Iterator[Entry]:
        top = looking.entry(self.path)
        if top is None:
            raise LookupError(f"nothing is known of {self.path}")
        yield top
        if self.below is not None:
            yield from _below(looking, self.path)

    @property
    def deep(self) -> str:
        """The option of commands that take all below."""
        return "" if self.below is None else " -R"

    def told(self, attribute: str, value: str) -> str:
        below = "" if self.below is None else " and all below"
        return f"set the {attribute} of {self.path}{below} to {value}"


def _below(looking: Looking, path: str) -> Iterator[Entry]:
    for inner in looking.below(path):
        entry = looking.entry(inner)
        if entry is not None:
            yield entry
