"""Configuration texts out of a survey."""

from __future__ import annotations

from collections.abc import Hashable
from functools import cached_property

from ecumen.rights import Problem, Subject, Walker
from ecumen.survey import Kind, Survey

_ROOT = Subject("root", 0, frozenset({0}))


class SurveySource:
    """A Source over the texts and the file table of a survey; links are followed as by root."""

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        self.walker = Walker(survey, _ROOT)

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
        walk = self.walker.walk(path)
        return None if walk.problem else self.survey.texts.get(walk.physical)

    def names(self, folder: str) -> list[str] | None:
        if folder in self.survey.texts:
            return None
        walk = self.walker.walk(folder)
        physical = folder.rstrip("/") or "/"
        if walk.entry is not None and walk.problem is None:
            if walk.entry.kind is not Kind.DIR:
                return None
            physical = walk.physical
        elif walk.problem is not Problem.UNSEEN:
            return None
        names = set(self.survey.files.children(physical)) | self._by_folder.get(physical, set())
        if not names and walk.problem is Problem.UNSEEN:
            return None
        return sorted(names, key=lambda name: name.encode("utf-8", "surrogateescape"))

    def exists(self, path: str) -> bool | None:
        if path in self.survey.texts:
            return True
        walk = self.walker.walk(path)
        if walk.problem is Problem.UNSEEN:
            return None
        return walk.problem is None

    def stamp(self, path: str) -> Hashable | None:
        """A survey never changes, so there is nothing to be read again."""
        return None
