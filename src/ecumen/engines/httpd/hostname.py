"""The Host header: what the server accepts, and the name and port that it takes from it.

Source: httpd 2.4, "HttpProtocolOptions Strict" (the default); RFC 9110, section 7.2; measured.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

_USUAL = re.compile(r"((?:[a-z0-9_-]+\.)+[a-z][a-z0-9_-]*)(?::([1-9][0-9]{0,3}))?")
_LETTERS = re.compile(r"[A-Za-z0-9._-]+\Z")


@dataclass(frozen=True, slots=True)
class HostHeader:
    """name: lower case, without port and trailing dot. port: None where none is given."""

    name: str
    port: int | None
    valid: bool
    as_sent: str


@lru_cache(maxsize=32768)
def read_host(header: str | None) -> HostHeader:
    """header: the value as sent; None where the header is missing."""
    if header is None:
        return HostHeader("", None, False, "")
    # As nearly all are; what follows says the same of them.
    usual = _USUAL.fullmatch(header)
    if usual is not None:
        name, port = usual.groups()
        return HostHeader(name, None if port is None else int(port), True, header)
    return _read(header)


def _read(header: str) -> HostHeader:
    value = header.strip(" \t")
    name, port, well_formed = _split(value)
    valid = well_formed and _acceptable(name)
    name = name.lower().removesuffix(".") if not name.startswith("[") else name.lower()
    return HostHeader(name, port, valid, value)


def _split(value: str) -> tuple[str, int | None, bool]:
    if value.startswith("["):
        literal, bracket, rest = value.partition("]")
        name, behind = literal + bracket, rest
        if behind and not behind.startswith(":"):
            return name, None, False
        port = behind[1:] if behind else None
    else:
        name, colon, text = value.rpartition(":")
        if not colon:
            return value, None, True
        port = text
    if port is None:
        return name, None, True
    if not (port.isascii() and port.isdecimal()) or not 0 < int(port[:9]) < 65536 or len(port) > 9:
        return name, None, False
    return name, int(port), True


def _acceptable(name: str) -> bool:
    if name.startswith("["):
        return re.fullmatch(r"\[[0-9A-Fa-f:.]+\]", name) is not None
    if not _LETTERS.match(name) or ".." in name:
        return False
    if not re.search(r"[A-Za-z_-]", name):
        return _dotted_number(name)
    bare = name.removesuffix(".")
    last = bare.rpartition(".")[2]
    # The last label must begin with a letter where there is more than one.
    return "." not in bare or last == "" or last[0].isalpha()


def _dotted_number(name: str) -> bool:
    """Four numbers of any size; a number that begins with zero must be zero."""
    parts = name.removesuffix(".").split(".")
    return len(parts) == 4 and all(
        part.isdecimal() and (part == "0" or not part.startswith("0")) for part in parts
    )
