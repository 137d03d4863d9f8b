"""Texts that may drive a pattern over the limit of matching.

Where one text can be taken by a repeat in many ways, and what stands behind it does not follow, the
library tries them all. Such texts are made from the pattern's own tree; whether one does it is for
the library to say.
"""

from __future__ import annotations

from collections.abc import Iterator
from re import _constants as constants  # type: ignore[attr-defined]
from typing import Any

from ecumen.patterns.plain import parsed

_REPEATS = (constants.MAX_REPEAT, constants.MIN_REPEAT)
_COUNTS = (40, 400)
_ENDS = ("!", "", "/!", "~")
MOST = 24  # texts for one pattern
_DEEPEST = 20


def drivers(pattern: str) -> Iterator[str]:
    """Texts to be tried, at most MOST. None for a pattern whose tree is not known."""
    tree = parsed(pattern)
    if tree is None:
        return
    count = 0
    for before, pumped in _repeated(tree, "", 0):
        for times in _COUNTS:
            for end in _ENDS:
                yield before + pumped * times + end
                count += 1
                if count == MOST:
                    return


def _repeated(tree: Any, before: str, deep: int) -> Iterator[tuple[str, str]]:
    """Each repeat of more than one way: what comes before it, and what it takes once."""
    here = before
    for operator, value in tree:
        if deep < _DEEPEST:
            for part in _inside(operator, value):
                yield from _repeated(part, here, deep + 1)
        if operator in _REPEATS and value[1] > 10 and len(pumped := _sample(value[2])) > 0:
            if _ambiguous(value[2]):
                yield here, pumped
            elif deep == 0:
                yield here, pumped[0]
        here += _one(operator, value)


def _ambiguous(tree: Any) -> bool:
    return any(op in (*_REPEATS, constants.BRANCH, constants.SUBPATTERN) for op, _ in tree)


def _inside(operator: Any, value: Any) -> list[Any]:
    if operator in _REPEATS:
        return [value[2]]
    if operator is constants.SUBPATTERN:
        return [value[3]]
    if operator is constants.BRANCH:
        return list(value[1])
    if operator in (constants.ASSERT, constants.ASSERT_NOT):
        return [value[1]]
    return []


def _sample(tree: Any) -> str:
    """A short text that it takes; "" where none is found."""
    return "".join(_one(operator, value) for operator, value in tree)


def _one(operator: Any, value: Any) -> str:
    if operator is constants.LITERAL:
        return chr(int(value))
    if operator is constants.NOT_LITERAL:
        return "a" if value != ord("a") else "b"
    if operator is constants.ANY:
        return "a"
    if operator is constants.IN:
        return _of_class(value)
    if operator in _REPEATS:
        return _sample(value[2]) * max(1, min(int(value[0]), 20))
    if operator is constants.SUBPATTERN:
        return _sample(value[3])
    if operator is constants.BRANCH:
        return _sample(value[1][0])
    return ""


_TRIED = "ax0-_./ A%"


def _of_class(items: Any) -> str:
    negated = items[0][0] is constants.NEGATE
    for char in _TRIED:
        if any(_holds(item, ord(char)) for item in items) != negated:
            return char
    first = next((item for item in items if item[0] is constants.LITERAL), None)
    return chr(int(first[1])) if first and not negated else ""


def _holds(item: Any, code: int) -> bool:
    kind, value = item
    char = chr(code)
    if kind is constants.LITERAL:
        return bool(value == code)
    if kind is constants.RANGE:
        return bool(value[0] <= code <= value[1])
    if kind is constants.CATEGORY:
        return {
            constants.CATEGORY_DIGIT: char.isdigit(),
            constants.CATEGORY_NOT_DIGIT: not char.isdigit(),
            constants.CATEGORY_WORD: char.isalnum() or char == "_",
            constants.CATEGORY_NOT_WORD: not (char.isalnum() or char == "_"),
            constants.CATEGORY_SPACE: char.isspace(),
            constants.CATEGORY_NOT_SPACE: not char.isspace(),
        }.get(value, False)
    return False
