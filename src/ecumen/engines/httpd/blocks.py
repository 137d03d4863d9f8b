"""Virtual hosts of which one look at the text tells that nothing in them acts on anything else:
their lines need not be worked out until they are asked for.

What is let through is stricter than the language (lexer.py): whatever is continued, conditional,
quoted as a name or has a variable in it is read line by line.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import islice

from ecumen.engines.httpd.lexer import SPACE, next_word
from ecumen.engines.tree import Directive, Place

# What makes a text one that must be read line by line.
_ODD = ("${", "\\\n", "\r", "\f", "\v", "\0")
# Lines that open or close a section, that are wanted at once, or (with no group) that act while
# they are read, hold for the server as a whole wherever they stand, or are written oddly. The first
# letters are sets, so that others cost nothing.
_TOLD = re.compile(
    r"""[ \t]*(?:
      <(/?)([A-Za-z]+)(>[ \t]*\Z|[ \t].*>.*)
    | ((?:[sS](?i:erver(?:name|alias)|etenv)|[pP](?i:assenv)|[uU](?i:nsetenv))(?=[ \t]|\Z).*)
    | (?: [iI](?i:nclude(?:optional)?) | [dD](?i:efine) | [uU](?i:ndefine|se(?:r)?|ndefmacro)
        | [lL](?i:oadmodule|isten|ogformat) | [sS](?i:erverroot) | [eE](?i:rror)
        | [gG](?i:roup) | [tT](?i:ypesconfig) )(?=[ \t]|\Z)
    | [<"']
    )""",
    re.VERBOSE,
)
_CONDITIONAL = frozenset(
    "virtualhost ifmodule ifdefine iffile ifversion ifdirective ifsection macro".split()
)
_HOST = "virtualhost"
DEEPEST = 20


def is_plain(text: str) -> bool:
    """Whether a text is one in which blocks may be told by a look."""
    return not any(odd in text for odd in _ODD)


@dataclass(frozen=True, slots=True)
class Block:
    """text: what stands in it. lines: how many these are, with the one that closes it.
    at_once: the lines that say what it is called or set variables.
    """

    text: str
    lines: int
    at_once: tuple[Directive, ...]


def _looked_at(line: str) -> tuple[str | None, ...] | None:
    found = _TOLD.match(line)
    return None if found is None else found.groups()


_known = lru_cache(maxsize=4096)(_looked_at)  # sites have most of their lines in common
LONGEST_KEPT = 200  # letters: what an owner writes stays in memory no longer than its survey


def _told(line: str) -> tuple[str | None, ...] | None:
    """What a line of a plain text says that must be known at once; None for nothing."""
    return _known(line) if len(line) <= LONGEST_KEPT else _looked_at(line)


def block_at(lines: Sequence[str], at: int, file: str, number: int) -> Block | None:
    """What stands in a virtual host; None where it must be read line by line.

    lines: of a plain text. at: where among them the block begins; number: of its first line.
    """
    open_sections: list[str] = []
    found: list[Directive] = []
    for passed, told in enumerate(map(_told, islice(lines, at, None))):
        if told is None:
            continue
        closes, section, rest, line = told
        if line is not None:
            name, words = next_word(line.rstrip(SPACE))
            # What a section below would be called is not the host's name.
            if not open_sections or not name.lower().startswith("server"):
                found.append(Directive(name, words, Place(file, number + passed)))
            continue
        if section is None or rest is None:
            return None
        section = section.lower()
        if not closes:
            if section in _CONDITIONAL or len(open_sections) == DEEPEST:
                return None
            open_sections.append(section)
        elif rest[0] != ">":
            return None
        elif open_sections:
            if open_sections.pop() != section:
                return None
        elif section == _HOST:
            inner = "\n".join([*lines[at : at + passed], ""])
            return Block(inner, passed + 1, tuple(found))
        else:
            return None
    return None
