"""The variables that a service's start script sets: its file is read, never run.

Source: sh(1), as far as such files use it: assignments, `export`, `unset`, `if` with `[`, the
expansions `${A}`, `${A:-B}`, `${A##B}`. What is more than that is not known, and left out.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from fnmatch import fnmatchcase

MOST_LINES = 5000
LONGEST_VALUE = 4096

_ASSIGNED = re.compile(r"(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_]*)=(.*)", re.DOTALL)
_TEST = re.compile(r"if[ \t]+\[[ \t]+(.+?)[ \t]+\][ \t]*;?[ \t]*(?:then)?\Z")
_EXPANSION = re.compile(
    r"\$(?:\{([A-Za-z_]\w*)(?:(:?-|##?|%%?)([^{}]*))?\}|([A-Za-z_]\w*))", re.ASCII
)
_OPENS = ("case ", "for ", "while ", "until ", "{")


class _UnknownError(Exception):
    """More than is read here."""


def variables(text: str, known: Mapping[str, str]) -> dict[str, str]:
    """What is set after such a file was read. known: set before. Never raises."""
    values: dict[str, str | None] = dict(known)
    # For each `if` that is open: whether its lines hold; None where that is not known.
    taken: list[bool | None] = []
    for line in text.replace("\\\n", "").split("\n")[:MOST_LINES]:
        line = line.strip()
        if not line or line[0] == "#" or line in ("then", "then;"):
            continue
        if line.startswith("if ") or line.startswith(_OPENS):
            taken.append(_holds(line, values))
        elif line.startswith("elif "):
            taken[-1:] = [None] if taken else []
        elif line == "else":
            taken[-1:] = [None if taken[-1] is None else not taken[-1]] if taken else []
        elif line.split()[0].rstrip(";") in ("fi", "esac", "done", "}"):
            taken[-1:] = []
        elif False not in taken:
            _set(line, values, sure=None not in taken)
    return {name: value for name, value in values.items() if value is not None}


def _set(line: str, values: dict[str, str | None], *, sure: bool) -> None:
    given = _ASSIGNED.fullmatch(line)
    if given is not None:
        try:
            value = _word(given[2], values) if sure else None
        except _UnknownError:
            value = None
        values[given[1]] = value
    elif line.startswith("unset "):
        for name in line.split()[1:]:
            values[name] = None


def _holds(line: str, values: Mapping[str, str | None]) -> bool | None:
    test = _TEST.fullmatch(line)
    if test is None:
        return None
    try:
        words = [_word(word, values) for word in _split(test[1])]
    except _UnknownError:
        return None
    match words:
        case [one, "=" | "==", other]:
            return one == other
        case [one, "!=", other]:
            return one != other
        case ["-n", one]:
            return bool(one)
        case ["-z", one]:
            return not one
    return None


def _split(text: str) -> list[str]:
    return re.findall(r'(?:"[^"]*"|\'[^\']*\'|[^\s"\'])+', text)


def _word(text: str, values: Mapping[str, str | None]) -> str:
    """One word, quotes undone and variables put in."""
    out, at = "", 0
    text = text.strip()
    while at < len(text):
        char = text[at]
        if char == "'":
            end = text.find("'", at + 1)
            if end < 0:
                raise _UnknownError
            out += text[at + 1 : end]
            at = end + 1
        elif char == '"':
            end = text.find('"', at + 1)
            if end < 0 or "`" in text[at:end] or "$(" in text[at:end]:
                raise _UnknownError
            out += _expanded(text[at + 1 : end], values)
            at = end + 1
        elif char in "`;|&<>()" or text.startswith("$(", at):
            raise _UnknownError
        elif char in " \t":
            if text[at:].lstrip()[:1] == "#":
                break
            raise _UnknownError
        else:
            end = at
            while end < len(text) and text[end] not in "'\"`;|&<>() \t":
                end += 1
            out += _expanded(text[at:end], values)
            at = end
    if len(out) > LONGEST_VALUE:
        raise _UnknownError
    return out


def _expanded(text: str, values: Mapping[str, str | None]) -> str:
    def put(found: re.Match[str]) -> str:
        name, operator, word = found[1] or found[4], found[2], found[3] or ""
        if name in values and values[name] is None and not operator:
            raise _UnknownError
        value = values.get(name) or ""
        match operator:
            case "-" | ":-":
                return value or word
            case "#" | "##":
                ends = range(len(value) + 1)
                fitting = [end for end in ends if fnmatchcase(value[:end], word)]
                return value[(max if operator == "##" else min)(fitting, default=0) :]
            case "%" | "%%":
                raise _UnknownError
        return value

    if len(text) > LONGEST_VALUE:
        raise _UnknownError
    return _EXPANSION.sub(put, text)
