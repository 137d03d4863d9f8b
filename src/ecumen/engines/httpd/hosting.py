"""Folders that are sites: the name that is asked for says where it lies.

Source: httpd 2.4, mod_vhost_alias ("Directory Name Interpolation") and vhost_alias_interpolate;
measured with 30 patterns.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

from ecumen.engines.tree import Directive

MOST_PARTS = 19  # of a name; what lies behind belongs to the last one
_SPEC = re.compile(r"%(?:%|p|(-?)(\d)(\+?)(?:\.(-?)(\d)(\+?))?)")


@dataclass(frozen=True, slots=True)
class FolderPattern:
    """pattern: absolute; "" for none, whatever the server as a whole says. by_address: put in is
    the address that the request came to, and not the name.
    """

    pattern: str
    by_address: bool
    directive: Directive

    @property
    def above(self) -> str:
        """The folder below which all of them lie."""
        return self.pattern.partition("%")[0].rpartition("/")[0]

    def folder(self, name: str, port: int) -> str:
        """Where the site of a name lies. name: in any case."""

        def put(spec: re.Match[str]) -> str:
            if spec[0] == "%%":
                return "%"
            if spec[0] == "%p":
                return str(port)
            dash, part, plus, dash_in, letter, plus_in = spec.groups()
            text = _part(name, int(part), bool(dash), bool(plus))
            return _letters(text, int(letter or 0), bool(dash_in), bool(plus_in)).lower()

        return _SPEC.sub(put, self.pattern).removesuffix("/")

    def name_of(self, folder: str, names: Iterable[str], endings: Iterable[str]) -> str | None:
        """The name whose site lies in a folder; None where none is known. names: that are claimed;
        endings: what may stand behind what the folder says, as names claimed by pattern end.
        """
        for name in names:
            if self.folder(name, 80) == folder:
                return name
        for text in self.put_in(folder):
            for ending in (*endings, ""):
                # Tried forwards: what the pattern drops of a name is in no folder.
                if self.folder(f"{text}{ending}", 80) == folder:
                    return f"{text}{ending}"
        return None

    def put_in(self, folder: str) -> list[str]:
        """What stands in a folder's path where the pattern puts something in."""
        found = _shape(self.pattern).fullmatch(folder)
        return [text for text in found.groups() if text] if found is not None else []


@lru_cache(maxsize=256)
def _shape(pattern: str) -> re.Pattern[str]:
    """What all folders of a pattern look like."""
    parts = _SPEC.split(pattern)[:: _SPEC.groups + 1]
    return re.compile("([^/]*)".join(map(re.escape, parts)).removesuffix("/"))


def read_pattern(directive: Directive, given: list[str]) -> FolderPattern | None:
    """None for what the server would not accept."""
    if len(given) != 1:
        return None
    by_address = directive.name.lower().endswith("ip")
    if given[0].lower() == "none":
        return FolderPattern("", by_address, directive)
    if not given[0].startswith("/") or "%" in _SPEC.sub("", given[0]):
        return None
    return FolderPattern(given[0], by_address, directive)


def _part(name: str, number: int, from_end: bool, on: bool) -> str:
    """A part of a name between its dots. on: with all in front of it, or behind it."""
    parts = name.split(".", MOST_PARTS - 1)
    if number == 0:
        return name
    if number > len(parts):
        return "_"
    if from_end:
        end = len(parts) - number
        return ".".join(parts[: end + 1]) if on else parts[end]
    return ".".join(parts[number - 1 :]) if on else parts[number - 1]


def _letters(text: str, number: int, from_end: bool, on: bool) -> str:
    """Letters of a part, counted alike."""
    if number == 0:
        return text
    if number > len(text):
        return "_"
    at = len(text) - number if from_end else number - 1
    if from_end:
        return text[: at + 1] if on else text[at]
    return text[at:] if on else text[at]
