"""A packet as rules see it, and what is known of it. Source: nft(8), "Expressions"."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass

# Of a client's port nothing is known but that it is none of the servers' (RFC 6335).
ANY_HIGH = range(1024, 65536)


@dataclass(slots=True)
class Packet:
    """family: `ip` or `ip6`. saddr: None for somebody outside, nobody in particular. iif, oif: the
    network devices, None where that is not known, but not the loopback one. sport, dport: None for
    any port of a client's. state: as connection tracking has it. asked_port, asked_to: before any
    translation. local: addresses that are the server's own.
    """

    family: str
    saddr: str | None
    daddr: str | None
    sport: int | None
    dport: int | None
    iif: str | None
    oif: str | None
    state: str
    local: frozenset[str]
    asked_port: int
    asked_to: str
    mark: int | None = 0
    tracked: bool | None = True
    translated: bool | None = False
    reply: bool = False
    # Whether connection tracking has not seen it yet.
    early: bool = False

    def value(self, left: object) -> object:
        """What an expression of a rule stands for here. `UNKNOWN` where that is not known, `OTHER`
        where a packet of this kind has no such thing.
        """
        if not isinstance(left, dict) or len(left) != 1:
            return UNKNOWN
        (kind, what), *_ = left.items()
        if kind == "concat" and isinstance(what, list):
            return tuple(self.value(each) for each in what)
        if not isinstance(what, dict):
            return self._masked(what) if kind == "&" else UNKNOWN
        match kind:
            case "payload":
                return self._payload(str(what.get("protocol")), str(what.get("field")))
            case "meta":
                return self._meta(str(what.get("key")))
            case "ct":
                return self._ct(str(what.get("key")), str(what.get("dir", "")))
            case "fib":
                return self._fib(what)
        return UNKNOWN

    def _payload(self, protocol: str, field: str) -> object:
        if protocol in ("ip", "ip6"):
            if protocol != self.family:
                return OTHER
            address = {"saddr": self.saddr, "daddr": self.daddr}
            if field in address:
                return SOMEBODY if address[field] is None else address[field]
            return "tcp" if field in ("protocol", "nexthdr") else UNKNOWN
        if protocol in ("tcp", "th"):
            port = {"sport": self.sport, "dport": self.dport}
            if field in port:
                return ANY_HIGH if port[field] is None else port[field]
            return _FLAGS["syn"] if field == "flags" and self.state == "new" else UNKNOWN
        return OTHER if protocol in ("udp", "icmp", "icmpv6", "sctp", "arp", "ether") else UNKNOWN

    def _meta(self, key: str) -> object:
        known: dict[str, object] = {
            "l4proto": "tcp",
            "nfproto": "ipv4" if self.family == "ip" else "ipv6",
            "protocol": self.family,
            "mark": UNKNOWN if self.mark is None else self.mark,
            "pkttype": "host",
        }
        if key in ("iif", "iifname"):
            return NOT_LO if self.iif is None else self.iif
        if key in ("oif", "oifname"):
            return NOT_LO if self.oif is None else self.oif
        return known.get(key, UNKNOWN)

    def _ct(self, key: str, direction: str) -> object:
        if self.early:
            # What is not tracked yet has no state but this (measured).
            return "invalid" if key == "state" else UNKNOWN
        if key == "state":
            return UNKNOWN if self.tracked is None else self.state if self.tracked else "untracked"
        if key == "status":
            return UNKNOWN if self.translated is None else "dnat" if self.translated else "none"
        if key == "direction":
            return "reply" if self.reply else "original"
        if direction == "original" and key in ("proto-dst", "daddr", "ip daddr", "ip6 daddr"):
            return self.asked_port if key == "proto-dst" else self.asked_to
        return "tcp" if key == "protocol" else UNKNOWN

    def _fib(self, what: dict[str, object]) -> object:
        flags = what.get("flags")
        flags = flags if isinstance(flags, list) else [flags]
        if what.get("result") == "type" and flags == ["daddr"]:
            if self.daddr is None:
                return "unicast"
            own = self.daddr in self.local or ipaddress.ip_address(self.daddr).is_loopback
            return "local" if own else "unicast"
        # That answers find a way back by where the question came from is taken for granted.
        return True if what.get("result") == "oif" else UNKNOWN

    def _masked(self, what: object) -> object:
        if not isinstance(what, list) or len(what) != 2:
            return UNKNOWN
        value, mask = self.value(what[0]), _number(what[1])
        return value & mask if isinstance(value, int) and mask is not None else UNKNOWN


class _Odd:
    """What is no value of its own."""


UNKNOWN, OTHER, SOMEBODY, NOT_LO = _Odd(), _Odd(), _Odd(), _Odd()
_FLAGS = {"fin": 1, "syn": 2, "rst": 4, "psh": 8, "ack": 16, "urg": 32}


def _number(what: object) -> int | None:
    if isinstance(what, int):
        return what
    if isinstance(what, str):
        return _FLAGS.get(what)
    if isinstance(what, dict) and "|" in what:
        what = what["|"]
    if isinstance(what, list):
        parts = [_number(each) for each in what]
        return None if None in parts else sum({each for each in parts if each is not None})
    return None


def fits(value: object, item: object) -> bool | None:
    """Whether a value is one of what a rule names; None where nobody can tell."""
    if value is OTHER:
        return False
    if isinstance(item, dict):
        return _fits_several(value, item)
    if value is UNKNOWN:
        return None
    if value is SOMEBODY:
        # Nobody in particular: whoever a rule names is somebody else.
        return False
    if value is NOT_LO:
        return False if item == "lo" else None
    if isinstance(value, range):
        number = _number(item)
        return None if number is None or number in value else False
    if isinstance(value, bool) or isinstance(item, bool):
        return value is item
    if isinstance(value, int):
        number = _number(item)
        return None if number is None else value == number
    return _same(str(value), item)


def _same(value: str, item: object) -> bool | None:
    if not isinstance(item, str):
        return {"tcp": 6, "ip": 2048, "ip6": 34525, "ipv4": 2, "ipv6": 10}.get(value) == item
    if item.endswith("*"):
        return value.startswith(item[:-1])
    if ":" in value or ":" in item:
        try:
            return ipaddress.ip_address(value) == ipaddress.ip_address(item)
        except ValueError:
            return False
    return value == item


def _fits_several(value: object, item: dict[str, object]) -> bool | None:
    (kind, what), *_ = item.items() or [("", None)]
    match kind, what:
        case "elem", {"val": inner}:
            return fits(value, inner)
        case "concat", [*parts]:
            if not isinstance(value, tuple) or len(value) != len(parts):
                return None
            all_ = [fits(one, part) for one, part in zip(value, parts, strict=True)]
            return False if False in all_ else None if None in all_ else True
        case "range", [low, high]:
            return _between(value, low, high)
        case "prefix", {"addr": str(address), "len": int(bits)}:
            if value is SOMEBODY:
                return bits == 0
            if not isinstance(value, str):
                return None
            try:
                net = ipaddress.ip_network(f"{address}/{bits}", strict=False)
                return ipaddress.ip_address(value) in net
            except ValueError:
                return None
        case "|", [*parts]:
            number = _number(parts)
            return None if number is None or not isinstance(value, int) else value == number
    return None


def _between(value: object, low: object, high: object) -> bool | None:
    if isinstance(value, int) and isinstance(low, int) and isinstance(high, int):
        return low <= value <= high
    if isinstance(value, range) and isinstance(low, int) and isinstance(high, int):
        if high < value.start or low >= value.stop:
            return False
        return True if low <= value.start and high >= value.stop - 1 else None
    if value is SOMEBODY:
        return False
    try:
        here = ipaddress.ip_address(str(value))
        ends = ipaddress.ip_address(str(low)), ipaddress.ip_address(str(high))
    except ValueError:
        return None
    return here.version == ends[0].version and int(ends[0]) <= int(here) <= int(ends[1])
