"""What the operations that make something new have in common."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass, replace

from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.survey import Delta, Entry


@dataclass(frozen=True, slots=True)
class Making(Operation):
    """path: where nothing is yet."""

    path: str

    @property
    def at(self) -> str:
        return self.path

    @abstractmethod
    def made(self) -> Entry:
        """What is there afterwards."""

    @abstractmethod
    def make(self, hands: Hands, there: str) -> None:
        """there: where it can be made ready, as `aside` told."""

    def standing(self, looking: Looking) -> Standing:
        entry = looking.entry(self.path)
        if entry is None:
            return Standing.DUE
        return Standing.DONE if _same(entry, self.made()) else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        return Delta({self.path: placed(looking, self.made())})

    def keep(self, looking: Looking) -> Before:
        # What was there already was not made by this plan, so going back must not take it away.
        if looking.entry(self.path) is not None:
            return ()
        return ((self.path, looking.aside(self.path)),)

    def forward(self, hands: Hands, kept: Before) -> None:
        for path, there in kept:
            if hands.entry(path) is None:
                self.make(hands, there)

    def backward(self, hands: Hands, kept: Before) -> None:
        for path, there in kept:
            entry = hands.entry(path)
            if entry is not None and _same(entry, self.made()):
                hands.remove(path)
            hands.forget(there)


def placed(looking: Looking, made: Entry) -> Entry:
    """What is new has the context of the folder that it lies in, where no rule of the policy says
    otherwise (SELinux Notebook, "Computing Security Contexts").
    """
    folder = looking.entry(made.path.rpartition("/")[0] or "/")
    return made if folder is None else replace(made, context=folder.context)


def _same(entry: Entry, made: Entry) -> bool:
    """Whatever the clock, the disk and the policy add to it."""
    plain = (made.path, made.kind, made.mode, made.uid, made.gid, made.target)
    return plain == (entry.path, entry.kind, entry.mode, entry.uid, entry.gid, entry.target)
