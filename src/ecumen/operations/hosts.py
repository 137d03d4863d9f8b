"""Where a name leads by the server's own hosts file. Source: hosts(5), hostname(7)."""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.digest import digest
from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.quoting import quoted
from ecumen.survey import HOSTS_FILE, Delta, NameRecord, leading

_NAME = re.compile(r"(?!-)[A-Za-z0-9_-]{1,63}(?<!-)(\.(?!-)[A-Za-z0-9_-]{1,63}(?<!-))*\Z")


@dataclass(frozen=True, slots=True)
class Hosts(Operation):
    """was, to: addresses, with blanks between; "" for none."""

    what: ClassVar[str] = "hosts"
    name: str
    was: str
    to: str

    def __post_init__(self) -> None:
        if not _NAME.match(self.name) or len(self.name) > 253:
            raise ValueError(f"no name of a host: {self.name}")
        addresses = self.to.split()
        if self.to != " ".join(addresses) or len(set(addresses)) != len(addresses):
            raise ValueError(f"no addresses, each once with a blank between: {self.to}")
        for address in addresses:
            if str(ipaddress.ip_address(address)) != address:
                raise ValueError(f"{address} is written {ipaddress.ip_address(address)}")

    @classmethod
    def of(cls, looking: Looking, name: str, addresses: tuple[str, ...]) -> Hosts:
        return cls(name, _state(looking, name), " ".join(addresses))

    @property
    def at(self) -> str:
        return ""

    def standing(self, looking: Looking) -> Standing:
        now = _state(looking, self.name)
        if now == self.to:
            return Standing.DONE
        return Standing.DUE if now == self.was else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        made = hosts_record(self.name, tuple(self.to.split()))
        return Delta(names={made.name: made})

    def keep(self, looking: Looking) -> Before:
        was, held = _state(looking, self.name), looking.content(HOSTS_FILE)
        made = "" if held is None else digest(leading(held, self.name, tuple(self.to.split())))
        return ((HOSTS_FILE, looking.aside(HOSTS_FILE)), ("made", made), ("was", was))

    def forward(self, hands: Hands, kept: Before) -> None:
        if kept and _state(hands, self.name) != self.to:
            hands.lead(self.name, tuple(self.to.split()), kept[0][1])

    def backward(self, hands: Hands, kept: Before) -> None:
        if not kept:
            return
        (path, there), (_, made), (_, was) = kept
        held, aside = hands.content(path), hands.content(there)
        if held is not None and aside is not None and digest(held) == made:
            hands.swap(path, there)
        elif _state(hands, self.name) == self.to != was:
            # Others wrote into the file since: their lines stay.
            hands.forget(there)
            hands.lead(self.name, tuple(was.split()), there)
        hands.forget(there)

    def describe(self) -> str:
        if self.to:
            return f"have {self.name} lead to {', '.join(self.to.split())} in {HOSTS_FILE}"
        return f"take {self.name} out of {HOSTS_FILE}"

    def shell(self) -> str:
        # A person edits the file. A word of its own only: a name may be the end of another one;
        # what is added begins on a line of its own.
        word = re.escape(self.name)
        gone = f"s/^([^#]*[[:blank:]]){word}([[:blank:]]|$)/\\1\\2/I"
        bare = "s/^[[:blank:]]*[^#[:blank:]]+[[:blank:]]*(#|$)/\\1/"
        edits = [*([gone, bare] if self.was else []), "$a\\"]
        edit = f"sed -E -i {' '.join(f'-e {quoted(each)}' for each in edits)} {HOSTS_FILE}"
        lines = "".join(f"{address} {self.name}\n" for address in self.to.split())
        return f"{edit} && printf %s {quoted(lines)} >> {HOSTS_FILE}" if lines else edit


def hosts_record(name: str, addresses: tuple[str, ...]) -> NameRecord:
    """What is known of a name then. What others say of it is not asked as long as the file says
    something.
    """
    return NameRecord(name.lower(), addresses or None, "hosts" if addresses else "dns")


def _state(looking: Looking, name: str) -> str:
    return " ".join(looking.leads(name))
