"""By what names the files of a log are known that were set aside when it was rotated."""

from __future__ import annotations

import re

PACKED = ".gz"
# Packed in ways that are not read.
OTHERWISE_PACKED = (".bz2", ".xz", ".zst", ".lz4", ".Z")
# What is put behind the name of a log, or in front of its ending.
_BEHIND = re.compile(r"[.-](?:\d{1,4}|\d{8}(?:[-_.]?\d{1,6})?|\d{4}-\d\d-\d\d(?:[-T_]\d+)?)\Z")
_WITHIN = re.compile(r"[.-](?:\d{1,4}|\d{8}|\d{4}-\d\d-\d\d)\Z")


def is_rotated(name: str, log: str) -> bool:
    """Whether a file beside a log is an older part of it; both are names without a folder."""
    for packed in (PACKED, *OTHERWISE_PACKED):
        name = name.removesuffix(packed)
    if name.startswith(log):
        return _BEHIND.match(name[len(log) :]) is not None
    stem, dot, ending = log.rpartition(".")
    if dot and stem and name.startswith(stem) and name.endswith(f".{ending}"):
        return _WITHIN.match(name[len(stem) : -len(ending) - 1]) is not None
    return False
