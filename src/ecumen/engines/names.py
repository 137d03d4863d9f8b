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


def fits(pattern: str, name: str) -> bool:
    """Whether a name fits one name of a pattern; a dot in front is never guessed."""
    if name.startswith(".") and not pattern.startswith("."):
        return False
    return _compiled(pattern).match(name) is not None


@lru_cache(maxsize=4096)
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(translate(pattern))
