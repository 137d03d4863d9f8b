"""Shell patterns, as both engines match them: in time that grows with the text, whatever it is.

Source: fnmatch(3).
"""

from __future__ import annotations

import re
from functools import lru_cache

_CLASS = re.compile(r"\[([!^]?)([A-Za-z0-9_.-]+)\]")


@lru_cache(maxsize=65536)
def shell_pattern(
    pattern: str, *, slashes_apart: bool, ignore_case: bool = False
) -> re.Pattern[str] | None:
    """fnmatch(3). slashes_apart: `*`, `?` and classes do not match `/` (FNM_PATHNAME).

    None where the pattern holds more than `*`, `?` and simple classes.
    """
    any_char = "[^/]" if slashes_apart else "."
    # What stands between the stars.
    pieces, at = [""], 0
    while at < len(pattern):
        char = pattern[at]
        if char == "*":
            pieces.append("")
        elif char == "?":
            pieces[-1] += any_char
        elif char == "[":
            match = _CLASS.match(pattern, at)
            if match is None:
                return None
            negated = "^" if match[1] else ""
            if slashes_apart and negated:
                return None
            pieces[-1] += f"[{negated}{match[2]}]"
            at = match.end() - 1
        elif char == "\\":
            return None
        else:
            pieces[-1] += re.escape(char)
        at += 1
    flags = re.DOTALL | (re.IGNORECASE if ignore_case else 0)
    try:
        return re.compile(_joined(pieces, any_char) + r"\Z", flags)
    except re.error:
        return None


def _joined(pieces: list[str], any_char: str) -> str:
    """Each piece is taken where it first fits and never tried elsewhere: the star behind it takes
    what another place would leave. So no pattern can be driven to try all ways.
    """
    first, *others = pieces
    if not others:
        return first
    *middle, last = others
    return first + "".join(f"(?>{any_char}*?{m})" for m in middle if m) + f"{any_char}*{last}"
