"""Virtual hosts of which one look at the text tells that nothing in them acts on anything else:
their lines need not be worked out until they are asked for.

What is let through is stricter than the language (lexer.py): whatever is continued, conditional,
quoted as a name or has a variable in it is read line by line.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from ecumen.engines.httpd.lexer import SPACE, next_word
from ecumen.engines.tree import Directive, Place

# What makes a text one that must be read line by line.
_ODD = ("${", "\\\n", "\r", "\f", "\v", "\0")
# Lines that open or close a section, that are wanted at once, or (with no group) that act while
# they are read, hold for the server as a whole wherever they stand, or are written oddly. Searched
# for by the line's end in front of them; the first letters are sets, so that others cost nothing.
_TOLD = re.compile(
    r"""\n[ \t]*(?:
      <(/?)([A-Za-z]+)(>[ \t]*(?=\n|\Z)|[ \t][^\n]*>[^\n]*)
    | ((?:[sS](?i:erver(?:name|alias)|etenv)|[pP](?i:assenv)|[uU](?i:nsetenv))(?=[ \t\n]|\Z)[^\n]*)
    | (?: [iI](?i:nclude(?:optional)?) | [dD](?i:efine) | [uU](?i:ndefine|se(?:r)?|ndefmacro)
        | [lL](?i:oadmodule|isten|ogformat) | [sS](?i:erverroot) | [eE](?i:rror)
        | [gG](?i:roup) | [tT](?i:ypesconfig) )(?=[ \t\n]|\Z)
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


def block_at(text: str, at: int, file: str, number: int) -> Block | None:
    """What stands in a virtual host; None where it must be read line by line.

    text: a plain one. at: where the line's end stands in it behind which the block begins; number:
    of its first line.
    """
    open_sections: list[str] = []
    found: list[Directive] = []
    counted, position = number, at
    for told in _TOLD.finditer(text, at):
        closes, section, rest, line = told.groups()
        if line is not None:
            name, words = next_word(line.rstrip(SPACE))
            # What a section below would be called is not the host's name.
            if not open_sections or not name.lower().startswith("server"):
                counted += text.count("\n", position, told.start())
                position = told.start()
                found.append(Directive(name, words, Place(file, counted)))
            continue
        if section is None:
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
            inner = text[at + 1 : told.start() + 1]
            return Block(inner, inner.count("\n") + 1, tuple(found))
        else:
            return None
    return None
