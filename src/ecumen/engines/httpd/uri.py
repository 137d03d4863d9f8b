"""The path of an address: what the server makes of it before anything else.

Source: RFC 3986, section 5.2.4 and 2.3; httpd 2.4, "AllowEncodedSlashes", "MergeSlashes"; measured
where these are silent.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from ecumen import codes
from ecumen.codes import Code

USUAL_LINE_LIMIT = 8190  # bytes of a request line that are let through
_UNRESERVED = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
# What stays as it is, whatever the settings.
_PLAIN = re.compile(r"/(?:[A-Za-z0-9_~-][A-Za-z0-9._~-]*/)*(?:[A-Za-z0-9_~-][A-Za-z0-9._~-]*)?")
_HEX = frozenset(b"0123456789abcdefABCDEF")
_KEPT_IN_LOCATION = frozenset(
    b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789$-_.+!*'(),:;@&=/~"
)


@dataclass(frozen=True, slots=True)
class Address:
    """path: decoded, dot segments resolved, double slashes merged. problem: why it is refused."""

    path: str
    status: int | None = None
    problem: Code | None = None


def read_path(raw: str, slashes: str = "off") -> Address:
    """raw: the path as it stands in the request, beginning with `/`, without the query.

    slashes: what becomes of escaped ones: `off` for refused, `on` for decoded, or `nodecode`.
    """
    if _PLAIN.fullmatch(raw):
        return Address(raw)
    data = raw.encode("utf-8", "surrogateescape")
    normal = _normalise(data)
    if normal is None:
        return Address(raw, 400, codes.WAY_BAD_PATH)
    decoded = bytearray()
    problem: Code | None = None
    at = 0
    while at < len(normal):
        if normal[at] != 0x25:
            decoded.append(normal[at])
            at += 1
            continue
        byte = int(normal[at + 1 : at + 3], 16)
        if byte == 0x2F and slashes == "nodecode":
            decoded += normal[at : at + 3]
            at += 3
            continue
        if byte == 0x00 or (byte == 0x2F and slashes == "off"):
            problem = codes.WAY_FORBIDDEN_ESCAPE
        decoded.append(byte)
        at += 3
    if slashes == "on":
        # Decoded slashes may have made dot segments; those above the root are passed over.
        decoded = bytearray(_without_dots(bytes(decoded), above=True) or b"/")
    path = bytes(decoded).decode("utf-8", "surrogateescape")
    return Address(path, 404 if problem else None, problem)


def _normalise(data: bytes) -> bytes | None:
    """Unreserved escapes decoded, slashes merged, dot segments resolved; None: refused (400)."""
    plain = bytearray()
    at = 0
    while at < len(data):
        if data[at] != 0x25:
            plain.append(data[at])
            at += 1
            continue
        pair = data[at + 1 : at + 3]
        if len(pair) < 2 or pair[0] not in _HEX or pair[1] not in _HEX:
            return None
        byte = int(pair, 16)
        # So that `%2e%2e` is a dot segment, too (RFC 3986, section 6.2.2.2).
        if byte in _UNRESERVED:
            plain.append(byte)
        else:
            plain += data[at : at + 3]
        at += 3
    return _without_dots(bytes(plain))


def _without_dots(path: bytes, *, above: bool = False) -> bytes | None:
    """above: what leads above the root is passed over; else it is None that is returned."""
    kept: list[bytes] = []
    parts = path.split(b"/")[1:]
    for number, part in enumerate(parts):
        last = number == len(parts) - 1
        if part == b"..":
            if not kept and not above:
                return None
            del kept[-1:]
        # An empty segment is a doubled slash, which is merged ("MergeSlashes").
        if part in (b".", b"..", b""):
            if last:
                kept.append(b"")
            continue
        kept.append(part)
    return b"/" + b"/".join(kept)


def escaped(path: str) -> str:
    """A path as it stands in a Location header."""
    data = path.encode("utf-8", "surrogateescape")
    return "".join(chr(b) if b in _KEPT_IN_LOCATION else f"%{b:02x}" for b in data)
