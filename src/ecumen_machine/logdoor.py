"""Logs, opened for whoever counts them: through handles, never out of their folder.

A log is read as the one who may read it (`handles.is_its_own`): where others than root may write in
its folder, no link is followed, and a file with a second name is left alone. What a link of root's
own leads to is root's affair.
"""

from __future__ import annotations

import os
import stat
from typing import Protocol

from ecumen_machine.handles import Reached, is_its_own, reached, reopened
from ecumen_machine.withheld import place_withheld

MOST_NAMES = 200_000  # in one folder


class LogDoor(Protocol):
    """The way to logs."""

    def names(self, folder: str) -> list[str]:
        """The names in a folder. Raises OSError."""

    def open(self, path: str) -> int:
        """A handle for reading a log, the caller's to close. Raises OSError."""


class OwnDoor:
    """What this process itself may read. under: of a folder that stands for the root, the path."""

    def names(self, folder: str) -> list[str]:
        with reached(folder) as found:
            if found.linked_by:
                raise PermissionError(13, "a link leads there that is not root's", folder)
            handle = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=found.handle)
        try:
            with os.scandir(handle) as names:
                return [entry.name for _, entry in zip(range(MOST_NAMES), names, strict=False)]
        finally:
            os.close(handle)

    def open(self, path: str) -> int:
        with reached(path) as found:
            why = _refused(found)
            if why:
                raise PermissionError(13, why, path)
            return reopened(found.handle)


def _refused(found: Reached) -> str:
    if found.linked_by:
        return "a link leads there that is not root's"
    if not stat.S_ISREG(found.info.st_mode):
        return "it is no plain file"
    if not is_its_own(found):
        return "it has another name elsewhere, and may be somebody else's"
    return place_withheld(found)


OWN = OwnDoor()
