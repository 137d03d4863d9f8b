"""Lines of the configuration language: a name, its arguments, and what stands in braces behind.

Source: nginx, "Beginner's Guide: Configuration File's Structure"; measured where that is silent.
Most lines of a configuration are like others and hold one plain statement: these are split once.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import NamedTuple

from ecumen.caches import Bounded
from ecumen.engines.tree import Place

BLANK = " \t\r\n"
_ODD = frozenset("\"'\\$#{};")
_ESCAPED_BLANK = re.compile(r"\\[ \t\r]")
_ESCAPED = {"t": "\t", "r": "\r", "n": "\n"}
DEEPEST = 100
TOO_DEEP = f"blocks are nested more than {DEEPEST} deep"


class Line(NamedTuple):
    """One statement. args: quotes undone. children: None for a statement without braces."""

    name: str
    args: tuple[str, ...]
    file: str
    number: int
    children: list[Line] | None = None

    @property
    def place(self) -> Place:
        return Place(self.file, self.number)

    @property
    def quoted(self) -> str:
        """The statement as one line, for evidence."""
        end = ";" if self.children is None else " {"
        return _joined(self.name, self.args) + end


@lru_cache(maxsize=20_000)
def _joined(name: str, args: tuple[str, ...]) -> str:
    return " ".join((name, *map(_shown, args)))


def _shown(word: str) -> str:
    return f'"{word}"' if not word or any(c in word for c in ' \t;{}"') else word


class SyntaxFault(Exception):  # noqa: N818 - what the engine would stop at, not an error of ours
    """Where and why the engine stops reading. for_good: our reading stops too. unread: it is the
    survey alone that does not hold what is read next.

    open: where the blocks begin that are open there.
    """

    def __init__(
        self, place: Place, message: str, *, for_good: bool = False, unread: bool = False
    ) -> None:
        super().__init__(message)
        self.unread = unread
        self.place = place
        self.message = message
        self.for_good = for_good
        self.open: set[Place] = set()


# What a line of text is, by itself: nothing, a statement, the beginning or the end of a block, an
# inclusion, or something that takes the long way to tell.
_NOTHING, _STATEMENT, _OPENS, _CLOSES, _INCLUDES, _ODD_ONE = range(6)
_Plain = tuple[int, str, tuple[str, ...]]
_new = tuple.__new__
_LONG_WAY: _Plain = (_ODD_ONE, "", ())
MOST_KNOWN = 500_000


def _plain(text: str) -> _Plain:
    line = text.strip(BLANK)
    if not line or line[0] == "#":
        return (_NOTHING, "", ())
    if line == "}":
        return (_CLOSES, "", ())
    body, last = line[:-1], line[-1]
    if last not in ";{" or not body:
        return _LONG_WAY
    odd = _ODD.intersection(body)
    if odd and not _simple(body, odd):
        return _LONG_WAY
    if any(c in body for c in "\f\v\x1c\x1d\x1e\x1f\x85\xa0") or not body.isascii():
        # Blanks to Python, but not to the engine.
        return _LONG_WAY
    words = body.split()
    if not words:
        return _LONG_WAY
    if "\\" in odd:
        words = [_undone(word) for word in words]
    kind = _OPENS if last == "{" else _INCLUDES if words[0] == "include" else _STATEMENT
    return (kind, words[0], tuple(words[1:]))


def _simple(body: str, odd: frozenset[str]) -> bool:
    """Whether words end at blanks alone: no variable in braces, no blank behind a backslash."""
    if odd - {"$", "\\"} or "${" in body or body[-1] in odd:
        return False
    return "\\" not in odd or _ESCAPED_BLANK.search(body) is None


Include = Callable[[Line, "list[Line]"], None]


class Lexer:
    """Reads texts into statements; what was split once is remembered."""

    def __init__(self) -> None:
        self._known: Bounded[str, _Plain] = Bounded(MOST_KNOWN)
        self._at = 0

    def read(self, text: str, file: str, into: list[Line], include: Include) -> None:
        """Adds the statements of a text. include: takes an inclusion, and where it stands.

        Raises SyntaxFault where the engine would stop; what stands in front was added.
        """
        stack: list[list[Line]] = [into]
        try:
            self._read(text, file, stack, include)
        except SyntaxFault as fault:
            fault.open |= {level[-1].place for level in stack[:-1]}
            raise

    def _read(self, text: str, file: str, stack: list[list[Line]], include: Include) -> None:
        current = stack[-1]
        known = self._known
        lines = text.split("\n")
        count = len(lines)
        # Where a line begins in the text is worked out only for those that take the long way.
        counted, at = 0, 0
        numbered = enumerate(lines, 1)
        for number, raw in numbered:
            try:
                plain = known[raw]
            except KeyError:
                plain = known[raw] = _plain(raw)
            kind, name, args = plain
            if kind == _STATEMENT:
                current.append(_new(Line, (name, args, file, number, None)))
            elif kind == _CLOSES:
                if len(stack) == 1:
                    raise SyntaxFault(Place(file, number), 'unexpected "}"')
                stack.pop()
                current = stack[-1]
            elif kind == _OPENS:
                if len(stack) > DEEPEST:
                    raise SyntaxFault(Place(file, number), TOO_DEEP)
                inner: list[Line] = []
                current.append(_new(Line, (name, args, file, number, inner)))
                stack.append(inner)
                current = inner
            elif kind == _INCLUDES:
                include(Line(name, args, file, number), current)
            elif kind == _ODD_ONE:
                at += sum(map(len, lines[counted : number - 1])) + number - 1 - counted
                counted = self._odd(text, at, number, file, stack, include)
                for _ in range(counted - number):
                    next(numbered, None)
                at, current = self._at, stack[-1]
        if len(stack) > 1:
            raise SyntaxFault(Place(file, count), 'unexpected end of file, expecting "}"')

    def _open(self, line: Line, stack: list[list[Line]]) -> None:
        if len(stack) > DEEPEST:
            raise SyntaxFault(line.place, TOO_DEEP)
        assert line.children is not None
        stack[-1].append(line)
        stack.append(line.children)

    def _close(self, stack: list[list[Line]], place: Place) -> None:
        if len(stack) == 1:
            raise SyntaxFault(place, 'unexpected "}"')
        stack.pop()

    def _odd(
        self,
        text: str,
        at: int,
        number: int,
        file: str,
        stack: list[list[Line]],
        include: Include,
    ) -> int:
        """The long way, from the beginning of a line to the end of the one where a statement ends.

        Returns the number of the next line; its offset is kept in `_at`.
        """
        words: list[str] = []
        first = number
        size = len(text)
        while at < size:
            char = text[at]
            if char in BLANK:
                if char == "\n":
                    number += 1
                    if not words:
                        self._at = at + 1
                        return number - 1
                at += 1
            elif char == "#":
                end = text.find("\n", at)
                at = size if end < 0 else end
            elif char in ";{":
                if not words:
                    raise SyntaxFault(Place(file, number), f'unexpected "{char}"')
                args = tuple(words[1:])
                if char == "{":
                    self._open(Line(words[0], args, file, first, []), stack)
                elif words[0] == "include":
                    include(Line("include", args, file, first), stack[-1])
                else:
                    stack[-1].append(Line(words[0], args, file, first))
                words = []
                at += 1
            elif char == "}":
                if words:
                    raise SyntaxFault(Place(file, number), 'unexpected "}"')
                self._close(stack, Place(file, number))
                at += 1
            else:
                if not words:
                    first = number
                word, after = _word(text, at, Place(file, number))
                number += text.count("\n", at, after)
                words.append(word)
                at = after
        if words:
            raise SyntaxFault(Place(file, number), 'unexpected end of file, expecting ";" or "}"')
        self._at = size
        return number


def _word(text: str, at: int, place: Place) -> tuple[str, int]:
    quote = text[at] if text[at] in "\"'" else ""
    start = at = at + len(quote)
    size = len(text)
    variable = False
    while at < size:
        char = text[at]
        if quote:
            if char == "\\":
                at += 2
                continue
            if char == quote:
                return _undone(text[start:at]), _behind(text, at + 1, place)
        elif char == "\\":
            at += 2
            variable = False
            continue
        elif char == "{" and variable:
            variable = False
        elif char in " \t\r\n;{":
            return _undone(text[start:at]), at
        else:
            variable = char == "$"
        at += 1
    raise SyntaxFault(place, "unexpected end of file")


def _behind(text: str, at: int, place: Place) -> int:
    """Behind a closing quote there must be a blank or the end of the statement."""
    if at < len(text) and text[at] not in " \t\r\n;{)":
        raise SyntaxFault(place, f'unexpected "{text[at]}"')
    return at


def _undone(word: str) -> str:
    if "\\" not in word:
        return word
    out = []
    at = 0
    while at < len(word):
        char = word[at]
        if char == "\\" and at + 1 < len(word):
            behind = word[at + 1]
            if behind in "\"'\\":
                at += 1
                char = behind
            elif behind in _ESCAPED:
                at += 1
                char = _ESCAPED[behind]
        out.append(char)
        at += 1
    return "".join(out)
