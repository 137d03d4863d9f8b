"""Configuration texts from the machine itself, each kept as it was read."""

from __future__ import annotations

import os
import stat
from collections.abc import Hashable

from ecumen.survey import Gap
from ecumen_machine.files import Collector

LARGEST_TEXT = 16 << 20


class LiveSource:
    """A Source over the real file system; notes every text and every folder that it was asked."""

    def __init__(self, collector: Collector) -> None:
        self.collector = collector
        self.texts: dict[str, bytes] = {}

    def read(self, path: str) -> bytes | None:
        physical = self.collector.path(path)
        if physical is None:
            return None
        if physical not in self.texts:
            text = self._text(physical)
            if text is None:
                return None
            self.texts[physical] = text
        return self.texts[physical]

    def _text(self, path: str) -> bytes | None:
        """A plain file of a sensible size; anything else is no configuration."""
        try:
            handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            self.collector.gap("text", path, error)
            return None
        info = os.fstat(handle)
        if not stat.S_ISREG(info.st_mode):
            os.close(handle)
            return None
        with os.fdopen(handle, "rb") as stream:
            if info.st_size > LARGEST_TEXT:
                self.collector.gaps.append(Gap("text", path, "too large for a configuration"))
                return None
            return stream.read(LARGEST_TEXT)

    def names(self, folder: str) -> list[str] | None:
        names = self.collector.folder(folder)
        if names is None:
            return None
        return sorted(names, key=lambda name: name.encode("utf-8", "surrogateescape"))

    def exists(self, path: str) -> bool | None:
        return self.collector.path(path) is not None

    def stamp(self, path: str) -> Hashable | None:
        """Each text is wanted for the survey, so none is taken as read."""
        return None
