"""Regular expressions and shell patterns of the engines, as far as they mean the same here.

The engines match with PCRE on bytes. What Python's `re` reads alike is compiled; anything else, and
anything that could backtrack without end, is refused, so that the caller can say `unsure`.
"""

from __future__ import annotations

import re
from functools import lru_cache
from re import _constants as constants  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

LONGEST = 500
# Spelt alike in both languages and meant alike on bytes.
_ESCAPES = frozenset("dDwWsSbBAtnrfv.^$*+?()[]{}|\\/-_~%#@!&=:;,<>'\" ")
_POSIX_CLASS = re.compile(r"\[[^\]]*\[[:.=]")
_REPEATS = (constants.MAX_REPEAT, constants.MIN_REPEAT)


def _spelt_alike(pattern: str) -> bool:
    if len(pattern) > LONGEST or _POSIX_CLASS.search(pattern):
        return False
    at = 0
    while at < len(pattern):
        if pattern[at] == "\\":
            if pattern[at + 1 : at + 2] not in _ESCAPES or at + 1 == len(pattern):
                return False
            at += 2
            continue
        if pattern.startswith("(?", at) and pattern[at + 2 : at + 3] not in (":", "=", "!"):
            return pattern.startswith("(?i)", at) and at == 0 and _spelt_alike(pattern[4:])
        if pattern[at : at + 2] in ("*+", "++", "?+", "}+"):
            return False
        if pattern[at] == "{" and not re.match(r"\{\d+(,\d*)?\}", pattern[at:]):
            return False
        at += 1
    return True


def _repeats_in(tree: Any, inside: bool) -> bool:
    """Whether a repeat without bound stands in another one: then matching may take for ever."""
    for operator, value in tree:
        deeper = inside
        if operator in _REPEATS and value[1] > 20:
            if inside:
                return True
            deeper = True
        for part in value if isinstance(value, (tuple, list)) else (value,):
            if isinstance(part, parser.SubPattern) and _repeats_in(part, deeper):
                return True
            if isinstance(part, list) and any(
                isinstance(branch, parser.SubPattern) and _repeats_in(branch, deeper)
                for branch in part
            ):
                return True
    return False


@lru_cache(maxsize=65536)
def compiled(
    pattern: str, *, ignore_case: bool = False, dollar_only_end: bool = True
) -> re.Pattern[bytes] | None:
    """The pattern over bytes, or None where Ecumen does not evaluate it.

    dollar_only_end: `$` does not match before a final newline (httpd's setting).
    """
    if not _spelt_alike(pattern):
        return None
    try:
        raw = pattern.encode("utf-8", "surrogateescape")
        if _repeats_in(parser.parse(raw), False):
            return None
        if dollar_only_end:
            raw = _end_only(raw)
        return re.compile(raw, re.IGNORECASE if ignore_case else 0)
    except (re.error, RecursionError, OverflowError):
        return None


def _end_only(raw: bytes) -> bytes:
    out = bytearray()
    at, in_class = 0, False
    while at < len(raw):
        char = raw[at : at + 1]
        if char == b"\\":
            out += raw[at : at + 2]
            at += 2
            continue
        if char == b"[" and not in_class:
            in_class = True
            # A bracket directly behind the opening one stands for itself.
            ahead = 2 if raw[at + 1 : at + 2] == b"^" else 1
            if raw[at + ahead : at + ahead + 1] == b"]":
                out += raw[at : at + ahead + 1]
                at += ahead + 1
                continue
        elif char == b"]":
            in_class = False
        out += rb"\Z" if char == b"$" and not in_class else char
        at += 1
    return bytes(out)


def found(pattern: re.Pattern[bytes], text: str) -> bool:
    """Whether the pattern matches anywhere in the text."""
    return pattern.search(text.encode("utf-8", "surrogateescape")) is not None


@lru_cache(maxsize=65536)
def shell_pattern(
    pattern: str, *, slashes_apart: bool, ignore_case: bool = False
) -> re.Pattern[str] | None:
    """fnmatch(3). slashes_apart: `*`, `?` and classes do not match `/` (FNM_PATHNAME).

    None where the pattern holds more than `*`, `?` and simple classes.
    """
    any_char = "[^/]" if slashes_apart else "."
    out, at = "", 0
    while at < len(pattern):
        char = pattern[at]
        if char == "*":
            if not out.endswith(any_char + "*"):
                out += any_char + "*"
        elif char == "?":
            out += any_char
        elif char == "[":
            match = re.compile(r"\[([!^]?)([A-Za-z0-9_.-]+)\]").match(pattern, at)
            if match is None:
                return None
            negated = "^" if match[1] else ""
            if slashes_apart and negated:
                return None
            out += f"[{negated}{match[2]}]"
            at = match.end() - 1
        elif char == "\\":
            return None
        else:
            out += re.escape(char)
        at += 1
    if pattern.count("*") > 8:
        return None
    try:
        return re.compile(out + r"\Z", re.DOTALL | (re.IGNORECASE if ignore_case else 0))
    except re.error:
        return None
