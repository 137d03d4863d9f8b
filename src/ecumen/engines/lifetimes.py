"""How long a visitor's browser may go on showing a copy of what it got before.

Source: RFC 9111, sections 4.2.1, 4.2.2 (the guess), 5.2.2; httpd 2.4, mod_expires; nginx,
ngx_http_headers_module ("expires").
"""

from __future__ import annotations

import re

from ecumen.engines.numbers import counted
from ecumen.engines.sites import Lifetime, Proof
from ecumen.survey import Entry

_UNITS = {
    "second": 1, "minute": 60, "hour": 3600, "day": 86400, "week": 604800, "month": 2592000,
    "year": 31536000,
}  # fmt: skip
_SHORT = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800, "M": 2592000, "y": 31536000}
MAX = 10 * 31536000  # what nginx means by `max`


def by_header(text: str, proof: Proof | None) -> Lifetime | None:
    """What a Cache-Control header says; None where it leaves the question open."""
    words = [word.strip().lower() for word in text.split(",")]
    # The strictest word holds, wherever it stands (RFC 9111, section 5.2.2).
    if "no-store" in words:
        return Lifetime("never", 0, proof)
    if "no-cache" in words:
        return Lifetime("asks", 0, proof)
    for word in words:
        match = re.fullmatch(r"max-age\s*=\s*\"?([0-9]+)\"?", word)
        if match:
            seconds = counted(match[1])
            return Lifetime("stated" if seconds else "asks", seconds, proof)
    return None


def guessed(entry: Entry, taken_at: int) -> Lifetime:
    """Without a word on it browsers take a tenth of the time since the last change."""
    # RFC 9111, section 4.2.2: no more than a tenth is what the standard proposes, and what browsers
    # do.
    age = max(0, taken_at - entry.mtime // 1_000_000_000)
    return Lifetime("guess", age // 10, None)


def spelled_out(text: str, entry: Entry, taken_at: int) -> int | None:
    """Seconds of `access plus 1 month 2 days` or `A3600`; None where that is no such text."""
    words = text.strip().strip("\"'").lower().split()
    if len(words) == 1 and re.fullmatch(r"[am][0-9]+", words[0]):
        base, seconds = words[0][0], counted(words[0][1:])
    else:
        if not words or words[0] not in ("access", "now", "modification"):
            return None
        base = "m" if words[0] == "modification" else "a"
        rest = [word for word in words[1:] if word != "plus"]
        seconds = 0
        for number, unit in zip(rest[::2], rest[1::2], strict=False):
            if not (number.isascii() and number.isdecimal()) or unit.rstrip("s") not in _UNITS:
                return None
            seconds += counted(number) * _UNITS[unit.rstrip("s")]
    if base == "m":
        seconds -= max(0, taken_at - entry.mtime // 1_000_000_000)
    return max(0, seconds)


def shortly(words: tuple[str, ...], entry: Entry, taken_at: int) -> int | None:
    """Seconds of nginx's `30d`, `max`, `epoch`, `-1` or `modified +1h`; None for `off`."""
    if not words or words[0] == "off" or any("$" in word for word in words):
        return None
    if words[0] == "max":
        return MAX
    if words[0] == "epoch" or words[0].startswith("-"):
        return 0
    modified = words[0] == "modified"
    text = words[-1].lstrip("+")
    parts = re.findall(r"([0-9]+)([smhdwMy]?)", text)
    seconds = sum(counted(number) * _SHORT.get(unit, 1) for number, unit in parts)
    if modified:
        seconds -= max(0, taken_at - entry.mtime // 1_000_000_000)
    return max(0, seconds)


def stated(seconds: int, proof: Proof | None) -> Lifetime:
    """A lifetime that the configuration gives; none at all means that browsers ask each time."""
    return Lifetime("stated" if seconds else "asks", seconds, proof)
