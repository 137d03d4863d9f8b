"""Reads a configuration as the server does: the main file, and what it includes where it stands.

Source: nginx, core ("include"); glob(3) in the C locale.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import chain
from operator import itemgetter

from ecumen.engines.names import Hits, include_all, is_pattern, others, same_still
from ecumen.engines.nginx.lexer import Lexer, Line, SyntaxFault
from ecumen.engines.tree import Mistake, Place, Source

DEEPEST_INCLUDE = 50
MOST_BYTES = 1 << 30
MOST_MISTAKES = 1000


@dataclass(frozen=True, slots=True)
class Reading:
    """lines: the statements of the main file, those of included files in their place.

    included: the line that first includes a file. cut: where blocks begin that were not read to
    their end.
    """

    lines: list[Line]
    mistakes: tuple[Mistake, ...]
    files: tuple[str, ...]
    included: Mapping[str, Place] = field(default_factory=dict)
    cut: frozenset[Place] = frozenset()


# A file that was read before: the stamp of its text, its statements, its size in bytes.
_Read = tuple[Hashable, list[Line], int]
_LINES, _SIZE = itemgetter(1), itemgetter(2)


class Cache:
    """What was read before: lines as they are made, and files that include no others."""

    def __init__(self) -> None:
        self.lexer = Lexer()
        self.hits = Hits()
        self.files: dict[str, _Read] = {}


class Reader:
    """One reading of one configuration."""

    def __init__(self, source: Source, prefix: str, cache: Cache | None = None) -> None:
        self.source = source
        self.prefix = prefix
        self.cache = cache or Cache()
        self.keeps = cache is not None
        self.steady = True
        self.files: list[str] = []
        self.included: dict[str, Place] = {}
        self.mistakes: list[Mistake] = []
        self.cut: set[Place] = set()
        self.count = 0

    def read(self, config: str) -> Reading:
        """Never raises: what the server would stop at is a mistake.

        The reading goes on with the files behind it, so that what stands there can be shown.
        """
        lines: list[Line] = []
        try:
            self._file(config, lines, 0, Place(config, 1))
        except SyntaxFault as fault:
            self._broken(fault)
        return Reading(
            lines, tuple(self.mistakes), tuple(self.files), self.included, frozenset(self.cut)
        )

    def _broken(self, fault: SyntaxFault) -> None:
        self.mistakes.append(Mistake(fault.place, fault.message, fault.unread))
        self.cut |= fault.open
        self.steady = False

    def absolute(self, path: str) -> str:
        """Relative paths lie below the folder of the main configuration file."""
        return path if path.startswith("/") else f"{self.prefix.rstrip('/')}/{path}"

    def _take_over(
        self, paths: Sequence[str], known: Sequence[_Read | None], into: list[Line], by: Place
    ) -> None:
        """Files that were read before and say the same still: thousands at once."""
        held = [each for each in known if each is not None]
        self._counted(sum(map(_SIZE, held)), by)
        self.files += paths
        include_all(self.included, paths, by)
        into.extend(chain.from_iterable(map(_LINES, held)))

    def _counted(self, size: int, by: Place) -> None:
        self.count += size
        if self.count > MOST_BYTES:
            raise SyntaxFault(by, f"more than {MOST_BYTES} bytes", for_good=True)

    def _file(self, path: str, into: list[Line], depth: int, by: Place) -> None:
        if depth > DEEPEST_INCLUDE:
            why = f"includes are more than {DEEPEST_INCLUDE} deep"
            raise SyntaxFault(by, why, for_good=True)
        stamp = self.source.stamps([path])[0] if self.keeps else None
        text = self.source.read(path, by.file if depth else None)
        if text is None:
            if self.source.exists(path):
                raise SyntaxFault(by, f"the survey does not hold {path}", unread=True)
            raise SyntaxFault(by, f'open() "{path}" failed')
        self.files.append(path)
        if depth:
            self.included.setdefault(path, by)
        before = len(into)
        self.steady = True

        def include(line: Line, where: list[Line]) -> None:
            self._include(line, where, depth)
            self.steady = False

        decoded = text.decode("utf-8", "surrogateescape")
        self._counted(len(text), by)
        self.cache.lexer.read(decoded, path, into, include)
        if self.steady and stamp is not None:
            self.cache.files[path] = (stamp, into[before:], len(text))

    def _include(self, line: Line, into: list[Line], depth: int) -> None:
        if len(line.args) != 1:
            raise SyntaxFault(line.place, 'invalid number of arguments in "include" directive')
        pattern, at = self.absolute(line.args[0]), line.place
        paths = self._matching(pattern) if is_pattern(pattern) else [pattern]
        if len(paths) > 1:
            self.source.expect(paths, at.file)
        keeps = self.keeps and depth < DEEPEST_INCLUDE
        known = list(map(self.cache.files.get, paths)) if keeps else [None] * len(paths)
        read = [None if each is None else each[0] for each in known]
        begun = 0
        for number in others(same_still(paths, read, self.source.stamps)):
            self._take_over(paths[begun:number], known[begun:number], into, at)
            begun = number + 1
            try:
                self._file(paths[number], into, depth + 1, at)
            except SyntaxFault as fault:
                if fault.for_good or len(self.mistakes) >= MOST_MISTAKES:
                    raise
                self._broken(fault)
                # Stands for what is missing here.
                into.append(line)
        self._take_over(paths[begun:], known[begun:], into, at)

    def _matching(self, pattern: str) -> list[str]:
        folders = [""]
        parts = [part for part in pattern.split("/") if part]
        for number, part in enumerate(parts):
            last = number == len(parts) - 1
            if not is_pattern(part):
                folders = [f"{folder}/{part}" for folder in folders]
                if last:
                    folders = [path for path in folders if self.source.exists(path)]
                continue
            found = []
            for folder in folders:
                names = self.source.names(folder or "/") or []
                hits = self.cache.hits.of(folder, part, names)
                found += hits if last else [p for p in hits if self.source.names(p) is not None]
            folders = found
        return folders
