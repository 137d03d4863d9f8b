"""Marks: variables that lines set by what a request says of itself, for rules that ask for them.

Source: httpd 2.4, mod_setenvif; its order among the phases: with the host's lines before the
address is mapped, with those of folders before it is asked who may, and not at all for questions
that the server asks itself. Measured.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from ecumen.engines.httpd.redirects import put_groups
from ecumen.engines.tree import Directive
from ecumen.patterns import Hit, Regex, TooCostly, compiled

# Of what other modules set, before it is asked who may: what a survey cannot tell.
_OTHERS = ("ssl_", "https", "unique_id", "geoip_")
# Escaped signs, and characters that are none.
_LITERAL = re.compile(r"(?:[^\^.$|()\[\]*+?{}\\]|\\[\^.$|()\[\]*+?{}\\])*")
_HEADERS_BY_PATTERN = frozenset(".*+?[](){}|\\^$")


@dataclass(frozen=True, slots=True)
class Mark:
    """One line. about: what is looked at, in lower case; regex: None where it is not evaluated.

    sets: names with their values, None for one that is taken away. literal: the pattern is plain
    text, and values are set as they are written.
    """

    about: str
    regex: Regex | None
    sets: tuple[tuple[str, str | None], ...]
    literal: bool
    directive: Directive


@dataclass(frozen=True, slots=True)
class Marks:
    """Variables that are set, by their names in lower case, as the server compares them. unknown:
    of which that is not known.
    """

    values: Mapping[str, str] = field(default_factory=dict)
    unknown: frozenset[str] = frozenset()

    def holds(self, name: str) -> bool | None:
        """Whether a variable is set; None where that is not known."""
        name = name.lower()
        if name in self.unknown or name.startswith(_OTHERS):
            return None
        return name in self.values

    def with_values(self, values: Mapping[str, str | None]) -> Marks:
        """With what rules of rewriting have set and taken away."""
        kept = {name: value for name, value in values.items() if value is not None}
        return Marks(kept, self.unknown - kept.keys())


class Told(Protocol):
    """What a request says. Raises LookupError for what is not known."""

    def told(self, about: str) -> str | None: ...


def read_mark(directive: Directive, given: Sequence[str]) -> Mark | None:
    """None where the server would refuse the line, or it is not evaluated."""
    name = directive.name.lower()
    about, rest = "user-agent", list(given)
    if name == "setenvifexpr":
        sets = _sets(rest[1:])
        return Mark("", None, sets, False, directive) if sets else None
    if not name.startswith("browsermatch"):
        if not rest:
            return None
        about = rest.pop(0).lower()
    if len(rest) < 2:
        return None
    if any(char in _HEADERS_BY_PATTERN for char in about):
        # The name of the header is itself a pattern.
        regex = None
    else:
        regex = compiled(rest[0], ignore_case=name.endswith("nocase"))
    literal = _LITERAL.fullmatch(rest[0]) is not None
    return Mark(about, regex, _sets(rest[1:]), literal, directive)


def _sets(words: Sequence[str]) -> tuple[tuple[str, str | None], ...]:
    sets: list[tuple[str, str | None]] = []
    for word in words:
        variable, equals, value = word.partition("=")
        variable = variable.lower()
        if variable.startswith("!"):
            sets.append((variable[1:], None))
        else:
            sets.append((variable, value if equals else "1"))
    return tuple(sets)


def marked(marks: Sequence[Mark], told: Told, before: Marks) -> Marks:
    """What is set once these lines were gone through, in their order."""
    if not marks:
        return before
    values, unknown = dict(before.values), set(before.unknown)
    last: tuple[str, str | None] | None = None
    for mark in marks:
        if last is None or last[0] != mark.about:
            last = (mark.about, _said(mark.about, told, values, unknown))
        hit = _search(mark.regex, last[1])
        for name, value in mark.sets:
            if hit is None:
                continue
            text = None if isinstance(hit, bool) else _put(mark, value, hit)
            values.pop(name, None)
            unknown.discard(name)
            if text is None:
                # What it was before may hold still, or not.
                unknown.add(name)
            elif value is not None:
                values[name] = text
    return Marks(values, frozenset(unknown))


def _put(mark: Mark, value: str | None, hit: Hit) -> str | None:
    """The text that is set, "" where the mark is taken away; None where it grows too long."""
    try:
        return value or "" if mark.literal or value is None else put_groups(value, hit)
    except TooCostly:
        return None


def _said(about: str, told: Told, values: Mapping[str, str], unknown: set[str]) -> str | None:
    """What a line looks at; a header that is not sent may be the name of a variable."""
    try:
        said = told.told(about)
    except LookupError:
        return None
    if said is not None:
        return said
    return None if about in unknown else values.get(about, "")


def _search(regex: Regex | None, text: str | None) -> Hit | bool | None:
    """The match; False where it is not known whether there is one."""
    if regex is None or text is None:
        return False
    try:
        return regex.search(text)
    except TooCostly:
        return False
