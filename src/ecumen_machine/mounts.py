"""Words of the kernel's tables of mounts. Source: proc(5), getmntent(3)."""

from __future__ import annotations

import re

_OCTAL = re.compile(rb"\\([0-7]{3})")


def unescaped(field: bytes) -> bytes:
    """A path as it is: blanks and line ends stand there in octal."""
    return _OCTAL.sub(lambda code: bytes([int(code[1], 8)]), field)
