"""Regular expressions where the engines' own library is missing: as far as Python's mean the same.

What Python's `re` reads alike on bytes is compiled; anything else, and anything that could
backtrack without end, is refused, so that the caller can say `unsure`.
"""

from __future__ import annotations

import re
from math import comb
from re import _constants as constants  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

LONGEST = 2000
# Ways of sharing a text out among the repeats of a pattern, beyond which matching is not tried.
MOST_WAYS = 20_000_000
# Spelt alike in both languages and meant alike on bytes.
_ESCAPES = frozenset("dDwWsSbBAtnrfv.^$*+?()[]{}|\\/-_~%#@!&=:;,<>'\" ")
_CLASSES = {
    "alpha": "A-Za-z",
    "digit": "0-9",
    "alnum": "A-Za-z0-9",
    "upper": "A-Z",
    "lower": "a-z",
    "space": r" \t\n\r\f\v",
    "blank": r" \t",
    "xdigit": "0-9A-Fa-f",
    "word": "A-Za-z0-9_",
}
_POSIX_CLASS = re.compile(r"\[:(\w+):\]")
_REPEATS = (constants.MAX_REPEAT, constants.MIN_REPEAT)
# Names of captures are spelt in three ways; Python knows one.
_NAMED = re.compile(r"\(\?(?:<|')([A-Za-z_]\w*)[>']")


def _spelt_alike(pattern: str) -> bool:
    if len(pattern) > LONGEST or any(mark in pattern for mark in ("[.", "[=")):
        return False
    at = 0
    while at < len(pattern):
        if pattern[at] == "\\":
            if pattern[at + 1 : at + 2] not in _ESCAPES or at + 1 == len(pattern):
                return False
            at += 2
            continue
        if pattern.startswith("(?", at) and pattern[at + 2 : at + 3] not in (":", "=", "!"):
            if pattern.startswith("(?i)", at):
                return at == 0 and _spelt_alike(pattern[4:])
            if not pattern.startswith("(?P<", at):
                return False
        if pattern.startswith("[:", at):
            return False
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
        if operator in _REPEATS and value[1] > 1:
            if inside:
                return True
            deeper = True
        if inside and operator is constants.BRANCH:
            # The same text may be taken by one branch or by several in turn.
            return True
        if any(_repeats_in(part, deeper) for part in _parts(value)):
            return True
    return False


def _parts(value: Any) -> list[Any]:
    found = []
    for part in value if isinstance(value, (tuple, list)) else (value,):
        if isinstance(part, parser.SubPattern):
            found.append(part)
        elif isinstance(part, list):
            found += [branch for branch in part if isinstance(branch, parser.SubPattern)]
    return found


def _repeats(tree: Any) -> int:
    """How many repeats without bound the pattern holds."""
    count = 0
    for operator, value in tree:
        count += operator in _REPEATS and value[1] > 1
        count += sum(_repeats(part) for part in _parts(value))
    return count


def _anchored(tree: Any) -> bool:
    first = next(iter(tree), None)
    return first is not None and first[0] is constants.AT and first[1] is constants.AT_BEGINNING


def parsed(pattern: str) -> Any:
    """The tree of a pattern as Python reads it, of one that means the same to the engines; None for
    any other.
    """
    known = _known(pattern)
    if not _spelt_alike(known):
        return None
    try:
        return parser.parse(known.encode("utf-8", "surrogateescape"))
    except (re.error, RecursionError, OverflowError):
        return None


def _known(pattern: str) -> str:
    known = _NAMED.sub(r"(?P<\1>", pattern)
    return _POSIX_CLASS.sub(lambda match: _CLASSES.get(match[1], match[0]), known)


class Plain:
    """A pattern of which matching takes a bounded time."""

    def __init__(self, code: re.Pattern[bytes], repeats: int) -> None:
        self._code = code
        self._repeats = repeats

    def match(self, data: bytes) -> re.Match[bytes] | None:
        """The first match. Raises TimeoutError where it could take too long."""
        ways = comb(len(data) + self._repeats, self._repeats) if self._repeats > 1 else 0
        if len(data) > 20 and ways > MOST_WAYS:
            raise TimeoutError
        return self._code.search(data)


def plain(pattern: str, *, ignore_case: bool, dollar_only_end: bool, dot_all: bool) -> Plain | None:
    """The pattern, or None where it is not evaluated."""
    tree = parsed(pattern)
    if tree is None or _repeats_in(tree, False):
        return None
    raw = _known(pattern).encode("utf-8", "surrogateescape")
    flags = (re.IGNORECASE if ignore_case else 0) | (re.DOTALL if dot_all else 0)
    try:
        code = re.compile(_end_only(raw) if dollar_only_end else raw, flags)
    except (re.error, RecursionError, OverflowError):
        return None
    return Plain(code, _repeats(tree) + (0 if _anchored(tree) else 1))


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
