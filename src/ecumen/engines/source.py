"""Configuration texts out of a survey."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from functools import cached_property

from ecumen.engines.tree import Place
from ecumen.rights import Problem, Subject, Walker
from ecumen.survey import Kind, Survey
from ecumen.survey.overlay import nothing_moved

_ROOT = Subject("root", 0, frozenset({0}))


_NONE: set[str] = set()


def _bytes(name: str) -> bytes:
    return name.encode("utf-8", "surrogateescape")


class SurveySource:
    """A Source over the texts and the file table of a survey; links are followed as by root.

    before: that of a survey of which this is a change: where it says the same still, nobody needs
    to walk there again.
    """

    def __init__(self, survey: Survey, before: SurveySource | None = None) -> None:
        self.survey = survey
        self.walker = Walker(survey, _ROOT)
        # Where the texts lie that were asked for by another path.
        self._physical: dict[str, str] = {}
        # By folder: what its names were made of, and they.
        self._names: dict[str, tuple[list[str], set[str], list[str]]] = {}
        self._lines: dict[str, list[str]] = {}
        if before is not None and nothing_moved(before.survey.files, survey.files):
            self._physical = dict(before._physical)
        if before is not None and before.survey.texts.keys() == survey.texts.keys():
            self._by_folder = before._by_folder
            self._names = dict(before._names)

    @cached_property
    def _by_folder(self) -> dict[str, set[str]]:
        found: dict[str, set[str]] = {}
        for path in self.survey.texts:
            folder, _, leaf = path.rpartition("/")
            while leaf and leaf not in (names := found.setdefault(folder or "/", set())):
                names.add(leaf)
                folder, _, leaf = folder.rpartition("/")
        return found

    def read(self, path: str, by: str | None = None) -> bytes | None:
        text = self.survey.texts.get(path)
        if text is not None:
            return text
        physical = self._physical.get(path)
        if physical is None:
            walk = self.walker.walk(path)
            if walk.problem:
                return None
            physical = self._physical[path] = walk.physical
        return self.survey.texts.get(physical)

    def lines(self, file: str) -> list[str]:
        """The lines of a file; none where the survey does not hold it."""
        lines = self._lines.get(file)
        if lines is None:
            data = self.read(file) or b""
            lines = self._lines[file] = data.decode("utf-8", "surrogateescape").split("\n")
        return lines

    def line(self, place: Place) -> str:
        """A line as it stands, without blanks around it; "" where the survey does not hold it."""
        lines = self.lines(place.file)
        return lines[place.line - 1].strip() if 0 < place.line <= len(lines) else ""

    def names(self, folder: str) -> list[str] | None:
        if folder in self.survey.texts:
            return None
        walk = self.walker.walk(folder)
        physical = folder.rstrip("/") or "/"
        if walk.entry is not None and walk.problem is None:
            if walk.entry.kind is not Kind.DIR:
                return None
            physical = walk.physical
        # A survey that was made by hand may hold the texts of a folder without the folder.
        elif walk.problem is not Problem.UNSEEN:
            return None
        children = self.survey.files.children(physical)
        texts = self._by_folder.get(physical, _NONE)
        known = self._names.get(physical)
        if known is None or known[0] is not children or known[1] is not texts:
            names = sorted({*children, *texts}, key=_bytes)
            known = self._names[physical] = (children, texts, names)
        # Neither entries nor texts speak of it: whether there is such a folder is not known.
        if not known[2] and walk.problem is Problem.UNSEEN:
            return None
        return known[2]

    def exists(self, path: str) -> bool | None:
        if path in self.survey.texts:
            return True
        walk = self.walker.walk(path)
        if walk.problem is Problem.UNSEEN:
            return None
        return walk.problem is None

    def expect(self, paths: Sequence[str], by: str) -> None:
        """Nothing is gained by it here."""

    def stamps(self, paths: Sequence[str]) -> Sequence[Hashable | None]:
        """The texts themselves: surveys share those that are the same."""
        texts = list(map(self.survey.texts.get, paths))
        if None in texts:
            return [
                self.read(path) if text is None else text
                for path, text in zip(paths, texts, strict=True)
            ]
        return texts
