"""A site that is to be: what an adapter writes into the engine's own language."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Sequence
from dataclasses import dataclass

# Visitors on the server itself, in place of a network.
LOCAL = "local"
_LABEL = re.compile(r"(?!-)[a-z0-9_-]{1,63}(?<!-)\Z", re.I)


@dataclass(frozen=True, slots=True)
class SiteDraft:
    """names: the first is what it is called. root: its folder. bindings: addresses and ports, of
    all addresses "*". index: names that are tried for a folder. log: where its lines go; None for
    wherever the server's own do. seen_by: networks whose visitors are let in, LOCAL for the server
    itself; none for everyone. note: a comment in front, one line. indent: as the server's other
    files have it.
    """

    names: tuple[str, ...]
    root: str
    bindings: tuple[tuple[str, int], ...] = (("*", 80),)
    index: tuple[str, ...] = ()
    log: str | None = None
    seen_by: tuple[str, ...] = ()
    note: str = ""
    indent: str = "    "

    def __post_init__(self) -> None:
        """Raises ValueError, which says what cannot be."""
        if not self.names or not self.bindings:
            raise ValueError("a site has a name and an address")
        for name in self.names:
            if not is_host_name(name):
                raise ValueError(f"{name} is no name that a visitor could ask for")
        for address, port in self.bindings:
            if not 0 < port < 65536:
                raise ValueError(f"{port} is no port")
            if address != "*":
                ipaddress.ip_address(address)
        for network in self.seen_by:
            if network != LOCAL:
                ipaddress.ip_network(network)
        if not self.root.startswith("/"):
            raise ValueError(f"{self.root} is no whole path")
        if not self.note.isprintable() or not re.fullmatch(r"[ \t]{0,8}", self.indent):
            raise ValueError("a comment is one line, and what indents it blank")


def is_host_name(name: str) -> bool:
    """RFC 1123, section 2.1; `*` for all names below one (RFC 4592)."""
    labels = name.removeprefix("*.").split(".")
    return len(name) <= 253 and all(map(_LABEL.match, labels))


def access_run(text: str, line: re.Pattern[str]) -> tuple[int, int] | None:
    """Which lines of a file say who is let in, from and up to, where it says so in one place alone;
    line: of what such a line consists, without its indent.
    """
    fits = [number for number, each in enumerate(text.split("\n")) if line.fullmatch(each.strip())]
    if not fits or fits[-1] - fits[0] != len(fits) - 1:
        return None
    return fits[0], fits[-1] + 1


def with_access(text: str, run: tuple[int, int], said: Sequence[str]) -> str:
    """A file with other lines that say who is let in, indented as those were."""
    lines = text.split("\n")
    first = lines[run[0]]
    indent = first[: len(first) - len(first.lstrip())]
    return "\n".join([*lines[: run[0]], *(indent + each for each in said), *lines[run[1] :]])
