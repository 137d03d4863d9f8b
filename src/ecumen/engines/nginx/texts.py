"""Texts with variables and captures in them.

Source: nginx, "Alphabetical index of variables"; ngx_http_rewrite_module.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache

_PART = re.compile(r"\$(?:\{([A-Za-z0-9_]+)\}|([1-9])|([A-Za-z_][A-Za-z0-9_]*))")
LONGEST_TEXT = 64 << 10  # letters, with variables put in


@dataclass(frozen=True, slots=True)
class Piece:
    """text: literal, where name is empty; a capture's name is its number."""

    text: str
    name: str = ""


@dataclass(frozen=True, slots=True)
class Text:
    """source: as written. constant: it holds no variable."""

    source: str
    pieces: tuple[Piece, ...]
    constant: bool = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "constant", not any(piece.name for piece in self.pieces))

    def value(self, lookup: Callable[[str], str]) -> str:
        """Raises LookupError for what grows beyond all sense."""
        out: list[str] = []
        size = 0
        for piece in self.pieces:
            out.append(lookup(piece.name) if piece.name else piece.text)
            size += len(out[-1])
            if size > LONGEST_TEXT:
                raise LookupError(f"{piece.name} in a text of more than {LONGEST_TEXT} letters")
        return "".join(out)


@lru_cache(maxsize=65536)
def text_of(source: str) -> Text:
    """A dollar that begins no name stands for itself."""
    pieces = []
    at = 0
    for match in _PART.finditer(source):
        if match.start() > at:
            pieces.append(Piece(source[at : match.start()]))
        pieces.append(Piece(match[0], match[1] or match[2] or match[3]))
        at = match.end()
    if at < len(source) or not pieces:
        pieces.append(Piece(source[at:]))
    return Text(source, tuple(pieces))
