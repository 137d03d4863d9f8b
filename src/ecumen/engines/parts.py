"""What came of lines before: a configuration that says the same in other places takes it over."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Generic, TypeVar

_Line = TypeVar("_Line")
_Part = TypeVar("_Part")


class Parts(Generic[_Line, _Part]):
    """The lines of one place, of which some are parts by themselves: virtual hosts. Of thousands of
    which something came before none is looked at again.

    known: what came of lines before, by their numbers (`id`). others: all other lines. new: those
    of them that are parts; said: the rest.
    """

    def __init__(
        self,
        lines: Sequence[_Line],
        known: Mapping[int, _Part],
        is_part: Callable[[_Line], bool],
    ) -> None:
        self.lines = lines
        self._numbers = list(map(id, lines))
        self._held = list(map(known.get, self._numbers))
        others = [at for at, part in enumerate(self._held) if part is None]
        self._places = [at for at in others if is_part(lines[at])]
        self.others = [lines[at] for at in others]
        self.new = [lines[at] for at in self._places]
        self.said = tuple([line for line in self.others if not is_part(line)])

    @property
    def single(self) -> bool:
        """Whether no part stands there twice, as in a file that is included twice: of one line two
        are made then, and each is its own.
        """
        held = zip(self._numbers, self._held, strict=True)
        numbers = [number for number, part in held if part is not None]
        numbers += [self._numbers[at] for at in self._places]
        return len(set(numbers)) == len(numbers)

    def made(self, new: Sequence[_Part]) -> list[_Part]:
        """All of them, in order. new: what has come of the new ones."""
        for at, part in zip(self._places, new, strict=True):
            self._held[at] = part
        return [part for part in self._held if part is not None]

    @property
    def of(self) -> dict[int, _Part]:
        """What came of lines, by their numbers."""
        pairs = zip(self._numbers, self._held, strict=True)
        return {number: part for number, part in pairs if part is not None}
