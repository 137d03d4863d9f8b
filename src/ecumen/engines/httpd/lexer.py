"""Lines and words of the configuration language.

Source: httpd 2.4, "Configuration Files: Syntax"; measured where that is silent (a backslash before
the line's end always continues, also in a comment and behind another backslash).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

SPACE = " \t\n\r\f\v"
_BARE = re.compile(r"[^ \t\n\r\f\v]+")
# Up to the quote that ends it: a backslash keeps a quote, and itself.
_QUOTED = {
    '"': re.compile(r'(?:\\["\\]|[^"])*', re.DOTALL),
    "'": re.compile(r"(?:\\['\\]|[^'])*", re.DOTALL),
}
_ESCAPED = {
    "": re.compile(r"\\(\\)"),
    '"': re.compile(r'\\(["\\])'),
    "'": re.compile(r"\\(['\\])"),
}


def decode(text: bytes) -> str:
    """Bytes as they stand, one text for each (PEP 383)."""
    return text.decode("utf-8", "surrogateescape")


def logical_lines(text: str) -> Iterator[tuple[int, str]]:
    """(number of the first physical line, stripped line) without comments and empty lines."""
    pending: list[str] = []
    first = 0
    for number, physical in enumerate(text.split("\n"), 1):
        line = physical.partition("\0")[0].removesuffix("\r")
        first = first or number
        if line.endswith("\\"):
            pending.append(line[:-1])
            continue
        whole = "".join([*pending, line]).strip(SPACE)
        if whole and not whole.startswith("#"):
            yield first, whole
        pending, first = [], 0
    whole = "".join(pending).strip(SPACE)
    if whole and not whole.startswith("#"):
        yield first, whole


def next_word(text: str) -> tuple[str, str]:
    """The first word, quotes undone, and what stands behind it."""
    text = text.lstrip(SPACE)
    if not text:
        return "", ""
    quote = text[0]
    if quote in "\"'":
        quoted = _QUOTED[quote].match(text, 1)
        at = 1 if quoted is None else quoted.end()
        return _unescape(text[1:at], quote), text[at + 1 :].lstrip(SPACE)
    match = _BARE.match(text)
    at = match.end() if match is not None else 0
    return _unescape(text[:at], ""), text[at:].lstrip(SPACE)


def _unescape(text: str, quote: str) -> str:
    return text if "\\" not in text else _ESCAPED[quote].sub(r"\1", text)


def words(text: str) -> list[str]:
    """All words, quotes undone."""
    if '"' not in text and "'" not in text and "\\" not in text:
        return _BARE.findall(text)
    found = []
    text = text.strip(SPACE)
    while text:
        word, text = next_word(text)
        found.append(word)
    return found


_VARIABLE = re.compile(r"\$\{([^}]*)\}")


LONGEST_LINE = 1 << 20  # letters, with all variables put in


def with_variables(text: str, value: Callable[[str], str | None]) -> str | None:
    """Puts in `${NAME}`. What `value` does not know stays as it is, as the engine leaves it.

    None where the line grows beyond LONGEST_LINE, as when variables double each other.
    """
    if "${" not in text:
        return text
    out: list[str] = []
    at = size = 0
    for match in _VARIABLE.finditer(text):
        known = value(match[1])
        out += [text[at : match.start()], match[0] if known is None else known]
        at = match.end()
        size += len(out[-1]) + len(out[-2])
        if size > LONGEST_LINE:
            return None
    return "".join([*out, text[at:]])
