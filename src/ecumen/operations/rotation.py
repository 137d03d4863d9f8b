"""An entry by which logs are rotated. Source: logrotate(8), "CONFIGURATION FILE DIRECTIVES"."""

from __future__ import annotations

import posixpath
import re
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.digest import digest
from ecumen.operations.file import File
from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.survey import ROTATION_ENTRIES, Delta

EVERY = ("daily", "weekly", "monthly")
# A name with a dot may be passed over (logrotate(8), "taboo extensions").
_ENTRY = re.compile(rf"{ROTATION_ENTRIES}/[A-Za-z0-9][A-Za-z0-9_-]{{0,63}}\Z")
# What means something there, or ends a path.
_ODD = re.compile(r"[*?\[\]{}\"'\\\x00-\x1f\x7f]")
_ACCOUNT = re.compile(r"[a-z_][a-z0-9_-]{0,31}\Z")
MOST_LOGS, MOST_KEPT = 100, 1000


@dataclass(frozen=True, slots=True)
class Rotation(Operation):
    """path: of the entry. was: the digest of what it held, "" where there was none. parts: how many
    older ones. user, group: by whom it is done, where others than root may write beside the logs;
    "" for root.
    """

    what: ClassVar[str] = "rotation"
    path: str
    was: str
    logs: tuple[str, ...]
    every: str = "weekly"
    parts: int = 12
    user: str = ""
    group: str = ""

    def __post_init__(self) -> None:
        # As lists it comes out of the plan format.
        object.__setattr__(self, "logs", tuple(self.logs))
        if not _ENTRY.match(self.path):
            raise ValueError(
                f"an entry stands in {ROTATION_ENTRIES}, by a name without dots: {self.path}"
            )
        if not 1 <= len(self.logs) <= MOST_LOGS or len(set(self.logs)) < len(self.logs):
            raise ValueError(f"from 1 to {MOST_LOGS} logs, each once")
        for log in self.logs:
            if not log.startswith("/") or posixpath.normpath(log) != log or _ODD.search(log):
                raise ValueError(f"no plain path of a log: {log}")
        if self.every not in EVERY or not 1 <= self.parts <= MOST_KEPT:
            raise ValueError(f"{', '.join(EVERY)}, and from 1 to {MOST_KEPT} parts kept")
        if bool(self.user) != bool(self.group):
            raise ValueError("an account and a group, or neither")
        for name in filter(None, (self.user, self.group)):
            if not _ACCOUNT.match(name):
                raise ValueError(f"no name of an account: {name}")

    @classmethod
    def of(
        cls, looking: Looking, name: str, logs: tuple[str, ...], every: str = "weekly",
        parts: int = 12, by: tuple[str, str] = ("", ""),
    ) -> Rotation:  # fmt: skip
        """Raises LookupError where it is not known what the entry holds."""
        path = f"{ROTATION_ENTRIES}/{name}"
        made = cls(path, "", logs, every, parts, *by)
        return cls(path, File.of(looking, path, made.data).was, logs, every, parts, *by)

    @property
    def data(self) -> bytes:
        """The entry. Whoever has a log open goes on writing into it: it is copied and emptied, as
        an engine that is told to open it anew would need a script of root's here.
        """
        logs = "\n".join(f'"{log}"' for log in self.logs)
        lines = [
            *([f"su {self.user} {self.group}"] if self.user else []),
            self.every, f"rotate {self.parts}", "missingok", "notifempty", "compress",
            "delaycompress", "copytruncate",
        ]  # fmt: skip
        inner = "".join(f"\t{line}\n" for line in lines)
        return f"{logs} {{\n{inner}}}\n".encode("utf-8", "surrogateescape")

    @property
    def file(self) -> File:
        """What is written."""
        data = self.data
        return File(self.path, self.was, digest(data), data.decode("utf-8", "surrogateescape"))

    @property
    def at(self) -> str:
        return self.path

    def standing(self, looking: Looking) -> Standing:
        return self.file.standing(looking)

    def simulate(self, looking: Looking) -> Delta:
        return self.file.simulate(looking)

    def keep(self, looking: Looking) -> Before:
        return self.file.keep(looking)

    def forward(self, hands: Hands, kept: Before) -> None:
        self.file.forward(hands, kept)

    def backward(self, hands: Hands, kept: Before) -> None:
        self.file.backward(hands, kept)

    def describe(self) -> str:
        logs = self.logs[0] if len(self.logs) == 1 else f"{len(self.logs)} logs"
        return f"have {logs} rotated {self.every}, with {self.parts} older parts kept"

    def shell(self) -> str:
        return self.file.shell()
