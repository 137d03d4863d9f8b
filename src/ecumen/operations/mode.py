"""The mode of a path. Source: chmod(1), chmod(2)."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import ClassVar

from ecumen.operations.attribute import Attribute
from ecumen.operations.operation import Hands, Looking
from ecumen.survey import Entry

_CHANGE = re.compile(r"([ugo]+)([+-])([rwx]+)\Z")
_STATE = re.compile(r"[0-7]{4}\Z")
_SHIFTS = {"u": 6, "g": 3, "o": 0}
_BITS = {"r": 4, "w": 2, "x": 1}


@dataclass(frozen=True, slots=True)
class Mode(Attribute):
    """States are four octal digits."""

    what: ClassVar[str] = "mode"
    of_links: ClassVar[bool] = False

    def __post_init__(self) -> None:
        if not _STATE.match(self.was) or not _STATE.match(self.to):
            raise ValueError(f"no mode: {self.to}")

    @classmethod
    def of(cls, entry: Entry, change: str) -> Mode:
        """`u+rx`, `go-w`, or a whole mode in octal. Raises ValueError."""
        return cls(entry.path, cls.state(entry), f"{_mode_after(entry.mode, change):04o}")

    @classmethod
    def tree(
        cls, looking: Looking, path: str, mode: str, *, only: str = "", but: tuple[str, ...] = ()
    ) -> Mode:
        """One mode for all files, or all folders, from a folder on. mode: four octal digits. Raises
        LookupError where nothing is there.
        """
        entry = looking.entry(path)
        if entry is None:
            raise LookupError(f"nothing is known of {path}")
        census = cls.census(looking, path, but, only)
        return cls(path, cls.state(entry), mode, census, but=but, only=only)

    @staticmethod
    def state(entry: Entry) -> str:
        return f"{entry.mode:04o}"

    @staticmethod
    def changed(entry: Entry, state: str) -> Entry:
        return with_mode(entry, int(state, 8))

    @staticmethod
    def put(hands: Hands, entry: Entry, state: str) -> None:
        hands.set_mode(entry, int(state, 8))

    @property
    def symbolic(self) -> str:
        """What differs, as `o+x,g-w`; the whole mode where that is more than rights."""
        was, to = int(self.was, 8), int(self.to, 8)
        if (was ^ to) & ~0o777:
            # chmod(1): with fewer digits a folder keeps its group's right to run.
            return f"0{self.to}"
        found: dict[str, str] = {}
        for who, shift in _SHIFTS.items():
            for sign, bits in (("+", to & ~was), ("-", was & ~to)):
                letters = "".join(c for c, bit in _BITS.items() if bits >> shift & bit)
                if letters:
                    change = sign + letters
                    found[change] = found.get(change, "") + who
        return ",".join(f"{who}{change}" for change, who in found.items()) or self.to

    def describe(self) -> str:
        # The whole of it where many are set to the same: what differs is not the same for all.
        return self.told("mode", f"{self.to} ({self.symbolic})" if self.below is None else self.to)

    def shell(self) -> str:
        # The difference and not the whole: said so, a command that somebody copies an hour later
        # does not undo what was changed in between.
        return self.run("chmod", self.symbolic if self.below is None else f"0{self.to}")


def _mode_after(mode: int, change: str) -> int:
    if re.fullmatch(r"[0-7]{3,4}", change):
        return int(change, 8)
    match = _CHANGE.match(change)
    if match is None:
        raise ValueError(f"no mode: {change}")
    bits = sum(_BITS[bit] << _SHIFTS[who] for who in set(match[1]) for bit in set(match[3]))
    return mode | bits if match[2] == "+" else mode & ~bits


def with_mode(entry: Entry, mode: int) -> Entry:
    """chmod(2): with an ACL its mask, owner and other entries follow the mode."""
    if entry.acl is None:
        return replace(entry, mode=mode)
    perms = {"user": mode >> 6 & 7, "mask": mode >> 3 & 7, "other": mode & 7}
    acl = tuple(
        replace(each, perms=perms[each.tag]) if each.id is None and each.tag in perms else each
        for each in entry.acl
    )
    return replace(entry, mode=mode, acl=acl)
