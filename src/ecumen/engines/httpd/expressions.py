"""Conditions as the server's expressions say them.

Source: httpd 2.4, "Expressions in Apache HTTP Server"; server/util_expr_scan.l, util_expr_parse.y.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Protocol

from ecumen.engines.httpd.addresses import network
from ecumen.engines.numbers import strtol
from ecumen.patterns import TooCostly, compiled, shell_pattern


class ExpressionFacts(Protocol):
    """What a condition may ask for."""

    @property
    def client(self) -> str | None:
        """None is somebody outside, at no address that a condition was written for."""

    def variable(self, name: str) -> str:
        """Raises LookupError for what is not known."""

    def header(self, name: str) -> str:
        """By its name in lower case; "" where it is not sent. Raises LookupError."""

    def mark(self, name: str) -> bool | None:
        """Whether a variable is set; None where that is not known."""


# None: not known. Conditions never raise.
Condition = Callable[[ExpressionFacts], bool | None]
_Word = Callable[[ExpressionFacts], str]
DEEPEST = 50


class _Unread(Exception):  # noqa: N818 - a signal, not an error of ours
    """What is not understood here, or by the server."""


def holds(text: str, facts: ExpressionFacts) -> bool | None:
    """Whether a condition holds; None where that is not known."""
    condition = read(text)
    return None if condition is None else condition(facts)


@lru_cache(maxsize=4096)
def read(text: str) -> Condition | None:
    """None for what is not evaluated."""
    try:
        return _Parser(text).whole()
    except _Unread:
        return None


_TOKEN = re.compile(
    r"""[ \t\n]*(?:
    (?P<op>==|=~|!=|!~|<=|>=|&&|\|\||[=<>!(){},.])
    |(?P<var>%\{[A-Za-z][A-Za-z0-9_]*(?::[^}%$\\"']*)?\})
    |(?P<quote>["'])
    |(?P<regex>/(?P<body>[^/]*)/|m(?P<mark>[/\#$%^,;:_?|!.'"-])(?P<other>.*?)(?P=mark))(?P<flags>i?)
    |(?P<dash>-[A-Za-z_][A-Za-z_0-9]*)
    |(?P<digits>-?[0-9]+)
    |(?P<id>[A-Za-z][A-Za-z0-9_]*)
    )""",
    re.VERBOSE | re.DOTALL,
)
_STRINGS = {"==": "eq", "=": "eq", "!=": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"}
_NUMBERS = frozenset("eq ne lt le gt ge".split())
_HEADERS = {
    "HTTP_USER_AGENT": "user-agent", "HTTP_PROXY_CONNECTION": "proxy-connection",
    "HTTP_REFERER": "referer", "HTTP_COOKIE": "cookie", "HTTP_FORWARDED": "forwarded",
    "HTTP_HOST": "host", "HTTP_ACCEPT": "accept",
}  # fmt: skip
_VARIABLES = frozenset(
    """
    HTTPS CONN_REMOTE_ADDR REMOTE_ADDR REQUEST_METHOD REQUEST_SCHEME REQUEST_URI REQUEST_FILENAME
    SCRIPT_FILENAME SERVER_NAME SERVER_PORT SERVER_PROTOCOL QUERY_STRING DOCUMENT_ROOT THE_REQUEST
    """.split()
)
_ADDRESSES = ("CONN_REMOTE_ADDR", "REMOTE_ADDR")


class _Parser:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.deep = 0
        self.kind, self.value = "", ""
        self.flags = ""
        self.next()

    def next(self) -> None:
        match = _TOKEN.match(self.text, self.at)
        if match is None:
            if self.text[self.at :].strip(" \t\n"):
                raise _Unread(self.text[self.at :])
            self.kind, self.value = "end", ""
            return
        self.at = match.end()
        self.kind = match.lastgroup or ""
        if match["regex"] is not None:
            self.kind = "regex"
            self.value = match["body"] if match["body"] is not None else match["other"]
            self.flags = match["flags"]
            return
        self.value = match[self.kind]

    def _is(self, *values: str) -> bool:
        return self.kind in ("op", "id") and self.value in values

    def _expect(self, value: str) -> None:
        if not self._is(value):
            raise _Unread(self.value)
        self.next()

    def whole(self) -> Condition:
        condition = self._any()
        if self.kind != "end":
            raise _Unread(self.value)
        return condition

    def _any(self) -> Condition:
        found = [self._all()]
        while self._is("||", "or"):
            self.next()
            found.append(self._all())
        return found[0] if len(found) == 1 else lambda facts: _either(found, facts, True)

    def _all(self) -> Condition:
        found = [self._not()]
        while self._is("&&", "and"):
            self.next()
            found.append(self._not())
        return found[0] if len(found) == 1 else lambda facts: _either(found, facts, False)

    def _not(self) -> Condition:
        self.deep += 1
        if self.deep > DEEPEST:
            raise _Unread(self.text)
        try:
            if self._is("!", "not"):
                self.next()
                inner = self._not()
                return lambda facts: None if (held := inner(facts)) is None else not held
            if self._is("("):
                self.next()
                inside = self._any()
                self._expect(")")
                return inside
            if self._is("true", "false"):
                value = self.value == "true"
                self.next()
                return lambda facts: value
            if self.kind == "dash" and len(self.value) == 2:
                return self._unary()
            return self._comparison()
        finally:
            self.deep -= 1

    def _unary(self) -> Condition:
        letter = self.value[1]
        self.next()
        if letter == "R":
            return self._in_network(None)
        word = self._word()
        match letter:
            case "n":
                return _known(lambda facts: word(facts) != "")
            case "z":
                return _known(lambda facts: word(facts) == "")
            case "T":
                return _known(lambda facts: _true(word(facts)))
        raise _Unread(letter)

    def _in_network(self, word: _Word | None) -> Condition:
        where = network(self._word()(_NOTHING))
        if where is None:
            raise _Unread(self.text)

        def test(facts: ExpressionFacts) -> bool:
            given = facts.client if word is None else word(facts)
            if given is None:
                return where.everywhere
            return given in where

        return _known(test)

    def _comparison(self) -> Condition:
        by_address = self.kind == "var" and self.value[2:-1].upper() in _ADDRESSES
        left = self._word()
        operator, kind = self.value, self.kind
        if kind == "dash" and operator[1:] not in (*_NUMBERS, "in"):
            self.next()
            return self._binary(operator[1:], None if by_address else left)
        operator = operator.removeprefix("-") if kind == "dash" else operator
        self.next()
        if operator == "in":
            return self._member(left)
        if operator in ("=~", "!~") and kind == "op":
            return self._pattern(left, operator == "=~")
        if kind == "op" and operator in _STRINGS:
            return _compared(_STRINGS[operator], left, self._word(), str)
        if operator in _NUMBERS:
            return _compared(operator, left, self._word(), strtol)
        raise _Unread(operator)

    def _binary(self, name: str, left: _Word | None) -> Condition:
        if name == "ipmatch":
            return self._in_network(left)
        if name not in ("strmatch", "strcmatch", "fnmatch") or left is None:
            raise _Unread(name)
        apart = name == "fnmatch"
        pattern = shell_pattern(
            self._word()(_NOTHING), slashes_apart=apart, ignore_case=name == "strcmatch"
        )
        if pattern is None:
            raise _Unread(name)
        return _known(lambda facts: pattern.match(left(facts)) is not None)

    def _member(self, left: _Word) -> Condition:
        self._expect("{")
        members = [self._word()]
        while self._is(","):
            self.next()
            members.append(self._word())
        self._expect("}")
        return _known(lambda facts: left(facts) in [member(facts) for member in members])

    def _pattern(self, left: _Word, wanted: bool) -> Condition:
        if self.kind != "regex":
            raise _Unread(self.value)
        regex = compiled(self.value, ignore_case=self.flags == "i")
        if regex is None:
            raise _Unread(self.value)
        self.next()

        def test(facts: ExpressionFacts) -> bool | None:
            held = regex.fits(left(facts))
            return None if held is None else held == wanted

        return _known(test)

    # --- words ---

    def _word(self) -> _Word:
        parts = [self._part()]
        while self._is("."):
            self.next()
            parts.append(self._part())
        if len(parts) == 1:
            return parts[0]
        return lambda facts: "".join(part(facts) for part in parts)

    def _part(self) -> _Word:
        kind, value = self.kind, self.value
        if kind == "quote":
            word = self._quoted(value)
            self.next()
            return word
        self.next()
        if kind == "digits":
            return lambda facts: value
        if kind == "var":
            return _variable(value[2:-1])
        if kind == "id" and self._is("("):
            self.next()
            inner = self._word()
            self._expect(")")
            return _function(value, inner)
        raise _Unread(value)

    def _quoted(self, mark: str) -> _Word:
        """From behind a quotation mark to the next one."""
        parts: list[_Word] = []
        plain = ""
        while True:
            if self.at >= len(self.text) or self.text[self.at] == "\n":
                raise _Unread(mark)
            char = self.text[self.at]
            if char == mark:
                break
            variable = _TOKEN.match(self.text, self.at) if char == "%" else None
            behind = self.text[self.at + 1 : self.at + 2]
            if variable is not None and variable["var"]:
                parts += [_constant(plain), _variable(variable["var"][2:-1])]
                plain = ""
                self.at = variable.end()
            elif (char == "%" and behind == "{") or (char == "$" and behind.isdecimal()):
                raise _Unread(char)
            elif char == "\\":
                if not behind or behind.isdecimal() or behind in "nrtbf":
                    raise _Unread(char)
                plain += behind
                self.at += 2
            else:
                plain += char
                self.at += 1
        self.at += 1
        parts.append(_constant(plain))
        return parts[0] if len(parts) == 1 else lambda facts: "".join(p(facts) for p in parts)


def _constant(text: str) -> _Word:
    return lambda facts: text


def _variable(name: str) -> _Word:
    name, colon, argument = name.partition(":")
    if colon:
        return _function(name, _constant(argument))
    upper = name.upper()
    if upper in _HEADERS:
        return lambda facts: facts.header(_HEADERS[upper])
    if upper not in _VARIABLES:
        raise _Unread(name)
    return lambda facts: facts.variable(upper)


def _function(name: str, word: _Word) -> _Word:
    match name.lower():
        case "req" | "http" | "req_novary":
            return lambda facts: facts.header(word(facts).lower())
        case "tolower":
            return lambda facts: word(facts).lower()
        case "toupper":
            return lambda facts: word(facts).upper()
        case "ssl":
            return _of_seal
    raise _Unread(name)


def _of_seal(facts: ExpressionFacts) -> str:
    """What a sealed connection says of itself: nothing, where it is none."""
    if facts.variable("HTTPS") != "off":
        raise LookupError("SSL")
    return ""


class _Nothing:
    """For what must be said without any request."""

    client = None

    def variable(self, name: str) -> str:
        raise _Unread(name)

    header = variable

    def mark(self, name: str) -> bool | None:
        raise _Unread(name)


_NOTHING = _Nothing()


def _known(test: Condition) -> Condition:
    """What cannot be looked up leaves a condition open."""

    def known(facts: ExpressionFacts) -> bool | None:
        try:
            return test(facts)
        except (LookupError, ValueError, TooCostly):
            return None

    return known


def _compared(
    operator: str, left: _Word, right: _Word, read: Callable[[str], str] | Callable[[str], int]
) -> Condition:
    def test(facts: ExpressionFacts) -> bool:
        one, other = read(left(facts)), read(right(facts))
        order = (one > other) - (one < other)  # type: ignore[operator]
        return {
            "eq": order == 0, "ne": order != 0, "lt": order < 0,
            "le": order <= 0, "gt": order > 0, "ge": order >= 0,
        }[operator]  # fmt: skip

    return _known(test)


def _true(text: str) -> bool:
    return text.lower() not in ("", "off", "no", "false", "0")


def _either(conditions: list[Condition], facts: ExpressionFacts, ends: bool) -> bool | None:
    """`ends` as soon as one is so; None where one that is not known could be."""
    open_ = False
    for condition in conditions:
        held = condition(facts)
        if held is ends:
            return ends
        open_ = open_ or held is None
    return None if open_ else not ends
