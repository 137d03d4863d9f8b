"""By what names the files of a log are known that were set aside when it was rotated."""

from __future__ import annotations

import re

PACKED = ".gz"
# Packed in ways that are not read.
OTHERWISE_PACKED = (".bz2", ".xz", ".zst", ".lz4", ".Z")
# What is put behind the name of a log, or in front of its ending.
_BEHIND = re.compile(r"[.-](?:\d{1,4}|\d{8}(?:[-_.]?\d{1,6})?|\d{4}-\d\d-\d\d(?:[-T_]\d+)?)\Z")
_WITHIN = re.compile(r"[.-](?:\d{1,4}|\d{8}|\d{4}-\d\d-\d\d)\Z")


def logs_of(name: str) -> list[str]:
    """What the logs may be called of which a file is an older part, by its own name; all without
    a folder.
    """
    for packed in (PACKED, *OTHERWISE_PACKED):
        name = name.removesuffix(packed)
    found = [name[:at] for at in _marks(name) if _BEHIND.match(name, at)]
    stem, dot, ending = name.rpartition(".")
    if dot and ending:
        found += [f"{stem[:at]}.{ending}" for at in _marks(stem) if _WITHIN.match(stem, at)]
    return found


def _marks(name: str) -> list[int]:
    return [at for at, character in enumerate(name) if at and character in ".-"]
