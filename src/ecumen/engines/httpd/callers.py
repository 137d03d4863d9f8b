"""What the address of a visitor is called, as far as a survey tells: for rules that let in by name.

Source: httpd 2.4, mod_authz_host ("Require host", "Require forward-dns") and mod_access_compat:
the name of the address is looked up, and counts where it leads back to it.
"""

from __future__ import annotations

import ipaddress
from functools import lru_cache

from ecumen.survey import NameRecord, Survey

_HOSTS = "hosts"
_LOOPBACK = "localhost"


class Callers:
    """The names of visitors by one survey. The rest of the world's names is known to a resolver
    alone.
    """

    def __init__(self, survey: Survey) -> None:
        self._records = survey.name_by_text
        self._called: dict[str, tuple[str, ...]] = {}
        by_address: dict[str, list[NameRecord]] = {}
        for record in survey.names:
            for address in record.addresses or () if record.source == _HOSTS else ():
                by_address.setdefault(_plain(address), []).append(record)
        for address, records in by_address.items():
            own = [r for r in records if address in map(_plain, r.first_for)]
            self._called[address] = tuple(record.name for record in own or records)

    def called(self, address: str) -> tuple[str, ...]:
        """What an address is called by the hosts file; more than one where its order is not known,
        none where it is not there.
        """
        return self._called.get(_plain(address), ())

    def within(self, client: str, domain: str) -> bool | None:
        """Whether a visitor's own name is this one or beneath it; None where a resolver knows."""
        if "%{" in domain:
            return None
        names = self.called(client)
        if names:
            said = {_beneath(name, domain) for name in names}
            return said.pop() if len(said) == 1 else None
        # That name, and all beneath it, leads to this machine alone (RFC 6761, section 6.3): what
        # says otherwise of another's address does not lead back to it.
        if domain.lower() == _LOOPBACK and self._records.get(_LOOPBACK) is not None:
            return False
        return None

    def leads(self, name: str, client: str) -> bool | None:
        """Whether a name leads to a visitor's address."""
        record = self._records.get(name.lower())
        if "%{" in name or record is None or record.addresses is None:
            return None
        return _plain(client) in map(_plain, record.addresses)


def _beneath(name: str, domain: str) -> bool:
    """By whole parts of the name; a point before the domain counts as one (mod_authz_host)."""
    name, domain = name.lower(), domain.lower()
    if not name.endswith(domain):
        return False
    return name == domain or domain[:1] == "." or name[-len(domain) - 1] == "."


@lru_cache(maxsize=4096)
def _plain(address: str) -> str:
    """One way of writing each address; one of IPv4 within IPv6 is the former."""
    try:
        read = ipaddress.ip_address(address)
    except ValueError:
        return address
    return str(getattr(read, "ipv4_mapped", None) or read)
