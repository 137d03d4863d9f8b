"""Rules and conditions as written, and how sections of them are merged.

Source: httpd 2.4, mod_rewrite ("RewriteRule", "RewriteCond", "RewriteOptions"); measured.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from ecumen.engines.httpd.lexer import SPACE
from ecumen.engines.httpd.statuses import KNOWN
from ecumen.engines.numbers import atoi
from ecumen.engines.tree import Directive
from ecumen.patterns import Regex, compiled, is_refused

OPTIONS = frozenset(
    """
    inherit inheritbefore inheritdown inheritdownbefore ignoreinherit allownoslash allowanyuri
    mergebase ignorecontextinfo legacyprefixdocroot unsafeprefixstat
""".split()
)
_FILE_TESTS = {"f": "file", "s": "size", "d": "folder", "x": "executable", "h": "link",
               "l": "link", "L": "link", "U": "asked-address", "F": "asked-file"}  # fmt: skip
_NUMBERS = {"lt": "lt", "le": "le", "gt": "gt", "ge": "ge", "eq": "eq", "ne": "ne"}
_WORDS = {"permanent": 301, "temp": 302, "seeother": 303}


class RuleError(Exception):
    """The engine refuses this line. The text says why."""


@dataclass(frozen=True, slots=True)
class RewriteCondition:
    """kind: regex, expr, file, size, folder, link, executable, asked-…, text-…, or number-….

    regex: None for the other kinds, and where Ecumen does not evaluate the pattern.
    """

    input: str
    kind: str
    pattern: str
    regex: Regex | None
    negated: bool
    ignore_case: bool
    or_next: bool
    directive: Directive


@dataclass(frozen=True, slots=True)
class RewriteRule:
    """output: `-` for none. flags: lower case, by their full names."""

    pattern: str
    regex: Regex | None
    negated: bool
    output: str
    flags: frozenset[str]
    code: int
    skip: int
    rounds: int
    env: tuple[str, ...]
    escapes: str | None
    no_escapes: str | None
    type: str | None
    handler: str | None
    conditions: tuple[RewriteCondition, ...]
    directive: Directive

    @property
    def keeps(self) -> bool:
        """Whether the address stays as it is."""
        return "keep" in self.flags


@dataclass(frozen=True, slots=True)
class Rewriting:
    """The rules of one section or override file. None: not said.

    folder: with a slash at its end, None where the rules are the server's or a host's.
    """

    on: bool | None = None
    options: frozenset[str] | None = None
    base: str | None = None
    folder: str | None = None
    rules: tuple[RewriteRule, ...] = ()

    def over(self, base: Rewriting) -> Rewriting:
        """A deeper section's rules upon an upper one's: in their place, unless told otherwise."""
        options = self.options if self.options is not None else base.options
        mine, theirs = options or frozenset(), base.options or frozenset()
        open_to = "ignoreinherit" not in mine
        rules = self.rules
        if "inherit" in mine or ("inheritdown" in theirs and open_to):
            rules = self.rules + base.rules
        elif "inheritbefore" in mine or ("inheritdownbefore" in theirs and open_to):
            rules = base.rules + self.rules
        return Rewriting(
            self.on if self.on is not None else base.on,
            options,
            self.base if self.base is not None or "mergebase" not in mine else base.base,
            self.folder,
            rules,
        )

    def with_(self, **changes: object) -> Rewriting:
        return replace(self, **changes)  # type: ignore[arg-type]


# --- reading ---


# A backslash keeps a blank, in quotes as outside of them.
_BLANK = f"[{SPACE}]"
_WORD = {
    "": re.compile(rf"(?:\\{_BLANK}|[^{SPACE}])*"),
    '"': re.compile(rf'(?:\\{_BLANK}|[^"])*'),
    "'": re.compile(rf"(?:\\{_BLANK}|[^'])*"),
}


def _arguments(text: str) -> list[str]:
    """Two or three arguments. A backslash before a blank keeps it; backslashes stay.

    Raises RuleError where the second is missing.
    """
    found: list[str] = []
    at = 0
    while len(found) < 3:
        while at < len(text) and text[at] in SPACE:
            at += 1
        if at >= len(text):
            break
        quote = text[at] if text[at] in "\"'" else ""
        at += len(quote)
        start = at
        word = _WORD[quote].match(text, at)
        at = start if word is None else word.end()
        found.append(text[start:at])
        if len(found) == 1 and at >= len(text):
            raise RuleError(f"bad argument line '{text}'")
        at += 1
    if not found:
        raise RuleError(f"bad argument line '{text}'")
    # Behind quotes that are closed the second one may be missing: then it is empty (measured).
    return found if len(found) > 1 else [*found, ""]


def _flag_list(text: str) -> list[tuple[str, str]]:
    if not (text.startswith("[") and text.endswith("]")) or len(text) < 2:
        raise RuleError("bad flag delimiters")
    found = []
    for part in text[1:-1].split(","):
        word = part.strip(SPACE)
        if word:
            key, _, value = word.partition("=")
            found.append((key, value))
    return found


def read_condition(directive: Directive) -> RewriteCondition:
    """Raises RuleError where the engine would refuse the line."""
    given = _arguments(directive.text)
    flags = set()
    for key, _ in _flag_list(given[2]) if len(given) > 2 else ():
        word = {"nc": "nocase", "or": "ornext", "nv": "novary"}.get(key.lower(), key.lower())
        if word not in ("nocase", "ornext", "novary"):
            raise RuleError(f"unknown flag '{key}'")
        flags.add(word)
    pattern = given[1]
    negated = pattern.startswith("!")
    pattern = pattern[1:] if negated else pattern
    kind, pattern, flipped = _kind(given[0], pattern)
    regex = None
    if kind == "regex":
        _check(pattern)
        regex = compiled(pattern, ignore_case="nocase" in flags)
    return RewriteCondition(
        given[0],
        kind,
        pattern,
        regex,
        negated != flipped,
        "nocase" in flags,
        "ornext" in flags,
        directive,
    )


def _check(pattern: str) -> None:
    """Raises RuleError for what the server cannot compile."""
    if is_refused(pattern):
        raise RuleError(f"cannot compile regular expression '{pattern[:200]}'")


def _kind(tested: str, pattern: str) -> tuple[str, str, bool]:
    """(kind, what is left of the pattern, whether it is turned round)."""
    if tested.lower() == "expr":
        return "expr", pattern, False
    if len(pattern) < 2:
        return "regex", pattern, False
    if pattern[0] == "-":
        if len(pattern) == 2 and pattern[1] in _FILE_TESTS:
            return _FILE_TESTS[pattern[1]], pattern, False
        word = _NUMBERS.get(pattern[1:3])
        if word is not None and len(pattern) > 3:
            return f"number-{'eq' if word == 'ne' else word}", pattern[3:], word == "ne"
        return "regex", pattern, False
    for sign, name in ((">=", "ge"), (">", "gt"), ("<=", "le"), ("<", "lt"), ("=", "eq")):
        if pattern.startswith(sign):
            rest = pattern[len(sign) :]
            return f"text-{name}", "" if sign == "=" and rest == '""' else rest, False
    return "regex", pattern, False


_PLAIN_FLAGS = {
    "c": "chain", "chain": "chain", "dpi": "discardpath", "discardpath": "discardpath",
    "end": "end", "l": "last", "last": "last", "n": "next", "next": "next",
    "nc": "nocase", "nocase": "nocase", "ne": "noescape", "noescape": "noescape",
    "ns": "nosubreq", "nosubreq": "nosubreq", "p": "proxy", "proxy": "proxy",
    "pt": "passthrough", "passthrough": "passthrough", "qsa": "qsappend", "qsappend": "qsappend",
    "qsd": "qsdiscard", "qsdiscard": "qsdiscard", "qsl": "qslast", "qslast": "qslast",
    "unsafeprefixstat": "unsafeprefixstat", "unsafeallow3f": "unsafeallow3f", "unc": "unc",
    "b": "escape", "backrefescaping": "escape", "bnp": "noplus", "backrefernoplus": "noplus",
    "bctls": "escapecontrols",
}  # fmt: skip


class _Draft:
    def __init__(self) -> None:
        self.flags: set[str] = set()
        self.code = 302
        self.skip = 0
        self.rounds = 32000
        self.env: list[str] = []
        self.values: dict[str, str] = {}

    def take(self, key: str, value: str) -> None:
        word = key.lower()
        if word in ("f", "forbidden", "g", "gone"):
            self.flags |= {"status", "keep"}
            self.code = 403 if word[0] == "f" else 410
        elif word in ("r", "redirect"):
            self._redirect(value)
        elif word in ("s", "skip"):
            self.skip = max(0, atoi(value))
        elif word in ("e", "env"):
            self.env.append(value)
        elif word in ("t", "type", "h", "handler"):
            self.values["type" if word[0] == "t" else "handler"] = value
        elif word in ("bne",):
            if not value:
                raise RuleError("flag 'BNE' wants a list of characters (i.e. [BNE=...])")
            self.values["bne"] = value
        elif word in ("co", "cookie"):
            return
        elif word in _PLAIN_FLAGS:
            self._plain(_PLAIN_FLAGS[word], value)
        elif word.startswith("d"):
            # The engine lets any word with this first letter pass, and does nothing for it.
            return
        else:
            raise RuleError(f"unknown flag '{key}'")

    def _plain(self, flag: str, value: str) -> None:
        self.flags.add(flag)
        if flag == "next" and value:
            self.rounds = atoi(value)
        if flag == "escape" and value:
            self.values["b"] = value
        if flag == "escapecontrols":
            self.flags.add("escape")

    def _redirect(self, value: str) -> None:
        self.flags.add("redirect")
        code = 0
        if value.lower() in _WORDS:
            code = _WORDS[value.lower()]
        elif value[:1].isascii() and value[:1].isdecimal():
            code = atoi(value)
            if code not in KNOWN:
                raise RuleError(f"invalid HTTP response code '{value}' for flag 'R'")
            if not 300 <= code < 400:
                self.flags |= {"status", "keep"}
        if value:
            self.code = code


def read_rule(directive: Directive, conditions: tuple[RewriteCondition, ...]) -> RewriteRule:
    """Raises RuleError where the engine would refuse the line."""
    given = _arguments(directive.text)
    draft = _Draft()
    for key, value in _flag_list(given[2]) if len(given) > 2 else ():
        draft.take(key, value)
    pattern, output = given[0], given[1]
    negated = pattern.startswith("!")
    pattern = pattern[1:] if negated else pattern
    _check(pattern)
    flags = draft.flags
    if output == "-":
        flags.add("keep")
    if output.endswith("?"):
        if "qsappend" in flags:
            flags.add("qslast")
        else:
            flags.add("qsnone")
            output = output[:-1]
    elif "qsdiscard" in flags and "?" not in output:
        flags.add("qsnone")
    return RewriteRule(
        pattern,
        compiled(pattern, ignore_case="nocase" in flags),
        negated,
        output,
        frozenset(flags),
        draft.code,
        draft.skip,
        draft.rounds,
        tuple(draft.env),
        draft.values.get("b"),
        draft.values.get("bne"),
        draft.values.get("type"),
        draft.values.get("handler"),
        conditions,
        directive,
    )
