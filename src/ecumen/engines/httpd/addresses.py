"""Ranges of addresses as the access rules of the server write them."""

from __future__ import annotations

import ipaddress

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def network(text: str) -> Network | None:
    """An address, a range with a prefix length or a mask, or leading parts of an address."""
    try:
        if "/" in text:
            host, _, mask = text.partition("/")
            if ":" not in host:
                host = ".".join([*host.rstrip(".").split("."), "0", "0", "0"][:4])
            return ipaddress.ip_network(f"{host}/{mask}", strict=False)
        if ":" not in text and text.rstrip(".").count(".") < 3:
            parts = text.rstrip(".").split(".")
            return ipaddress.ip_network(f"{'.'.join([*parts, '0', '0', '0'][:4])}/{8 * len(parts)}")
        return ipaddress.ip_network(text)
    except ValueError:
        return None
