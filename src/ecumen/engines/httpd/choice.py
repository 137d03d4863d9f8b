"""Which virtual host answers, and why that one.

First the address and port of the connection, then the name in the Host header among the blocks of
that address. Source: httpd 2.4, "An In-Depth Discussion of Virtual Host Matching".
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache

from ecumen import codes
from ecumen.caches import Bounded
from ecumen.codes import Code, Facts
from ecumen.engines.httpd.hostname import HostHeader
from ecumen.engines.httpd.server import Host, Server
from ecumen.engines.sites import Claim, Doubt, Phase, Proof, Rank
from ecumen.patterns import shell_pattern

# Reverse names of addresses, for blocks that have no name of their own.
ReverseNames = Callable[[str], tuple[str, ...]]
MOST_KEPT = 20_000
Resolve = Callable[[str], tuple[str, ...] | None]


@dataclass(frozen=True, slots=True)
class Chosen:
    """host: who answers. ground: a code of the gate `site`. claims: the contest, as weighed."""

    host: Host
    ground: Code
    claims: tuple[Claim, ...]
    doubts: tuple[Doubt, ...] = ()
    facts: Facts = field(default_factory=dict)


# A pattern of a name: the position of its block, its text, the block.
_Wild = tuple[int, str, Host]
_ENDING = re.compile(r"\*\.[A-Za-z0-9._-]*")


def _position(pattern: _Wild) -> int:
    return pattern[0]


@dataclass(slots=True)
class _Chain:
    """The blocks of one address and port, in file order."""

    hosts: list[Host] = field(default_factory=list)
    exact: dict[str, Host] = field(default_factory=dict)
    wild: list[_Wild] = field(default_factory=list)
    order: dict[int, int] = field(default_factory=dict)
    named: dict[str, list[int]] = field(default_factory=dict)
    # Made when first asked for: the patterns that are a star and an ending, by that; the others;
    # and what the first blocks claim.
    _parted: tuple[dict[str, list[_Wild]], list[_Wild]] | None = None
    _first: list[Claim] | None = None

    def add(self, host: Host, implied: tuple[str, ...]) -> None:
        if id(host) in self.order:
            return
        position = len(self.hosts)
        self.order[id(host)] = position
        self.hosts.append(host)
        for name in _names_of(host, implied):
            self.exact.setdefault(name, host)
            self.named.setdefault(name, []).append(position)
        for pattern in host.wild_names:
            self.wild.append((position, pattern, host))

    def exchanged(self, pairs: Sequence[tuple[Host, Host, tuple[str, ...]]]) -> _Chain:
        """The same with other blocks in the places of some. pairs: the old one, the new one, and
        what names are implied for both.
        """
        chain = _Chain(list(self.hosts), dict(self.exact), list(self.wild), dict(self.order))
        chain.named = dict(self.named)
        for old, new, implied in pairs:
            position = chain.order.pop(id(old))
            chain.order[id(new)] = position
            chain.hosts[position] = new
            was, now = _names_of(old, implied), _names_of(new, implied)
            for name in was - now:
                chain.named[name] = [each for each in chain.named[name] if each != position]
            for name in now - was:
                chain.named[name] = sorted([*chain.named.get(name, ()), position])
            for name in was | now:
                places = chain.named[name]
                if places:
                    chain.exact[name] = chain.hosts[places[0]]
                else:
                    del chain.named[name], chain.exact[name]
            wild = [each for each in chain.wild if each[0] != position]
            wild += [(position, pattern, new) for pattern in new.wild_names]
            chain.wild = sorted(wild, key=lambda each: each[0])
        return chain

    def patterns(self, name: str) -> list[_Wild]:
        """The patterns that may fit a name, in file order: of many sites, few do."""
        parted = self._parted
        if parted is None:
            parted = {}, []
            for each in self.wild:
                if _ENDING.fullmatch(each[1]):
                    parted[0].setdefault(each[1][1:].lower(), []).append(each)
                else:
                    parted[1].append(each)
            # Other threads see it when it is whole.
            self._parted = parted
        by_ending, odd = parted
        found = list(odd)
        if by_ending:
            at = name.find(".")
            while at >= 0:
                found += by_ending.get(name[at:].lower(), ())
                at = name.find(".", at + 1)
        return sorted(found, key=_position)

    def first_claims(self) -> list[Claim]:
        if self._first is None:
            self._first = [self.claim(at) for at in range(min(SHOWN_CLAIMS, len(self.hosts)))]
        return list(self._first)

    def claim(self, position: int) -> Claim:
        """What the block at a position claims; whether that matters is not said yet."""
        host = self.hosts[position]
        binding = str(host.bindings[0]) if host.bindings else "*"
        return Claim(host.label, host.place, binding, host.all_names, "other-name", None)

    def rivals(self, name: str) -> dict[int, str]:
        """The blocks that claim a name, by position, with the claim that fits."""
        found = dict.fromkeys(self.named.get(name, ()), name)
        for position, pattern, _ in self.patterns(name):
            regex = shell_pattern(pattern, slashes_apart=False, ignore_case=True)
            if regex is not None and regex.match(name):
                found.setdefault(position, pattern)
        return found


def _names_of(host: Host, implied: tuple[str, ...]) -> set[str]:
    """The names that a block claims, but for patterns; in lower case."""
    names = (host.name,) if host.name else implied
    return {name.lower() for name in (*names, *host.names)}


class Chooser:
    """The blocks by address and port; built once for a server. before: that of the same server as
    it was configured, where names lead where they led.
    """

    def __init__(
        self,
        server: Server,
        resolve: Resolve,
        reverse: ReverseNames,
        machine: str = "",
        before: Chooser | None = None,
    ) -> None:
        self.server = server
        self.reverse = reverse
        self.machine = machine.lower()
        self.specific: dict[tuple[str, int | None], _Chain] = {}
        self.wildcard: list[tuple[int | None, _Chain]] = []
        self.unresolved: list[Doubt] = []
        self._chosen: dict[tuple[str, int, HostHeader, bool], Chosen] = Bounded(MOST_KEPT)
        if before is not None and self._takes_over(before):
            return
        for host in server.hosts:
            implied = self.implied(host)
            for binding in host.bindings:
                if binding.address == "*":
                    self._wildcard(binding.port).add(host, implied)
                    continue
                for address in self._addresses(binding.address, host, resolve):
                    chain = self.specific.setdefault((address, binding.port), _Chain())
                    chain.add(host, implied)
        # A wildcard with this port is asked before one for any port.
        self.wildcard.sort(key=lambda item: item[0] is None)

    def _takes_over(self, before: Chooser) -> bool:
        """Whether only some blocks differ, each bound as the one that stood in its place."""
        hosts, were = self.server.hosts, before.server.hosts
        if len(hosts) != len(were) or before.server.main.name != self.server.main.name:
            return False
        pairs = [
            (old, new, self.implied(new))
            for old, new in zip(were, hosts, strict=True)
            if old is not new
        ]
        if before.unresolved or any(
            [(b.address, b.port) for b in old.bindings]
            != [(b.address, b.port) for b in new.bindings]
            for old, new, _ in pairs
        ):
            return False
        for key, chain in before.specific.items():
            mine = [pair for pair in pairs if id(pair[0]) in chain.order]
            self.specific[key] = chain.exchanged(mine) if mine else chain
        for port, chain in before.wildcard:
            mine = [pair for pair in pairs if id(pair[0]) in chain.order]
            self.wildcard.append((port, chain.exchanged(mine) if mine else chain))
        return True

    def implied(self, host: Host) -> tuple[str, ...]:
        """The name of a block that is given none: the main server's where the block holds for
        every address, else the reverse name of its first one."""
        if any(binding.address == "*" for binding in host.bindings):
            return (self.server.main.name,) if self.server.main.name else ()
        return self.reverse(host.bindings[0].address) if host.bindings else ()

    def _wildcard(self, port: int | None) -> _Chain:
        for known, chain in self.wildcard:
            if known == port:
                return chain
        chain = _Chain()
        self.wildcard.append((port, chain))
        return chain

    def _addresses(self, text: str, host: Host, resolve: Resolve) -> tuple[str, ...]:
        literal = _literal(text)
        if literal is not None:
            return (literal,)
        addresses = resolve(text)
        if addresses is None:
            proof = Proof(place=host.place, text=f"<VirtualHost {text}>")
            self.unresolved.append(
                Doubt(codes.SITE_BINDING_UNRESOLVED, Rank(Phase.ENTRY), {"name": text}, (proof,))
            )
            return ()
        return addresses

    def chain(self, address: str, port: int) -> _Chain | None:
        """The blocks that may answer on this address and port, or None for the main server."""
        for key in ((address, port), (address, None)):
            if key in self.specific:
                return self.specific[key]
        for known, chain in self.wildcard:
            if known is None or known == port:
                return chain
        return None

    def choose(self, address: str, port: int, header: HostHeader, has_host: bool) -> Chosen:
        """Who answers a request that came to this address and port with this Host header."""
        key = (address, port, header, has_host)
        known = self._chosen.get(key)
        if known is None:
            known = self._chosen[key] = self._choose(address, port, header, has_host)
        return known

    def answering(self, address: str, port: int, header: HostHeader) -> Host:
        """Who answers a name, without the contest, and without what is in doubt."""
        chain = self.chain(address, port)
        if chain is None:
            return self.server.main
        host = _by_name(chain, header.name)[0] if header.valid else None
        return host or chain.hosts[0]

    def winner(self, address: str, port: int, header: HostHeader) -> tuple[Host, Host | None]:
        """The first block of the address, and who answers, without the contest; None in doubt."""
        chain = self.chain(address, port)
        first = self.server.main if chain is None else chain.hosts[0]
        if self.unresolved or not header.valid:
            return first, None
        if chain is None:
            return first, first
        host, _, doubts = _by_name(chain, header.name)
        if doubts or (host is None and self._nameless(chain, first, header.name)):
            return first, None
        return first, host or first

    def _choose(self, address: str, port: int, header: HostHeader, has_host: bool) -> Chosen:
        chain = self.chain(address, port)
        doubts = tuple(self.unresolved)
        if chain is None:
            return Chosen(self.server.main, codes.SITE_MAIN, (), doubts, {"port": port})
        first = chain.hosts[0]
        if not has_host or not header.valid:
            return Chosen(first, codes.SITE_FIRST, self._claims(chain, first, None, None), doubts)
        winner, matched, more = _by_name(chain, header.name)
        if winner is None:
            ground = codes.SITE_ONLY if len(chain.hosts) == 1 else codes.SITE_DEFAULT
            claims = self._claims(chain, first, None, header.name)
            doubts += self._nameless(chain, first, header.name)
            facts: Facts = {"host": header.name, "count": len(chain.hosts)}
            return Chosen(first, ground, claims, doubts + more, facts)
        claims = self._claims(chain, winner, matched, header.name)
        facts = {"host": header.name, "matched": matched or ""}
        return Chosen(winner, codes.SITE_NAMED, claims, doubts + more, facts)

    def _nameless(self, chain: _Chain, first: Host, asked: str) -> tuple[Doubt, ...]:
        """A block without a name takes that of its address, or of a main server without one that
        of the machine: which these are only a resolver knows."""
        for host in chain.hosts:
            if host is first or host.name:
                continue
            for binding in host.bindings:
                if self._named_by_resolver(binding.address, asked):
                    proof = Proof(place=host.place, text=f"<VirtualHost {binding}>")
                    facts = {"address": binding.address}
                    return (Doubt(codes.SITE_NAMELESS, Rank(Phase.ENTRY), facts, (proof,)),)
        return ()

    def _named_by_resolver(self, address: str, asked: str) -> bool:
        if address != "*":
            return _public(address) and not self.reverse(address)
        if self.server.main.name is not None:
            return False
        own = asked == self.machine or asked.startswith(f"{self.machine}.")
        return own or asked[:1].isdecimal() or asked.startswith("[")

    def _claims(
        self, chain: _Chain, winner: Host, matched: str | None, asked: str | None
    ) -> tuple[Claim, ...]:
        """The contest: the first blocks of the address, and all that claim what was asked for."""
        won_at = chain.order[id(winner)]
        rivals = chain.rivals(asked) if asked else {}
        apart = sorted({won_at, *list(rivals)[:SHOWN_CLAIMS]})
        claims = chain.first_claims()
        for position in apart:
            if position == won_at:
                outcome, hit = ("won", matched) if matched else ("first", None)
            else:
                outcome = "matched-later" if position > won_at else "weaker"
                hit = rivals[position]
            claim = replace(chain.claim(position), outcome=outcome, matched=hit)
            if position < SHOWN_CLAIMS:
                claims[position] = claim
            else:
                claims.append(claim)
        return tuple(claims)


# However many sites share an address: a contest that nobody can read explains nothing.
SHOWN_CLAIMS = 24


@lru_cache(maxsize=4096)
def _literal(text: str) -> str | None:
    """An address in its usual form; None for a name."""
    try:
        return str(ipaddress.ip_address(text))
    except ValueError:
        return None


def _public(address: str) -> bool:
    try:
        return ipaddress.ip_address(address).is_global
    except ValueError:
        return False


def _by_name(chain: _Chain, name: str) -> tuple[Host | None, str | None, tuple[Doubt, ...]]:
    """The first block in file order with this name, alternative name or pattern."""
    exact = chain.exact.get(name)
    limit = chain.order[id(exact)] if exact is not None else len(chain.hosts)
    doubts: list[Doubt] = []
    for position, pattern, host in chain.patterns(name):
        if position >= limit:
            break
        regex = shell_pattern(pattern, slashes_apart=False, ignore_case=True)
        if regex is None:
            proof = Proof(place=host.place, text=pattern)
            doubts.append(
                Doubt(codes.SITE_PATTERN_UNKNOWN, Rank(Phase.ENTRY), {"pattern": pattern}, (proof,))
            )
        elif regex.match(name):
            return host, pattern, tuple(doubts)
    if exact is None:
        return None, None, tuple(doubts)
    matched = exact.name if exact.name and exact.name.lower() == name else name
    return exact, matched, tuple(doubts)
