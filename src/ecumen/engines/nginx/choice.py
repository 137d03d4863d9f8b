"""Which server answers, and why that one: first by address and port, then by the Host header.

Source: nginx, "How nginx processes a request", "Server names"; measured.
"""

from __future__ import annotations

import copy
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from ecumen import codes
from ecumen.codes import Code, Facts
from ecumen.engines.nginx.server import Listen, Server, Whole, binding
from ecumen.engines.sites import Claim, Doubt, Phase, Proof, Rank
from ecumen.patterns import Hit, TooCostly

SHOWN_CLAIMS = 24


@dataclass(frozen=True, slots=True)
class Chosen:
    """server: who answers. ground: a code of the gate `site`. sealed: the door speaks TLS."""

    server: Server
    ground: Code
    claims: tuple[Claim, ...]
    facts: Facts = field(default_factory=dict)
    doubts: tuple[Doubt, ...] = ()
    hit: Hit | None = None
    sealed: bool = False


@dataclass(slots=True)
class Doorway:
    """The servers on one address and port, in file order."""

    servers: list[tuple[Server, Listen]] = field(default_factory=list)
    default: Server | None = None
    sealed: bool = False
    exact: dict[str, Server] = field(default_factory=dict)
    head: dict[str, Server] = field(default_factory=dict)
    tail: dict[str, Server] = field(default_factory=dict)
    claims: list[Claim] = field(default_factory=list)
    position: dict[int, int] = field(default_factory=dict)
    # What more than one server claims, or did.
    again: set[str] = field(default_factory=set)
    # Of the first servers, which are shown: the names that they claim, and the wildcards.
    shown: dict[str, list[int]] = field(default_factory=dict)
    wild: list[tuple[int, str]] = field(default_factory=list)

    def add(self, server: Server, listen: Listen) -> None:
        self.sealed = self.sealed or listen.sealed
        if id(server) in self.position:
            return
        self.position[id(server)] = len(self.servers)
        self.servers.append((server, listen))
        self.claims.append(_claim(server, listen))
        if listen.default and self.default is None:
            self.default = server
        if len(self.servers) <= SHOWN_CLAIMS:
            self._show(len(self.servers) - 1, server)
        for table, name in self._keys(server):
            if table.setdefault(name, server) is not server:
                self.again.add(name)

    def _keys(self, server: Server) -> Iterator[tuple[dict[str, Server], str]]:
        """Where the names that a server claims are looked up."""
        for name in server.names:
            if name.startswith("*."):
                yield self.head, name[1:]
            elif name.startswith("."):
                yield self.head, name
                yield self.exact, name[1:]
            elif name.endswith(".*"):
                yield self.tail, name[:-1]
            else:
                yield self.exact, name

    def exchanged(self, pairs: Sequence[tuple[Server, Server]]) -> Doorway:
        """The same with other servers in the places of some, each of which listens alike."""
        door = copy.copy(self)
        door.servers, door.claims = list(self.servers), list(self.claims)
        door.position = dict(self.position)
        door.exact, door.head, door.tail = dict(self.exact), dict(self.head), dict(self.tail)
        for old, new in pairs:
            position = door.position.pop(id(old))
            door.position[id(new)] = position
            listen = next(x for x in new.listens if _alike(x, self.servers[position][1]))
            door.servers[position] = (new, listen)
            door.claims[position] = _claim(new, listen)
            if door.default is old:
                door.default = new
        door._name_again(pairs)
        door.shown, door.wild = {}, []
        for position, (server, _) in enumerate(door.servers[:SHOWN_CLAIMS]):
            door._show(position, server)
        return door

    def _name_again(self, pairs: Sequence[tuple[Server, Server]]) -> None:
        """Who claims the names first that some servers had, or that those in their places have."""
        left: set[tuple[int, str]] = set()
        for old, new in pairs:
            claimed = {(id(table), name) for table, name in self._keys(new)}
            for table, name in self._keys(old):
                if table.get(name) is not old:
                    continue
                if (id(table), name) in claimed:
                    table[name] = new
                else:
                    del table[name]
                    left.add((id(table), name))
        left = {(table, name) for table, name in left if name in self.again}
        written = {text for _, name in left for text in (name, f".{name}", f"*{name}", f"{name}*")}
        for server, _ in self.servers if left else ():
            for table, name in () if written.isdisjoint(server.names) else self._keys(server):
                if (id(table), name) in left:
                    table.setdefault(name, server)
        for _, new in pairs:
            for table, name in self._keys(new):
                holder = table.get(name)
                if holder is not None and holder is not new:
                    self.again = self.again | {name}
                if holder is None or self.position[id(new)] < self.position[id(holder)]:
                    table[name] = new

    def _show(self, position: int, server: Server) -> None:
        for name in server.names:
            self.shown.setdefault(name, []).append(position)
            if "*" in name or name.startswith("."):
                self.wild.append((position, name))

    @property
    def standing(self) -> Server:
        """Who answers when nobody is named."""
        return self.default or self.servers[0][0]

    def by_name(self, name: str) -> tuple[Server | None, str, Hit | None, Server | None]:
        """(server, what matched, a pattern's match, a server whose pattern is not worked out)."""
        server = self.exact.get(name)
        if server is not None:
            return server, name, None, None
        labels = name.split(".")
        for number in range(1, len(labels)):
            ending = "." + ".".join(labels[number:])
            if self.head and ending in self.head:
                return self.head[ending], f"*{ending}", None, None
        for number in range(len(labels) - 1, 0, -1):
            start = ".".join(labels[:number]) + "."
            if self.tail and start in self.tail:
                return self.tail[start], f"{start}*", None, None
        return self._by_pattern(name)

    def _by_pattern(self, name: str) -> tuple[Server | None, str, Hit | None, Server | None]:
        for server, _ in self.servers:
            for written, regex in server.patterns:
                try:
                    if regex is None:
                        raise TooCostly(written)
                    hit = regex.search(name)
                except TooCostly:
                    return None, written, None, server
                if hit is not None:
                    return server, written, hit, None
        return None, "", None, None


