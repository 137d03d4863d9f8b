"""Regular expressions and shell patterns of the engines, as far as they mean the same here.

The engines match with PCRE on bytes. What Python's `re` reads alike is compiled; anything else, and
anything that could backtrack without end, is refused, so that the caller can say `unsure`.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from math import comb
from re import _constants as constants  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

from ecumen.errors import EcumenError

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


class TooCostly(EcumenError):  # noqa: N818 - says what is so, like NotEvaluated
    """A pattern could take too long on this text; whether it matches is not worked out."""


@dataclass(frozen=True, slots=True)
class Hit:
    """A match. groups: what each group took, the whole in front; None for a group not taken.

    named: the groups that have names. span: of the whole, in bytes.
    """

    groups: tuple[str | None, ...]
    named: Mapping[str, str] = field(default_factory=dict)
    span: tuple[int, int] = (0, 0)

    def group(self, number: int) -> str:
        """Empty for a group that took nothing, or is not there."""
        return (self.groups[number] or "") if number < len(self.groups) else ""


@dataclass(frozen=True, slots=True)
class Regex:
    """A pattern that means here what it means to the engine. repeats: those without bound."""

    code: re.Pattern[bytes]
    repeats: int
    anchored: bool

    def search(self, text: str) -> Hit | None:
        """The first match in the text. Raises TooCostly."""
        match = self._match(text)
        if match is None:
            return None
        groups = (match[0], *match.groups())
        texts = tuple(None if group is None else _text(group) for group in groups)
        named = {name: _text(value or b"") for name, value in match.groupdict().items()}
        return Hit(texts, named, match.span())

    def fits(self, text: str) -> bool | None:
        """Whether it matches anywhere in the text; None where that is not worked out."""
        try:
            return self._match(text) is not None
        except TooCostly:
            return None

    def _match(self, text: str) -> re.Match[bytes] | None:
        data = text.encode("utf-8", "surrogateescape")
        loose = self.repeats + (0 if self.anchored else 1)
        if loose > 1 and len(data) > 20 and comb(len(data) + loose, loose) > MOST_WAYS:
            raise TooCostly("the pattern may take too long on a text of this length")
        return self.code.search(data)


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


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
        if operator in _REPEATS and value[1] > 20:
            if inside:
                return True
            deeper = True
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
        count += operator in _REPEATS and value[1] > 20
        count += sum(_repeats(part) for part in _parts(value))
    return count


def _anchored(tree: Any) -> bool:
    first = next(iter(tree), None)
    return first is not None and first[0] is constants.AT and first[1] is constants.AT_BEGINNING


@lru_cache(maxsize=65536)
def compiled(
    pattern: str,
    *,
    ignore_case: bool = False,
    dollar_only_end: bool = True,
    dot_all: bool = True,
) -> Regex | None:
    """The pattern over bytes, or None where Ecumen does not evaluate it.

    dollar_only_end: `$` does not match before a final newline; dot_all: `.` matches a newline (both
    are httpd's settings, nginx has neither).
    """
    known = _NAMED.sub(r"(?P<\1>", pattern)
    known = _POSIX_CLASS.sub(lambda match: _CLASSES.get(match[1], match[0]), known)
    if not _spelt_alike(known):
        return None
    try:
        raw = known.encode("utf-8", "surrogateescape")
        tree = parser.parse(raw)
        if _repeats_in(tree, False):
            return None
        flags = (re.IGNORECASE if ignore_case else 0) | (re.DOTALL if dot_all else 0)
        code = re.compile(_end_only(raw) if dollar_only_end else raw, flags)
        return Regex(code, _repeats(tree), _anchored(tree))
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
