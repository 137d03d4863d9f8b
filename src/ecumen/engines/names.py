"""Names of files by shell patterns, as both engines take the files that they include.

Source: glob(3), fnmatch(3) with FNM_PERIOD.
"""

from __future__ import annotations

import re
from fnmatch import translate
from functools import lru_cache


def is_pattern(text: str) -> bool:
    """Whether a path, or one name of it, holds anything but itself."""
    return any(char in text for char in "*?[")


class Hits:
    """Which names of a folder fit a pattern: asked again of the same names, it is known."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str], tuple[list[str], list[str]]] = {}

    def of(self, folder: str, pattern: str, names: list[str]) -> list[str]:
        """The paths that fit, in the order of the names."""
        known = self._known.get((folder, pattern))
        # By identity: a folder whose names changed has another list.
        if known is None or known[0] is not names:
            found = [f"{folder}/{leaf}" for leaf in names if fits(pattern, leaf)]
            known = self._known[folder, pattern] = (names, found)
        return known[1]


def fits(pattern: str, name: str) -> bool:
    """Whether a name fits one name of a pattern; a dot in front is never guessed."""
    if name.startswith(".") and not pattern.startswith("."):
        return False
    return _compiled(pattern).match(name) is not None


@lru_cache(maxsize=4096)
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(translate(pattern))
