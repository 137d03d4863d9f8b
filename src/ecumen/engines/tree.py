"""Configuration as a tree: every directive with the file and line that it stands at."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol, overload


class Place(NamedTuple):
    """line: from 1, that of the directive's first line."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


class Directive(NamedTuple):
    """One directive or section.

    name: as written; a section's begins with `<`. text: what stands behind it, variables put in.
    children: None for a plain directive. taken: False for a conditional section that does not
    hold; None where that cannot be told from the survey.
    """

    name: str
    text: str
    place: Place
    children: Sequence[Directive] | None = None
    taken: bool | None = True

    @property
    def quoted(self) -> str:
        """The directive as one line, for evidence."""
        if self.name.startswith("<"):
            return f"{self.name} {self.text}>" if self.text else f"{self.name}>"
        return f"{self.name} {self.text}".rstrip()


class Deferred(Sequence[Directive]):
    """The lines of a section, worked out when they are first asked for: of thousands of sites most
    requests meet one.

    text: as it stands. place: where the section begins. at_once: those of its lines that are wanted
    before. Of several threads that ask at once, all get what the first of them made.
    """

    __slots__ = ("_made", "_make", "at_once", "place", "text")

    def __init__(
        self,
        text: str,
        place: Place,
        at_once: tuple[Directive, ...],
        make: Callable[[], Sequence[Directive]],
    ) -> None:
        self.text = text
        self.place = place
        self.at_once = at_once
        self._make = make
        self._made: dict[bool, tuple[Directive, ...]] = {}

    def says(self, words: Sequence[str]) -> bool:
        """Whether any of these, given in small letters, stands in it, without working it out."""
        text = self.text.lower()
        return any(word in text for word in words)

    @property
    def lines(self) -> tuple[Directive, ...]:
        made = self._made.get(True)
        return self._made.setdefault(True, tuple(self._make())) if made is None else made

    @overload
    def __getitem__(self, at: int) -> Directive: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Directive]: ...
    def __getitem__(self, at: int | slice) -> Directive | Sequence[Directive]:
        return self.lines[at]

    def __len__(self) -> int:
        return len(self.lines)

    def __iter__(self) -> Iterator[Directive]:
        return iter(self.lines)

    def __reversed__(self) -> Iterator[Directive]:
        return reversed(self.lines)

    def __eq__(self, other: object) -> bool:
        return self is other or (isinstance(other, Sequence) and self.lines == tuple(other))

    def __hash__(self) -> int:
        return hash(self.lines)

    def __reduce__(self) -> tuple[object, ...]:
        return tuple, (self.lines,)


@dataclass(frozen=True, slots=True)
class Mistake:
    """Why the engine would refuse this configuration; or, where it is unread, why we cannot say: a
    text is there that the survey does not hold.
    """

    place: Place
    message: str
    unread: bool = False


@dataclass(frozen=True, slots=True)
class Tree:
    """All that was read, in the order in which the engine reads it.

    included: the line that first includes a file. cut: where sections begin that were not read to
    their end. missing: files that are named, not there, and passed over; where each is named.
    """

    directives: tuple[Directive, ...]
    mistakes: tuple[Mistake, ...] = ()
    files: tuple[str, ...] = ()
    included: Mapping[str, Place] = field(default_factory=dict)
    cut: frozenset[Place] = frozenset()
    missing: Mapping[str, Place] = field(default_factory=dict)

    def walk(self) -> Iterator[Directive]:
        return self.walk_where(lambda inner: True)

    def walk_where(self, holds: Callable[[Deferred], bool]) -> Iterator[Directive]:
        """All directives, but for what stands in sections that are not worked out and of which
        `holds` says that nothing in them is asked for.
        """
        stack = list(reversed(self.directives))
        while stack:
            directive = stack.pop()
            yield directive
            children = directive.children
            if children is None or (isinstance(children, Deferred) and not holds(children)):
                continue
            stack.extend(reversed(children))


class Source(Protocol):
    """Where configuration texts come from: a survey, or a machine that is being surveyed."""

    def read(self, path: str, by: str | None = None) -> bytes | None:
        """The text of a file; None where there is none that can be read. by: the file that names
        it, if one does.
        """

    def names(self, folder: str) -> list[str] | None:
        """Names in a folder, sorted by bytes; None where it is no folder that can be read."""

    def exists(self, path: str) -> bool | None:
        """Whether anything is there; None where that cannot be told."""

    def expect(self, paths: Sequence[str], by: str) -> None:
        """These will be asked for next, in this order, as a file names them: where each question
        takes its time, they may be fetched together.
        """

    def stamps(self, paths: Sequence[str]) -> Sequence[Hashable | None]:
        """For each file what changes whenever its text does; None where that cannot be told."""
