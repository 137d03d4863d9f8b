"""What the operations on owners, modes, ACLs and contexts have in common: one attribute of a path,
or of all below it.
"""

from __future__ import annotations

import re
from abc import abstractmethod
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import ClassVar

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.quoting import quoted
from ecumen.survey import Delta, Entry, Kind

# States of what lies below a folder, and how many paths have each.
Census = tuple[tuple[str, int], ...]
_ALONE = {"": None, "files": Kind.FILE, "folders": Kind.DIR}
_GLOB = re.compile(r"[*?\[\]\\]")


@dataclass(frozen=True, slots=True)
class Attribute(Operation):
    """path: what is changed. was, to: its state. below: None, or the states of all below it, which
    are set to the same. but: paths below that are left alone, with all in them. only: `files` or
    `folders`, where nothing else is meant; "" for all.
    """

    # Where links have such a state, too.
    of_links: ClassVar[bool] = True

    path: str
    was: str
    to: str
    below: Census | None = None
    but: tuple[str, ...] = field(default=(), kw_only=True)
    only: str = field(default="", kw_only=True)

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
    def census(
        cls, looking: Looking, path: str, but: tuple[str, ...] = (), only: str = ""
    ) -> Census:
        """The states of all below a folder that are meant."""
        found = Counter(map(cls.state, cls._meant(looking, path, but, only)))
        return tuple(sorted(found.items()))

    @classmethod
    def _meant(
        cls, looking: Looking, path: str, but: tuple[str, ...], only: str
    ) -> Iterator[Entry]:
        for inner in looking.below(path):
            entry = None if _within(inner, but) else looking.entry(inner)
            if entry is not None and cls._of(entry, only):
                yield entry

    @classmethod
    def _of(cls, entry: Entry, only: str) -> bool:
        kind = _ALONE[only]
        return entry.kind is kind if kind else cls.of_links or entry.kind is not Kind.LINK

    def standing(self, looking: Looking) -> Standing:
        entry = looking.entry(self.path)
        if entry is None:
            return Standing.STALE
        below = None
        if self.below is not None:
            below = self.census(looking, self.path, self.but, self.only)
        changed = below is None or self._of(entry, self.only)
        state = self.state(entry) if changed else self.was
        states = {*([state] if changed else []), *(each for each, _ in below or ())}
        if states <= {self.to}:
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
        if self.below is None or self._of(top, self.only):
            yield top
        if self.below is not None:
            yield from self._meant(looking, self.path, self.but, self.only)

    def told(self, attribute: str, value: str) -> str:
        what = f" and all {self.only or ''}".rstrip() + " below" if self.below is not None else ""
        left = f" but {', '.join(self.but)}" if self.but else ""
        return f"set the {attribute} of {self.path}{what}{left} to {value}"

    def run(self, command: str, state: str, deep: str = "") -> str:
        """The command for the path, or for all that is meant. deep: its option for all below."""
        if self.below is None:
            return f"{command} {state} -- {quoted(self.path)}"
        if deep and not self.but and not self.only:
            return f"{command} {deep} {state} -- {quoted(self.path)}"
        # find(1) takes what is left alone as a pattern.
        left = (_GLOB.sub(r"\\\g<0>", each) for each in self.but)
        passed = "".join(f" -path {quoted(each)} -prune -o" for each in left)
        kind = {"files": " -type f", "folders": " -type d"}.get(
            self.only, "" if self.of_links else " ! -type l"
        )
        return f"find {quoted(self.path)}{passed}{kind} -exec {command} {state} -- {{}} +"


def _within(path: str, tops: tuple[str, ...]) -> bool:
    return any(path == top or path.startswith(f"{top}/") for top in tops)
