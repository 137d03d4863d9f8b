"""Regular expressions and shell patterns, as the engines match them.

The engines match on bytes with a library of their own, which is asked here with their options. What
an owner writes can make matching take for ever: in this process it is bounded, and beyond that
another process may go on (`patterns.apart`), which is ended when its time is up.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import Enum
from functools import lru_cache
from typing import NamedTuple

from ecumen.errors import EcumenError
from ecumen.patterns import pcre
from ecumen.patterns.pcre import MatchKind, MatchOutcome
from ecumen.patterns.shell import shell_pattern

__all__ = [
    "AtLimit", "Hit", "PatternFailsError", "Regex", "TooCostly", "compiled", "set_apart",
    "shell_pattern",
]  # fmt: skip

MOST_REMEMBERED = 4096


class TooCostly(EcumenError):  # noqa: N818 - says what is so, like NotEvaluated
    """A pattern could take too long on this text; whether it matches is not worked out."""


class PatternFailsError(TooCostly):
    """The engine itself gives up on this text, and fails the request."""


class AtLimit(Enum):
    """What an engine does where matching goes over its limit, or a text is no UTF-8."""

    NO_MATCH = "no match"
    FAILS = "fails"


_NO_NAMES: Mapping[str, str] = {}


class Hit(NamedTuple):
    """A match. groups: what each group took, the whole in front; None for a group not taken.

    named: the groups that have names. span: of the whole, in bytes.
    """

    groups: tuple[str | None, ...]
    named: Mapping[str, str] = _NO_NAMES
    span: tuple[int, int] = (0, 0)

    def group(self, number: int) -> str:
        """Empty for a group that took nothing, or is not there."""
        return (self.groups[number] or "") if number < len(self.groups) else ""


# (pattern, options, text, seconds) matched with the engines' own limits, in a process that is ended
# after so many seconds; None for as many as usual.
Apart = Callable[[bytes, int, bytes, float | None], MatchOutcome]
_apart: Apart | None = None


def set_apart(apart: Apart | None) -> None:
    """Where matching goes on that is too long for this process; without one it is given up."""
    global _apart
    _apart = apart
    _long.cache_clear()


@lru_cache(maxsize=MOST_REMEMBERED)
def _long(source: bytes, options: int, text: bytes) -> MatchOutcome:
    return pcre.UNKNOWN if _apart is None else _apart(source, options, text, None)


@dataclass(frozen=True, slots=True)
class Regex:
    """A pattern that means here what it means to the engine."""

    code: pcre.CompiledPattern
    at_limit: AtLimit

    def search(self, text: str) -> Hit | None:
        """The first match in the text. Raises TooCostly, PatternFailsError."""
        data = text.encode("utf-8", "surrogateescape")
        outcome = self.outcome(data)
        if outcome.kind is not MatchKind.MATCH:
            return None
        spans = outcome.spans
        groups = tuple([None if s is None else _text(data[s[0] : s[1]]) for s in spans])
        names = self.code.names
        named = {name: _first(groups, names[name]) for name in names} if names else _NO_NAMES
        return Hit(groups, named, spans[0] or (0, 0))

    def fits(self, text: str) -> bool | None:
        """Whether it matches anywhere in the text; None where that is not worked out."""
        try:
            return self.outcome(text.encode("utf-8", "surrogateescape")).kind is MatchKind.MATCH
        except TooCostly:
            return None

    def outcome(self, data: bytes) -> MatchOutcome:
        """MATCH, or what stands for none to the engine. Raises TooCostly, PatternFailsError."""
        outcome = self.code.match(data)
        if outcome.kind is MatchKind.UNKNOWN:
            outcome = _long(self.code.source, self.code.options, data)
        if outcome.kind is MatchKind.UNKNOWN:
            raise TooCostly("the pattern may take too long on a text of this length")
        if outcome.kind in (MatchKind.LIMIT, MatchKind.NO_UTF8) and self.at_limit is AtLimit.FAILS:
            raise PatternFailsError(f"the engine gives up: {outcome.kind.value}")
        return outcome

    def drives(self, text: str, seconds: float) -> bool:
        """Whether the engine itself gives up on this text, as far as that shows in so long."""
        data = text.encode("utf-8", "surrogateescape")
        if _apart is None:
            return False
        if self.code.match(data).kind is not MatchKind.UNKNOWN:
            return False
        return _apart(self.code.source, self.code.options, data, seconds).kind is MatchKind.LIMIT


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def _first(groups: tuple[str | None, ...], numbers: tuple[int, ...]) -> str:
    return next((found for n in numbers if (found := groups[n]) is not None), "")


def is_refused(pattern: str) -> bool:
    """Whether the engines cannot compile it; False where that cannot be told here."""
    if not pcre.is_there() or len(pattern) > pcre.LONGEST_PATTERN // 4:
        return False
    return compiled(pattern) is None


@lru_cache(maxsize=65536)
def compiled(
    pattern: str,
    *,
    ignore_case: bool = False,
    dollar_only_end: bool = True,
    dot_all: bool = True,
    same_names: bool = True,
    at_limit: AtLimit = AtLimit.NO_MATCH,
) -> Regex | None:
    """The pattern over bytes, or None where Ecumen does not evaluate it.

    dollar_only_end: `$` does not match before a final newline; dot_all: `.` matches a newline;
    same_names: several groups may have one name (all three are httpd's settings, nginx has none).
    """
    options = (
        (pcre.CASELESS if ignore_case else 0)
        | (pcre.DOLLAR_ENDONLY if dollar_only_end else 0)
        | (pcre.DOTALL if dot_all else 0)
        | (pcre.DUPNAMES if same_names else 0)
    )
    code = pcre.compiled(pattern.encode("utf-8", "surrogateescape"), options)
    return None if code is None else Regex(code, at_limit)
