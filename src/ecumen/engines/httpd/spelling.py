"""Names in a folder that are spelled much like one that is missing.

Source: httpd 2.4, mod_speling ("CheckSpelling", "CheckCaseOnly", "CheckBasenameMatch") and its
spdist; measured.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import IntEnum


class Likeness(IntEnum):
    """How two names are alike, the likest first."""

    CASE = 1
    SWAPPED = 2
    MISSING = 3
    EXTRA = 4
    TYPO = 5
    STEM = 6


def spelled_like(
    wrong: str, names: Iterable[str], *, by_case: bool, by_stem: bool
) -> list[tuple[Likeness, str]]:
    """The names that are alike, the likest first. by_case: but for their case, or their stem.
    by_stem: where they are the same up to their first dot, too.

    Empty, too, where the very name is there: what it leads to is what is missing.
    """
    found: list[tuple[Likeness, str]] = []
    stem = wrong.partition(".")[0].lower()
    for name in names:
        if name == wrong:
            return []
        likeness = _likeness(wrong, name)
        if likeness is None or (by_case and likeness is not Likeness.CASE):
            alike = by_stem and name.partition(".")[0].lower() == stem
            likeness = Likeness.STEM if alike else None
        if likeness is not None:
            found.append((likeness, name))
    return sorted(found)


def _likeness(wrong: str, right: str) -> Likeness | None:
    """By one edit at the first letter that differs, without regard to case."""
    s, t = wrong.lower(), right.lower()
    if s == t:
        return Likeness.CASE
    while s and t and s[0] == t[0]:
        s, t = s[1:], t[1:]
    if s and t:
        if len(s) > 1 and len(t) > 1 and (s[0], s[1]) == (t[1], t[0]) and s[2:] == t[2:]:
            return Likeness.SWAPPED
        if s[1:] == t[1:]:
            return Likeness.TYPO
    if s and s[1:] == t:
        return Likeness.EXTRA
    if t and s == t[1:]:
        return Likeness.MISSING
    return None
