"""Variables that are looked up by an address, by the page before, or by a share of all.

Source: nginx, ngx_http_geo_module, ngx_http_referer_module, ngx_http_split_clients_module;
MurmurHash2 by A. Appleby, in the public domain; measured (418 keys).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from ipaddress import ip_address, ip_network

from ecumen.engines.nginx.lexer import Line
from ecumen.engines.nginx.texts import Text, text_of

_PERCENT = re.compile(r"(\d{1,3})(?:\.(\d{1,2}))?%")
_NONE = ip_address("255.255.255.255")
_MASK = 0xFFFFFFFF
_M, _R = 0x5BD1E995, 24


@dataclass(frozen=True, slots=True)
class ByAddress:
    """nets: version, first address and length in bits, the longest first; each with its value."""

    source: Text
    nets: tuple[tuple[int, int, int, str], ...]
    default: str
    volatile: bool = False

    def value(self, lookup: Callable[[str], str]) -> str:
        """The value of the narrowest net. Raises LookupError where the address is not known."""
        try:
            address = ip_address(self.source.value(lookup))
        except ValueError:
            # What is no address counts as the last one (INADDR_NONE; measured).
            address = _NONE
        number, bits = int(address), address.max_prefixlen
        for version, first, length, value in self.nets:
            if version == address.version and number >> (bits - length) == first >> (bits - length):
                return value
        return self.default


@dataclass(frozen=True, slots=True)
class ByShare:
    """limits: of the hash, each with its value; what lies beyond all of them gets `rest`."""

    source: Text
    limits: tuple[tuple[int, str], ...]
    rest: str
    volatile: bool = False

    def value(self, lookup: Callable[[str], str]) -> str:
        """Raises LookupError where what it goes by is not known."""
        key = murmur(self.source.value(lookup).encode("utf-8", "surrogateescape"))
        return next((value for limit, value in self.limits if key < limit), self.rest)


@dataclass(frozen=True, slots=True)
class Referers:
    """Pages from which requests may come. given: as written."""

    given: tuple[str, ...]

    def takes(self, referer: str | None, names: Sequence[str]) -> bool:
        """names: of the site. Raises LookupError for patterns."""
        hosts = [each for each in self.given if each not in ("none", "blocked", "server_names")]
        if "server_names" in self.given:
            hosts += names
        if any(each.startswith("~") for each in hosts):
            raise LookupError("a pattern")
        if not hosts:
            # Without a name nothing is compared at all.
            return True
        if referer is None:
            return "none" in self.given
        scheme = _SCHEME.match(referer)
        # What is shorter than an address can be counts as one that was taken off on the way.
        if scheme is None or len(referer) < len("http://i.ru"):
            return "blocked" in self.given
        host = re.split("[/:]", referer[scheme.end() :], maxsplit=1)[0].lower()
        path = referer[scheme.end() + len(host) :]
        path = path[path.find("/") :] if "/" in path else ""
        return any(_is_host(each, host, path) for each in hosts)


_SCHEME = re.compile(r"https?://", re.IGNORECASE)


def _is_host(given: str, host: str, path: str) -> bool:
    name, slash, rest = given.lower().partition("/")
    if not path.startswith(slash + given.partition("/")[2] if rest else slash):
        return False
    if name.startswith(("*.", ".")):
        ending = name.lstrip("*")
        return host.endswith(ending) or (name.startswith(".") and host == ending[1:])
    if name.endswith(".*"):
        return host.startswith(name[:-1])
    return bool(name) and host == name


def by_address(line: Line) -> ByAddress | None:
    """None for what is not evaluated: ranges, addresses that a proxy names, what is taken out."""
    *source, _ = line.args or ("",)
    nets: list[tuple[int, int, int, str]] = []
    default = ""
    for entry in line.children or ():
        if len(entry.args) != 1 or entry.name in ("proxy", "delete", "include"):
            return None
        if entry.name == "default":
            default = entry.args[0]
            continue
        try:
            net = ip_network(entry.name, strict=False)
        except ValueError:
            return None
        nets.append((net.version, int(net.network_address), net.prefixlen, entry.args[0]))
    # Of two that are alike the later one stands.
    nets.reverse()
    nets.sort(key=lambda net: -net[2])
    return ByAddress(text_of(source[0] if source else "$remote_addr"), tuple(nets), default)


def by_share(line: Line) -> ByShare | None:
    """None for what the engine would not take."""
    sum_so_far, rest = 0, ""
    limits: list[tuple[int, str]] = []
    for entry in line.children or ():
        value = _plain(entry.args)
        share = _PERCENT.fullmatch(entry.name)
        if value is None:
            return None
        if entry.name == "*":
            rest = value
        elif share is None:
            return None
        else:
            sum_so_far += int(share[1]) * 100 + int((share[2] or "").ljust(2, "0"))
            limits.append((sum_so_far * _MASK // 10_000, value))
    return ByShare(text_of(line.args[0] if line.args else ""), tuple(limits), rest)


def _plain(given: Sequence[str]) -> str | None:
    """Whether variables may stand in a value depends on the version."""
    return given[0] if len(given) == 1 and "$" not in given[0] else None


def murmur(data: bytes) -> int:
    """MurmurHash2, 32 bits, seed 0, little endian."""
    length = len(data)
    hashed = length
    for at in range(0, length - length % 4, 4):
        part = int.from_bytes(data[at : at + 4], "little") * _M & _MASK
        part = (part ^ part >> _R) * _M & _MASK
        hashed = (hashed * _M & _MASK) ^ part
    if tail := data[length - length % 4 :]:
        hashed = (hashed ^ int.from_bytes(tail, "little")) * _M & _MASK
    hashed = (hashed ^ hashed >> 13) * _M & _MASK
    return hashed ^ hashed >> 15
