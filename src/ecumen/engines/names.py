"""Names of files by shell patterns, as both engines take the files that they include.

Source: glob(3), fnmatch(3) with FNM_PERIOD.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Hashable, Sequence
from fnmatch import translate
from functools import lru_cache
from operator import eq

from ecumen.engines.tree import Place


def include_all(included: dict[str, Place], paths: Sequence[str], by: Place) -> None:
    """Notes the line that first includes each of these, of which there may be thousands."""
    new = dict.fromkeys(paths, by)
    if included.keys().isdisjoint(new):
        included.update(new)
    else:
        for path in paths:
            included.setdefault(path, by)


def same_still(
    paths: Sequence[str],
    known: Sequence[Hashable | None],
    stamps: Callable[[Sequence[str]], Sequence[Hashable | None]],
) -> Sequence[bool]:
    """Which files say what they said. known: the stamp of each as it was read, None for those that
    were not. stamps: of files as they are now; only those that were read are asked for.
    """
    if None not in known:
        return list(map(eq, known, stamps(paths)))
    held = [path for path, stamp in zip(paths, known, strict=True) if stamp is not None]
    now = dict(zip(held, stamps(held), strict=True))
    return [
        stamp is not None and stamp == now[path] for path, stamp in zip(paths, known, strict=True)
    ]


def others(same: Sequence[bool]) -> Sequence[int]:
    """The numbers of those, from 0, of which it does not hold: few among thousands."""
    return () if all(same) else [number for number, holds in enumerate(same) if not holds]


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
