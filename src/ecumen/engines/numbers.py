"""Numbers in texts that anybody may have written: as C's library reads them, and never without
bound, since int() raises ValueError for more than 4,300 digits.

Source: atoi(3), strtol(3) of the GNU C library on machines of 64 bits; measured beside httpd.
"""

from __future__ import annotations

import re

_WHOLE = re.compile(r"[ \t\n\v\f\r]*([+-]?)0*([0-9]*)")
_LONG = 1 << 63


def counted(digits: str) -> int:
    """A text of digits alone, at most 2^63 - 1, as strtol(3) stops there."""
    digits = digits.lstrip("0")
    return min(int(digits[:20] or "0"), _LONG - 1)


def strtol(text: str) -> int:
    """What a text begins with, in 64 bits; 0 where that is no number."""
    match = _WHOLE.match(text)
    assert match is not None, "every text begins with no digits"
    whole = min(int(match[2][:20] or "0"), _LONG if match[1] == "-" else _LONG - 1)
    return -whole if match[1] == "-" else whole


def atoi(text: str) -> int:
    """The lower 32 bits of that, with their sign."""
    return (strtol(text) + (1 << 31)) % (1 << 32) - (1 << 31)
