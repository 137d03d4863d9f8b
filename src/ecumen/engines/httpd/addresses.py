"""Ranges of addresses as the access rules of the server write them.

Source: APR 1.7, apr_ipsubnet_create() and what it calls; the server's own check, measured.
"""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass

# strtol(3): spaces before it, a sign.
_LENGTH = re.compile(r"[ \t\n\v\f\r]*\+?([0-9]+)\Z")
_FULL = {4: 0xFFFFFFFF, 6: (1 << 128) - 1}


@dataclass(frozen=True, slots=True)
class Network:
    """Addresses of one version, 4 or 6, that are alike under a mask, which may have holes."""

    version: int
    base: int
    mask: int

    @property
    def everywhere(self) -> bool:
        return self.mask == 0

    def __contains__(self, address: str) -> bool:
        """One of IPv4 within IPv6 is the former to the server."""
        read = ipaddress.ip_address(address)
        read = getattr(read, "ipv4_mapped", None) or read
        return read.version == self.version and int(read) & self.mask == self.base


def looks_like_one(text: str) -> bool:
    """Whether a word is taken for an address, not for a name."""
    return ":" in text or not text.strip(".0123456789")


def network(text: str) -> Network | None:
    """An address, a range with a prefix length or a mask, or leading parts of an address; None
    for what the server would not take as one.
    """
    host, slash, told = text.partition("/")
    if ":" in host:
        version, base = 6, _sixteen(host)
    else:
        version, base = 4, _quad(host)
    if base is None:
        return None if slash or version == 6 else _leading(host)
    mask = _mask(version, told) if slash else _FULL[version]
    return None if mask is None else Network(version, base & mask, mask)


def _mask(version: int, told: str) -> int | None:
    bits = _FULL[version].bit_length()
    length = _LENGTH.match(told)
    number = None if length is None else _number(length[1], bits)
    if number:
        return _FULL[version] >> (bits - number) << (bits - number)
    return _quad(told) if version == 4 else None


def _number(digits: str, most: int) -> int | None:
    """Digits are the owner's, and any number of them."""
    plain = digits.lstrip("0")
    if not digits or digits.strip("0123456789") or len(plain) > len(str(most)):
        return None
    number = int(plain or "0")
    return number if number <= most else None


def _octets(parts: list[str]) -> list[int] | None:
    numbers = [_number(part, 255) for part in parts]
    known = [number for number in numbers if number is not None]
    return known if len(known) == len(parts) else None


def _quad(text: str) -> int | None:
    octets = _octets(text.split("."))
    return int.from_bytes(octets, "big") if octets is not None and len(octets) == 4 else None


def _sixteen(text: str) -> int | None:
    """None for one of IPv4 as well: such a rule is to be written as one."""
    if "%" in text:
        return None
    try:
        number = int(ipaddress.IPv6Address(text))
    except ValueError:
        return None
    return None if number >> 32 == 0xFFFF else number


def _leading(text: str) -> Network | None:
    """parse_network(): up to four parts, with or without a point at the end."""
    if len(text) >= len("255.255.255.255\0"):
        return None
    octets = _octets(text.removesuffix(".").split("."))
    if octets is None or len(octets) > 4:
        return None
    base = int.from_bytes([*octets, 0, 0, 0, 0][:4], "big")
    mask = int.from_bytes([*[255] * len(octets), 0, 0, 0, 0][:4], "big")
    return Network(4, base, mask)
