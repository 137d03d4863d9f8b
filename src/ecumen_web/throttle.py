"""Signing in by guessing: each failure makes the next try wait longer, by account and address.

Whoever signed in before from a browser has a mark in it, and is counted by that: others who guess,
even from the same address, do not lock such a person out.
"""

from __future__ import annotations

import hashlib
import ipaddress
import time
from dataclasses import dataclass

from django.core import signing
from django.core.cache import cache

MARK = "ecumen_known"
_SALT = "ecumen.known"
FREE = 5  # failures without a wait
LONGEST = 300.0  # seconds
FORGOTTEN = 3600  # seconds after the last failure
MARK_AGE = 90 * 24 * 3600  # seconds


@dataclass(frozen=True, slots=True)
class SignInTrial:
    """Who tries. A right password within the wait is no success: the wait is the point."""

    key: str

    @classmethod
    def of(cls, name: str, address: str, mark: str | None) -> SignInTrial:
        known = False
        if mark:
            try:
                known = signing.loads(mark, salt=_SALT, max_age=MARK_AGE) == name
            except signing.BadSignature:
                known = False
        where = f"mark {mark}" if known else _asker(address)
        digest = hashlib.sha256(f"{name.lower()}\0{where}".encode("utf-8", "replace")).hexdigest()
        return cls(f"trial-{digest}")

    def wait(self) -> float:
        """Seconds until the next try is looked at; 0 for at once."""
        _, until = cache.get(self.key, (0, 0.0))
        return max(0.0, float(until) - time.time())

    def failed(self) -> None:
        count, _ = cache.get(self.key, (0, 0.0))
        delay = 0.0 if count < FREE else min(LONGEST, 2.0 ** (count - FREE))
        cache.set(self.key, (min(count + 1, 60), time.time() + delay), FORGOTTEN)

    def succeeded(self) -> None:
        cache.delete(self.key)


def _asker(address: str) -> str:
    """An IPv6 host has a network of addresses of its own (RFC 6177): they are one asker."""
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return address
    if found.version == 4:
        return address
    return str(ipaddress.ip_network((found, 64), strict=False))


def mark_of(name: str) -> str:
    """For the browser of whoever signed in."""
    return signing.dumps(name, salt=_SALT)
