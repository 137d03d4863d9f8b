"""Maps that rules look things up in.

Source: httpd 2.4, mod_rewrite ("RewriteMap"; "Using RewriteMap"); measured.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from string import ascii_lowercase, ascii_uppercase
from typing import Protocol

from ecumen.engines.httpd.uri import escaped

_LOWER = str.maketrans(ascii_uppercase, ascii_lowercase)
_UPPER = str.maketrans(ascii_lowercase, ascii_uppercase)
_ESCAPE = re.compile(rb"%([0-9a-fA-F]{2})")
_KINDS = ("txt", "rnd", "dbm", "int", "prg", "dbd", "fastdbd")


class Texts(Protocol):
    """Where the texts of maps come from."""

    def read(self, path: str) -> bytes | None: ...


@dataclass(frozen=True, slots=True)
class RewriteMap:
    """kind: as written in front of the colon. source: a path, or the name of a function. by: the
    file that names it.
    """

    kind: str
    source: str
    by: str


def read_map(given: str, by: str) -> RewriteMap:
    """The second argument of a line that declares a map; a path alone is that of a text."""
    kind, colon, source = given.partition(":")
    if colon and kind.partition("=")[0] in _KINDS:
        return RewriteMap(kind, source, by)
    return RewriteMap("txt", given, by)


class MapTexts:
    """The maps of one survey; each text is read once."""

    def __init__(self, texts: Texts) -> None:
        self._texts = texts
        self._read: dict[str, Mapping[str, str] | None] = {}

    def value(self, found: RewriteMap | None, key: str) -> str | None:
        """What a key stands for; None where it is not in there, or there is no such map. Raises
        LookupError for what the survey cannot tell.
        """
        if found is None:
            return None
        if found.kind == "int":
            return _made(found.source, key)
        if found.kind not in ("txt", "rnd"):
            raise LookupError(found.source)
        if found.source not in self._read:
            data = self._texts.read(found.source)
            self._read[found.source] = None if data is None else _lines(data)
        table = self._read[found.source]
        if table is None:
            raise LookupError(found.source)
        value = table.get(key)
        if value is not None and found.kind == "rnd" and "|" in value:
            # One of them, anew each time.
            raise LookupError(found.source)
        return value


def _lines(data: bytes) -> dict[str, str]:
    """The first word of a line stands for the second one; the first line of a key counts, and one
    that begins with a blank has none. Only blanks of ASCII part words: those of other scripts
    are letters to the server.
    """
    found: dict[str, str] = {}
    for line in data.split(b"\n"):
        words = line.split()
        if len(words) > 1 and not line[:1].isspace() and not line.startswith(b"#"):
            key, value = (word.decode("utf-8", "surrogateescape") for word in words[:2])
            found.setdefault(key, value)
    return found


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _made(function: str, key: str) -> str:
    match function:
        case "tolower":
            return key.translate(_LOWER)
        case "toupper":
            return key.translate(_UPPER)
        case "escape":
            return escaped(key)
        case "unescape" if "%" not in _ESCAPE.sub(b"", _bytes(key)).decode("latin-1"):
            plain = _ESCAPE.sub(lambda pair: bytes.fromhex(pair[1].decode()), _bytes(key))
            if b"%" not in plain:
                return plain.decode("utf-8", "surrogateescape")
    raise LookupError(function)
