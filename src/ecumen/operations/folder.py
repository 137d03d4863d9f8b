"""A new folder. Source: mkdir(2), install(1)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.making import Making
from ecumen.operations.operation import Hands
from ecumen.operations.quoting import quoted
from ecumen.survey import Account, Entry, Kind, Survey


@dataclass(frozen=True, slots=True)
class Folder(Making):
    """mode: four octal digits. owner, group: numbers, and what they are called."""

    what: ClassVar[str] = "folder"
    mode: str
    owner: int
    group: int
    owner_name: str = ""
    group_name: str = ""

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[0-7]{4}", self.mode):
            raise ValueError(f"no mode: {self.mode}")

    @classmethod
    def of(cls, survey: Survey, path: str, mode: str, account: Account) -> Folder:
        """A folder of an account and its own group."""
        group = survey.group_name(account.gid)
        return cls(path, mode, account.uid, account.gid, account.name, group)

    def made(self) -> Entry:
        mode = int(self.mode, 8)
        return Entry(self.path, Kind.DIR, mode, self.owner, self.group, listed=True)

    def make(self, hands: Hands, there: str) -> None:
        hands.make_folder(self.path, int(self.mode, 8), self.owner, self.group, there)

    def describe(self) -> str:
        return f"make the folder {self.path} of {self._owner}:{self._group} with mode {self.mode}"

    def shell(self) -> str:
        who = f"-o {quoted(self._owner)} -g {quoted(self._group)}"
        return f"install -d -m {self.mode} {who} -- {quoted(self.path)}"

    @property
    def _owner(self) -> str:
        return self.owner_name or str(self.owner)

    @property
    def _group(self) -> str:
        return self.group_name or str(self.group)
