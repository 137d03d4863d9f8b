"""By what names the files of a log are known that were set aside when it was rotated."""

from __future__ import annotations

import re
from collections.abc import Iterator

from ecumen.patterns import shell_pattern

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


_ENDS = re.compile(r"[ \t]*endscript\b")
_SCRIPTS = re.compile(r"[ \t]*(?:post|pre)rotate|(?:first|last)action|preremove")
_PATH = re.compile(r'"([^"]*)"|\'([^\']*)\'|([^\s{}"\']+)')


def rotated_by(text: str) -> Iterator[str]:
    """The paths and patterns of logs that an entry rotates. Source: logrotate(8)."""
    inside = script = False
    for line in text.splitlines():
        line = line.strip()
        if script:
            script = _ENDS.match(line) is None
        elif not line or line.startswith("#"):
            continue
        elif inside:
            script = _SCRIPTS.match(line) is not None
            inside = script or not line.endswith("}")
        else:
            named, brace, _ = line.partition("{")
            if brace or line.startswith(("/", '"', "'")):
                for match in _PATH.finditer(named):
                    path = next(filter(None, match.groups()), "")
                    if path.startswith("/"):
                        yield path
            inside = bool(brace) and not line.endswith("}")


def is_rotated(pattern: str, path: str) -> bool:
    """Whether a pattern of an entry is known to mean a log. Source: glob(7)."""
    if pattern == path:
        return True
    known = shell_pattern(pattern, slashes_apart=True)
    return known is not None and known.match(path) is not None