def _claim(server: Server, listen: Listen) -> Claim:
    names = (*server.names, *(name for name, _ in server.patterns))
    return Claim(server.label, server.place, str(binding(listen)), names, "other-name")


def _alike(one: Listen, other: Listen) -> bool:
    """Whether two lines listen alike, wherever they stand."""
    return replace(one, line=None) == replace(other, line=None)


class Chooser:
    """The servers by address and port; built once. before: that of the same nginx as it was
    configured.
    """

    def __init__(self, whole: Whole, before: Chooser | None = None) -> None:
        self.whole = whole
        self.doors: dict[tuple[str, int | None], Doorway] = {}
        if before is not None and self._takes_over(before):
            return
        for server in whole.servers:
            for listen in server.listens:
                door = self.doors.setdefault((listen.address, listen.port), Doorway())
                door.add(server, listen)

    def _takes_over(self, before: Chooser) -> bool:
        """Whether only some servers differ, each of which listens and is named as the one that
        stood in its place.
        """
        servers, were = self.whole.servers, before.whole.servers
        if len(servers) != len(were):
            return False
        pairs = [(a, b) for a, b in zip(were, servers, strict=True) if a is not b]
        for old, new in pairs:
            if len(old.listens) != len(new.listens) or not all(
                map(_alike, old.listens, new.listens)
            ):
                return False
        for key, door in before.doors.items():
            mine = [pair for pair in pairs if id(pair[0]) in door.position]
            self.doors[key] = door.exchanged(mine) if mine else door
        return True

    def door(self, address: str, port: int) -> Doorway | None:
        """What a connection to this address and port comes to."""
        wild = "::" if ":" in address else "*"
        for key in ((address, port), (wild, port)):
            if key in self.doors:
                return self.doors[key]
        both = self.doors.get(("::", port))
        if both is not None and wild == "*" and any(not x.only_v6 for _, x in both.servers):
            return both
        return None

    def choose(self, address: str, port: int, host: str | None, *, refused: bool) -> Chosen | None:
        """host: None where none was sent; refused: the request fails before the name is looked at.

        None where no server listens there.
        """
        door = self.door(address, port)
        if door is None:
            return None
        standing = door.standing
        if refused:
            return self._chosen(door, standing, codes.SITE_FIRST, None, {})
        server, matched, hit, unknown = door.by_name(host or "")
        doubts: tuple[Doubt, ...] = ()
        if unknown is not None:
            proof = Proof(place=unknown.place, text=matched)
            facts: Facts = {"pattern": matched}
            doubts = (Doubt(codes.SITE_PATTERN_UNKNOWN, Rank(Phase.ENTRY), facts, (proof,)),)
        if server is None:
            ground = codes.SITE_ONLY if len(door.servers) == 1 else codes.SITE_DEFAULT
            if door.default is not None and len(door.servers) > 1:
                ground = codes.SITE_MARKED
            facts = {"host": host or "", "count": len(door.servers)}
            return self._chosen(door, standing, ground, host, facts, doubts)
        facts = {"host": host or "", "matched": matched or "no name"}
        return self._chosen(door, server, codes.SITE_NAMED, host, facts, doubts, hit, matched)

    def _chosen(
        self,
        door: Doorway,
        server: Server,
        ground: Code,
        host: str | None,
        facts: Facts,
        doubts: tuple[Doubt, ...] = (),
        hit: Hit | None = None,
        matched: str | None = None,
    ) -> Chosen:
        claims = tuple(self._contest(door, server, host, matched))
        return Chosen(server, ground, claims, facts, doubts, hit, door.sealed)

    def _contest(
        self, door: Doorway, winner: Server, host: str | None, matched: str | None
    ) -> list[Claim]:
        at = door.position[id(winner)]
        claims = door.claims[:SHOWN_CLAIMS]
        outcome, hit = ("won", matched) if matched is not None else ("first", None)
        won = replace(door.claims[at], outcome=outcome, matched=hit)
        if host:
            rivals = {number for number, name in door.wild if _wild(name, host)}
            for position in rivals.union(door.shown.get(host, ())) - {at}:
                claims[position] = replace(claims[position], outcome="weaker", matched=host)
        if at < len(claims):
            claims[at] = won
        else:
            claims.append(won)
        return claims


def _wild(name: str, host: str) -> bool:
    if name.startswith("*."):
        return host.endswith(name[1:])
    if name.startswith("."):
        return host == name[1:] or host.endswith(name)
    return name.endswith(".*") and host.startswith(name[:-1])
