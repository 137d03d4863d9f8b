"""The path of an address: what the server makes of it, and how addresses are escaped again.

Source: RFC 3986, section 5.2.4; nginx, core ("merge_slashes"); measured where these are silent.
"""

from __future__ import annotations

from dataclasses import dataclass

_HEX = frozenset("0123456789abcdefABCDEF")
# What is escaped in an address, beside control characters and bytes outside ASCII.
_IN_PATH = frozenset(b' "#%<>?\\^`{|}')
_IN_QUERY = _IN_PATH | frozenset(b"&+;")


@dataclass(frozen=True, slots=True)
class Address:
    """path: decoded, dot segments resolved. coded: it held escapes or a plus. valid: else 400."""

    path: str
    coded: bool = False
    valid: bool = True


def read_path(raw: str, merge_slashes: bool = True) -> Address:
    """raw: the path as it stands in the request, beginning with `/`, without the query."""
    data = raw.encode("utf-8", "surrogateescape")
    if any(byte <= 0x20 or byte == 0x7F for byte in data):
        return Address(raw, valid=False)
    if b"%" not in data and b"//" not in data and b"/." not in data and b"+" not in data:
        return Address(raw.partition("#")[0])
    # (byte, whether it stands for itself whatever it is)
    chars: list[tuple[int, bool]] = []
    coded = b"+" in data
    at = 0
    while at < len(data):
        byte = data[at]
        if byte == 0x23:
            break
        if byte != 0x25:
            chars.append((byte, False))
            at += 1
            continue
        pair = data[at + 1 : at + 3].decode("latin-1")
        if len(pair) < 2 or pair[0] not in _HEX or pair[1] not in _HEX:
            return Address(raw, valid=False)
        byte = int(pair, 16)
        if byte == 0:
            return Address(raw, valid=False)
        coded = True
        chars.append((byte, byte in b"%#?"))
        at += 3
    path = _resolved(bytes(byte for byte, _ in chars), merge_slashes)
    if path is None:
        return Address(raw, valid=False)
    return Address(path.decode("utf-8", "surrogateescape"), coded)


def _resolved(path: bytes, merge: bool) -> bytes | None:
    """Dot segments resolved, slashes merged; None where it leads above the root."""
    out: list[bytes] = []
    parts = path.split(b"/")[1:]
    for number, part in enumerate(parts):
        last = number == len(parts) - 1
        if part == b"..":
            if not out:
                return None
            out.pop()
            if last:
                out.append(b"")
        elif part == b".":
            if last:
                out.append(b"")
        elif part == b"" and merge and not last:
            continue
        else:
            out.append(part)
    return b"/" + b"/".join(out)


def escaped_path(text: str) -> str:
    """A path as it stands in a Location header."""
    return _escaped(text, _IN_PATH)


def escaped_query(text: str) -> str:
    """A piece that is put into a query, or into an address that the visitor is sent to."""
    return _escaped(text, _IN_QUERY)


def _escaped(text: str, wanted: frozenset[int]) -> str:
    data = text.encode("utf-8", "surrogateescape")
    return "".join(chr(b) if 0x20 < b < 0x7F and b not in wanted else f"%{b:02X}" for b in data)


def unescaped_redirect(text: str) -> str:
    """What the server undoes in an address that a rule sends the visitor to, up to its query."""
    head, mark, query = text.partition("?")
    out = bytearray()
    data = head.encode("utf-8", "surrogateescape")
    at = 0
    while at < len(data):
        pair = data[at + 1 : at + 3].decode("latin-1")
        if data[at] != 0x25 or len(pair) < 2 or pair[0] not in _HEX or pair[1] not in _HEX:
            if data[at] != 0x25:
                out.append(data[at])
            at += 1
            continue
        byte = int(pair, 16)
        if 0x25 < byte < 0x7F:
            out.append(byte)
        else:
            out += data[at : at + 3]
        at += 3
    return out.decode("utf-8", "surrogateescape") + mark + query
