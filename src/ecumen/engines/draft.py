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


def read_binding(text: str) -> tuple[str, int]:
    """`ADDRESS:PORT`, of all addresses `*`; an address of version 6 in brackets. Raises
    ValueError.
    """
    address, _, port = text.rpartition(":")
    if not re.fullmatch("[0-9]{1,5}", port):
        raise ValueError(f"{text} is no address with a port")
    return address.strip("[]") or "*", int(port)


def is_host_name(name: str) -> bool:
    """RFC 1123, section 2.1; `*` for all names below one (RFC 4592)."""
    labels = name.removeprefix("*.").split(".")
    return len(name) <= 253 and all(map(_LABEL.match, labels))


def access_run(text: str, form: re.Pattern[str]) -> tuple[int, int] | None:
    """Which lines of a file say who is let in, from and up to; None for a file that is not, line by
    line, as a site's is written here. form: of the whole, without indents; `access` in it.
    """
    lines = [line.strip() for line in text.split("\n")]
    match = form.fullmatch("\n".join(lines))
    if match is None:
        return None
    first = match.string.count("\n", 0, match.start("access"))
    return first, first + match["access"].count("\n")


def with_access(text: str, run: tuple[int, int], said: Sequence[str]) -> str:
    """A file with other lines that say who is let in, indented as those were."""
    lines = text.split("\n")
    first = lines[run[0]]
    indent = first[: len(first) - len(first.lstrip())]
    return "\n".join([*lines[: run[0]], *(indent + each for each in said), *lines[run[1] :]])
