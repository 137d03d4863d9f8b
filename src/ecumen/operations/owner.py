"""Owner and group of a path. Source: chown(1), chown(2)."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from ecumen.operations.attribute import Attribute
from ecumen.operations.operation import Hands, Looking
from ecumen.operations.quoting import quoted
from ecumen.survey import Account, Entry, Group, Kind


@dataclass(frozen=True, slots=True)
class _Belonging(Attribute):
    """chown(2) takes the right to run as the owner (or the group) away from files: it changes the
    mode, too.
    """

    name: str = ""

    @classmethod
    def kept(cls, entry: Entry) -> str:
        # The mode is written down with it, or going back would leave a program without its right to
        # run as its owner.
        return f"{cls.state(entry)} {entry.mode:04o}"

    def ours(self, entry: Entry, kept: str) -> bool:
        state, mode = kept.split()
        # Given back already, and what that takes from the mode is not set again yet.
        half = _given(replace(entry, mode=int(mode, 8))).mode == entry.mode
        return self.state(entry) == self.to or (self.state(entry) == state and half)

    @classmethod
    def restore(cls, hands: Hands, entry: Entry, kept: str) -> None:
        state, mode = kept.split()
        cls.put(hands, entry, state)
        now = hands.entry(entry.path)
        if now is not None and now.kind is not Kind.LINK and now.mode != int(mode, 8):
            hands.set_mode(now, int(mode, 8))


def _given(entry: Entry) -> Entry:
    """What chown(2) leaves of the mode: it spares folders, and a group's right that nobody of it
    can run.
    """
    if entry.kind in (Kind.DIR, Kind.LINK):
        return entry
    # The kernel's own rule (setattr_should_drop_sgid): without the group's right to run, this bit
    # once meant mandatory locking.
    lost = 0o4000 | (0o2000 if entry.mode & 0o010 else 0)
    return replace(entry, mode=entry.mode & ~lost)


@dataclass(frozen=True, slots=True)
class Owner(_Belonging):
    """States are numbers of accounts; name: of the account that `to` numbers."""

    what: ClassVar[str] = "owner"

    @classmethod
    def of(
        cls,
        looking: Looking,
        path: str,
        account: Account,
        *,
        below: bool = False,
        but: tuple[str, ...] = (),
    ) -> Owner:
        """Gives a path to an account. Raises LookupError where nothing is there."""
        census = cls.census(looking, path, but) if below else None
        was = cls.state(_there(looking, path))
        return cls(path, was, str(account.uid), census, account.name, but=but)

    @staticmethod
    def state(entry: Entry) -> str:
        return str(entry.uid)

    @staticmethod
    def changed(entry: Entry, state: str) -> Entry:
        return replace(_given(entry), uid=int(state))

    @staticmethod
    def put(hands: Hands, entry: Entry, state: str) -> None:
        hands.set_owner(entry, int(state), None)

    def describe(self) -> str:
        return self.told("owner", self.name or self.to)

    def shell(self) -> str:
        return self.run("chown --no-dereference", quoted(self.name or self.to), "-R")


@dataclass(frozen=True, slots=True)
class OwningGroup(_Belonging):
    """States are numbers of groups; name: of the group that `to` numbers."""

    what: ClassVar[str] = "group"

    @classmethod
    def of(
        cls,
        looking: Looking,
        path: str,
        group: Group,
        *,
        below: bool = False,
        but: tuple[str, ...] = (),
    ) -> OwningGroup:
        """Gives a path to a group. Raises LookupError where nothing is there."""
        census = cls.census(looking, path, but) if below else None
        was = cls.state(_there(looking, path))
        return cls(path, was, str(group.gid), census, group.name, but=but)

    @staticmethod
    def state(entry: Entry) -> str:
        return str(entry.gid)

    @staticmethod
    def changed(entry: Entry, state: str) -> Entry:
        return replace(_given(entry), gid=int(state))

    @staticmethod
    def put(hands: Hands, entry: Entry, state: str) -> None:
        hands.set_owner(entry, None, int(state))

    def describe(self) -> str:
        return self.told("group", self.name or self.to)

    def shell(self) -> str:
        return self.run("chgrp --no-dereference", quoted(self.name or self.to), "-R")


def _there(looking: Looking, path: str) -> Entry:
    entry = looking.entry(path)
    if entry is None:
        raise LookupError(f"nothing is known of {path}")
    return entry
