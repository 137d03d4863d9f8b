"""A packet on its way through the filter, and the answer on its way back.

Source: nft(8), "Address families" (hooks); measured with Linux 6.18: a verdict to accept ends one
base chain alone, one to drop is final; what comes from the server itself meets `output` and then
`input` with the loopback device, the answer too; translation is decided once for a connection.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from ipaddress import ip_address

from ecumen.doors.packet import Packet, fits
from ecumen.doors.ruleset import Chain, Key, Rule, Ruleset

DEEPEST = 16  # chains that lead to each other, as in the kernel
LONGEST = 100_000  # rules that one packet meets
# Statements that change nothing of a packet's way.
_QUIET = frozenset(
    "counter log comment last set meter map add update delete flow quota_ secmark synproxy_".split()
)
_FATES = ("accept", "drop", "reject")
# The place of connection tracking among the chains of a hook (NF_IP_PRI_CONNTRACK).
_TRACKING = -200
_TRANSLATES = ("prerouting", "output")


@dataclass(frozen=True, slots=True)
class Passing:
    """What becomes of a visitor's packet. verdict: passes, drop, reject, elsewhere (it is handed on
    to another machine), or unsure. rules: that decide it, or that nobody can tell of, in their
    order. port: at which it arrives. to: the other machine's address. answer: it is the answer that
    is stopped; later: all that the visitor sends once the connection stands, so that it stands only
    where somebody listens.
    """

    verdict: str
    rules: tuple[str, ...] = ()
    port: int = 0
    to: str = ""
    answer: bool = False
    later: bool = False


# By what could become of a packet in a chain, the rule that does it; None for the end of a chain,
# or its policy.
_Ends = dict[str, Rule | None]


class _Way:
    """One packet in a ruleset."""

    def __init__(self, ruleset: Ruleset, packet: Packet) -> None:
        self.ruleset, self.packet = ruleset, packet
        self.left = LONGEST
        # Where it would be sent, each with the rule; and what nobody can tell of.
        self.sent: dict[tuple[str, int | None], Rule] = {}
        self.doubtful: dict[tuple[Key, int], Rule] = {}

    def through(self, hook: str) -> _Ends:
        """All chains at a hook: every one must accept."""
        ends: _Ends = {"accept": None}
        for chain in self.ruleset.at(hook, self.packet.family):
            if chain.kind == "nat":
                # The connection's first packet decides, and one translation is all that it gets.
                if self.packet.state == "new" and hook in _TRANSLATES and not self.sent:
                    self._run(chain.key, 0)
                continue
            if chain.devices and self._device(chain) is False:
                continue
            self.packet.early = self._is_early(chain, hook)
            found = self._based(chain)
            if chain.devices and self._device(chain) is None:
                found.setdefault("accept", None)
            for fate, rule in found.items():
                if fate != "accept":
                    ends.setdefault(fate, rule)
            if "accept" not in found:
                # It ends here, whatever the others would say.
                return {fate: rule for fate, rule in found.items() if fate != "accept"}
        return ends

    def _is_early(self, chain: Chain, hook: str) -> bool:
        """What comes over the loopback device was tracked when it left."""
        if hook == "ingress":
            return True
        meets = hook == "output" or (hook == "prerouting" and self.packet.iif != "lo")
        return meets and chain.priority < _TRACKING

    def _device(self, chain: Chain) -> bool | None:
        here = self.packet.iif or self.packet.oif
        if here is None:
            return None
        return here in chain.devices

    def _based(self, chain: Chain) -> _Ends:
        ends = self._run(chain.key, 0)
        if "next" in ends:
            ends.pop("next")
            ends.setdefault(chain.policy, Rule(chain.key, 0, (f"policy {chain.policy}",)))
        return ends

    def _run(self, key: Key, depth: int) -> _Ends:
        """What could become of the packet in a chain; `next`: it comes to its end."""
        ends: _Ends = {}
        chain = self.ruleset.chains.get(key)
        for rule in chain.rules if chain is not None and depth <= DEEPEST else ():
            self.left -= 1
            if self.left < 0:
                self._doubt(rule)
                return ends | {"accept": None, "drop": None}
            if self._rule(rule, ends, depth):
                return ends
        ends.setdefault("next", None)
        return ends

    def _rule(self, rule: Rule, ends: _Ends, depth: int) -> bool:
        """Whether the packet surely goes no further in this chain."""
        sure = True
        for statement in rule.expr:
            if not isinstance(statement, dict):
                continue
            (kind, what), *_ = statement.items() or [("", None)]
            match kind:
                case "match":
                    held = self._holds(rule, what)
                    if held is False:
                        return False
                    sure = sure and held is True
                case "accept" | "drop" | "reject":
                    return self._ended(rule, kind, ends, sure)
                case "return":
                    return self._ended(rule, "next", ends, sure)
                case "jump" | "goto":
                    return self._led(rule, kind, what, ends, sure, depth)
                case "vmap":
                    verdict, known = self._mapped(rule, what)
                    if verdict is None:
                        if known:
                            continue
                        return self._ended(rule, "drop", ends, False)
                    if self._rule(replace(rule, expr=(verdict,)), ends, depth) and sure and known:
                        return True
                    if not known:
                        self._doubt(rule)
                case "mangle":
                    self._mangled(what, sure)
                case "notrack":
                    self.packet.tracked = False if sure else None
                case "redirect" | "dnat":
                    self._send(rule, what, kind)
                    return self._ended(rule, "accept", ends, sure)
                case "masquerade" | "snat":
                    return self._ended(rule, "accept", ends, sure)
                case "queue":
                    self._ended(rule, "accept", ends, False)
                    return self._ended(rule, "drop", ends, False)
                case _ if kind not in _QUIET:
                    # A limit, or what another program's rules say that is not told here.
                    sure = False
        return False

    def _ended(self, rule: Rule, fate: str, ends: _Ends, sure: bool) -> bool:
        ends.setdefault(fate, rule)
        if not sure:
            self._doubt(rule)
        return sure

    def _doubt(self, rule: Rule) -> None:
        self.doubtful.setdefault((rule.chain, rule.handle), rule)

    def _led(
        self, rule: Rule, kind: str, what: object, ends: _Ends, sure: bool, depth: int
    ) -> bool:
        name = str(what.get("target")) if isinstance(what, dict) else ""
        inner = self._run((*rule.chain[:2], name), depth + 1)
        comes_back = "next" in inner
        for fate, by in inner.items():
            if fate != "next":
                ends.setdefault(fate, by)
        if kind == "goto" and comes_back:
            ends.setdefault("next", None)
        if not sure:
            self._doubt(rule)
            return False
        return kind == "goto" or not comes_back

    # --- what a rule asks ---

    def _holds(self, rule: Rule, what: object) -> bool | None:
        if not isinstance(what, dict):
            return None
        value, op = self.packet.value(what.get("left")), what.get("op", "==")
        right = what.get("right")
        if op in ("<", ">", "<=", ">="):
            return _ordered(value, str(op), right)
        items = self.ruleset.items(rule.chain, right)
        found = None if items is None else _any(value, items)
        if op == "!=":
            return None if found is None else not found
        return found if op in ("==", "in") else None

    def _mapped(self, rule: Rule, what: object) -> tuple[dict[str, object] | None, bool]:
        """The verdict that a map has for the packet, and whether that is certain."""
        if not isinstance(what, dict):
            return None, False
        value = self.packet.value(what.get("key"))
        for pair in self.ruleset.items(rule.chain, what.get("data")) or ():
            if not (isinstance(pair, list) and len(pair) == 2 and isinstance(pair[1], dict)):
                return None, False
            held = fits(value, pair[0])
            if held is not False:
                return pair[1], held is True
        return None, True

    def _mangled(self, what: object, sure: bool) -> None:
        if isinstance(what, dict) and what.get("key") == {"meta": {"key": "mark"}}:
            value = what.get("value")
            self.packet.mark = value if sure and isinstance(value, int) else None

    # --- where it is sent ---

    def _send(self, rule: Rule, what: object, kind: str) -> None:
        given = what if isinstance(what, dict) else {}
        port, address = given.get("port"), given.get("addr")
        number = port if isinstance(port, int) else None if port is None else -1
        # With `redirect` the address stays one of the server's own.
        self.sent["" if kind == "redirect" else _literal(address), number] = rule


def _literal(address: object) -> str:
    """`?` for what is looked up in a map, or is no address."""
    try:
        return str(ip_address(address)) if isinstance(address, str) else "?"
    except ValueError:
        return "?"


def _any(value: object, items: Iterable[object]) -> bool | None:
    found: bool | None = False
    for item in items:
        held = fits(value, item)
        if held:
            return True
        found = None if held is None else found
    return found


def _ordered(value: object, op: str, right: object) -> bool | None:
    if isinstance(value, range) and isinstance(right, int):
        both = {_ordered(value.start, op, right), _ordered(value.stop - 1, op, right)}
        return both.pop() if len(both) == 1 else None
    if not isinstance(value, int) or not isinstance(right, int):
        return None
    return {"<": value < right, ">": value > right, "<=": value <= right, ">=": value >= right}[op]


def passing(
    ruleset: Ruleset, packet: Packet, *, forwards: bool = True, to_itself: bool = False
) -> Passing:
    """What becomes of a packet to a door of the server, and of the answer. It is changed on the
    way. forwards: whether the kernel hands on what is for others; to_itself: whether what comes
    from outside may be sent to the loopback addresses (route_localnet).
    """
    local = packet.iif == "lo"
    hooks = ["output", "prerouting"] if local else ["ingress", "prerouting"]
    for hook in hooks:
        if local:
            packet.iif, packet.oif = (None, "lo") if hook == "output" else ("lo", None)
        way = _Way(ruleset, packet)
        stopped = _stop(way, way.through(hook))
        if stopped is not None:
            return stopped
        # What comes from the server itself was translated where it left.
        if way.sent and not (local and hook == "prerouting"):
            if len(way.sent) > 1 or way.doubtful:
                return Passing("unsure", _names(way.sent.values()), _port(packet))
            ((to, port), rule), *_ = way.sent.items()
            if to == "?" or port == -1:
                return Passing("unsure", (str(rule),), _port(packet))
            packet.translated = True
            packet.dport = packet.dport if port is None else port
            if to and not local and not to_itself and ip_address(to).is_loopback:
                return Passing("drop", (str(rule), "route_localnet is off"), _port(packet))
            if to and to not in packet.local and not ip_address(to).is_loopback:
                packet.daddr = to
                return _handed_on(ruleset, packet, to, forwards)
            packet.daddr = to or packet.daddr
    way = _Way(ruleset, packet)
    return (
        _stop(way, way.through("input"))
        or _answered(ruleset, packet, local)
        or _gone_on(ruleset, packet, local)
        or Passing("passes", port=_port(packet))
    )


# The hooks that a packet meets, each with the devices that it comes from and goes to.
_Hooks = list[tuple[str, str | None, str | None]]


def _answered(ruleset: Ruleset, packet: Packet, local: bool) -> Passing | None:
    """What keeps the answer back."""
    back = replace(
        packet, saddr=packet.daddr, daddr=packet.saddr, sport=packet.dport, dport=None,
        state="established", reply=True,
    )  # fmt: skip
    hooks: _Hooks = [("output", None, packet.iif), ("postrouting", None, packet.iif)]
    if local:
        hooks += [("prerouting", "lo", None), ("input", "lo", None)]
    return _on_its_way(ruleset, back, hooks, _port(packet))


def _gone_on(ruleset: Ruleset, packet: Packet, local: bool) -> Passing | None:
    """What keeps back all that the visitor sends once the connection stands."""
    more = replace(packet, state="established")
    hooks: _Hooks = [("ingress", packet.iif, None), ("prerouting", packet.iif, None),
                     ("input", packet.iif, None)]  # fmt: skip
    if local:
        hooks[0] = ("output", None, "lo")
    return _on_its_way(ruleset, more, hooks, _port(packet))


def _on_its_way(ruleset: Ruleset, packet: Packet, hooks: _Hooks, port: int) -> Passing | None:
    packet.mark, packet.tracked = 0, True
    for hook, packet.iif, packet.oif in hooks:
        way = _Way(ruleset, packet)
        stopped = _stop(way, way.through(hook))
        if stopped is not None:
            return replace(stopped, port=port, answer=packet.reply, later=not packet.reply)
    return None


def _handed_on(ruleset: Ruleset, packet: Packet, to: str, forwards: bool) -> Passing:
    if not forwards:
        return Passing("drop", ("net.ipv4.ip_forward is off",), _port(packet), to)
    way = _Way(ruleset, packet)
    stopped = _stop(way, way.through("forward"))
    return stopped or Passing("elsewhere", (), _port(packet), to)


def _stop(way: _Way, ends: _Ends) -> Passing | None:
    """None where the packet goes on."""
    fates = [fate for fate in _FATES if fate in ends]
    port = _port(way.packet)
    if fates == ["accept"]:
        return None
    if "accept" not in fates:
        rule = ends.get("drop", ends.get("reject"))
        kind = "drop" if "drop" in fates else "reject"
        return Passing(kind, (str(rule) if rule is not None else "",), port)
    return Passing("unsure", _names(way.doubtful.values()), port)


def _names(rules: Iterable[Rule]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(map(str, rules)))


def _port(packet: Packet) -> int:
    return packet.dport or 0
