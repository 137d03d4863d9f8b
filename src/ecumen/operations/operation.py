"""What every operation can do, and what it needs of a machine.

A plan is made of operations. Each names one change of one thing with the state that it expects
(`was`) and the state that it makes (`to`), so that a plan knows that it is stale, and that it is
done already. States are texts, as they are shown: a mode, a number of an owner, an ACL.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from dataclasses import dataclass, fields
from enum import StrEnum
from typing import ClassVar, Protocol, Self

from ecumen.survey import Acl, Delta, Entry

# What must be written down to go back: paths (or names of switches) with their states.
Before = tuple[tuple[str, str], ...]


class Looking(Protocol):
    """A server as it is: the real one, or a survey on which a plan is tried."""

    def entry(self, path: str) -> Entry | None:
        """What lies at a path, links not followed; None for nothing."""

    def names(self, path: str) -> Iterable[str]:
        """What lies in a folder; nothing where it is none."""

    def below(self, path: str) -> Iterable[str]:
        """All that lies below a folder, the upper first."""

    def content(self, path: str) -> bytes | None:
        """What a file holds; None where that is not known."""

    def text(self, path: str) -> bytes | None:
        """What a survey holds of a file; None for all else, and on a machine."""

    def aside(self, path: str) -> str:
        """Where what lies at a path would be kept, out of everybody's reach, once it is removed."""

    def switch(self, name: str) -> bool | None:
        """How a switch of the policy stands; None where that is not known."""

    def leads(self, name: str) -> tuple[str, ...]:
        """Where a name leads by the server's own hosts file; () for nowhere."""

    def running(self, engine: str) -> bool | None:
        """Whether an engine runs; None where that is not known."""


class Hands(Looking, Protocol):
    """A server that can be changed. No link is followed. Each raises OSError, ChangedError where an
    entry that is given is no longer what lies at its path.
    """

    def set_mode(self, entry: Entry, mode: int) -> None: ...

    def set_owner(self, entry: Entry, uid: int | None, gid: int | None) -> None:
        """None: as it is."""

    def set_acl(self, entry: Entry, acl: Acl) -> None:
        """An ACL of owner, group and others alone is taken away."""

    def set_context(self, entry: Entry, context: str) -> None: ...

    def turn(self, name: str, on: bool) -> None:
        """A switch of the policy, for good."""

    def lead(self, name: str, addresses: tuple[str, ...], there: str) -> None:
        """Writes the hosts file anew, in which a name leads to these alone. The old one lies aside
        then.
        """

    def make_folder(self, path: str, mode: int, uid: int, gid: int, there: str) -> None:
        """there: as `aside` told, where it is made ready."""

    def make_link(self, path: str, target: str) -> None: ...

    def make_file(self, path: str, content: bytes, mode: int, uid: int, gid: int) -> None:
        """Where nothing is yet."""

    def write(self, entry: Entry, was: str, content: bytes, there: str) -> None:
        """Puts a new file in the place of one whose content has the digest `was`; owner, mode, ACL
        and context are the same. The old one lies aside then.
        """

    def swap(self, path: str, there: str) -> None:
        """What lies at a path and what lies aside take each other's place."""

    def rename(self, path: str, to: str) -> None:
        """On one disk, where nothing is yet."""

    def remove(self, path: str) -> None:
        """A link, or an empty folder."""

    def put_aside(self, entry: Entry, there: str) -> None:
        """there: as `aside` told."""

    def forget(self, there: str) -> None:
        """What lies aside, if anything does, is gone for good."""

    def reload(self, engine: str) -> None:
        """An engine reads its configuration again, and that is proven."""

    def run(self, engine: str, on: bool) -> None:
        """Starts an engine, or stops it; which is proven, too."""


class Standing(StrEnum):
    """How an operation stands to a server."""

    DUE = "due"
    DONE = "done"
    STALE = "stale"


@dataclass(frozen=True, slots=True)
class Operation(ABC):
    """One change. Members are texts, numbers and tuples of such: the plan format holds them as they
    are.
    """

    what: ClassVar[str]
    of_policy: ClassVar[bool] = False
    # Whether it only has the others take effect: done after them, in either direction, and due when
    # any of them is.
    follows: ClassVar[bool] = False

    @property
    @abstractmethod
    def at(self) -> str:
        """The path that it changes; "" where it changes no file."""

    @abstractmethod
    def standing(self, looking: Looking) -> Standing:
        """Whether the server is as this expects it."""

    @abstractmethod
    def simulate(self, looking: Looking) -> Delta:
        """What would be different. Raises LookupError for what is not there."""

    @abstractmethod
    def keep(self, looking: Looking) -> Before:
        """What must be known to go back; asked before `forward`, and written down."""

    @abstractmethod
    def forward(self, hands: Hands, kept: Before) -> None:
        """Does it. What is done already stays as it is. kept: as `keep` told, and written down."""

    @abstractmethod
    def backward(self, hands: Hands, kept: Before) -> None:
        """Undoes it, or whatever was done of it."""

    @abstractmethod
    def describe(self) -> str:
        """In words, as `set the mode of /srv/choir to 0755`."""

    @abstractmethod
    def shell(self) -> str:
        """The command, to be run as root. Names of hostile owners are quoted."""

    @classmethod
    def read(cls, members: dict[str, object]) -> Self:
        """From the plan format, which was checked by its schema. Raises ValueError."""
        known = {each.name for each in fields(cls)}
        return cls(**{name: _hashable(each) for name, each in members.items() if name in known})


def _hashable(value: object) -> object:
    return tuple(map(_hashable, value)) if isinstance(value, list) else value
