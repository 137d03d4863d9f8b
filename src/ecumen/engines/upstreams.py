"""Upstreams: whether anything listens where requests are handed to, as far as the survey shows."""

from __future__ import annotations

import ipaddress
import re

from ecumen.engines.numbers import counted
from ecumen.survey import Survey

_AUTHORITY = re.compile(
    r"(?:([a-z0-9+.-]+)://)?(\[[0-9a-f:.]+\]|[^/:]+)(?::([0-9]+))?", re.IGNORECASE
)
_PORTS = {"http": 80, "https": 443, "fcgi": 8000}


def is_closed(survey: Survey, url: str) -> bool:
    """True only where the survey can tell: an address of this machine on which nothing listens.

    A configuration that was given by hand counts as listening wherever it may want to.
    """
    match = _AUTHORITY.match(url)
    if match is None or any(gap.what == "listeners" for gap in survey.gaps):
        return False
    try:
        address = ipaddress.ip_address(match[2].strip("[]"))
    except ValueError:
        return False
    own = address.is_loopback or str(address) in survey.addresses
    port = counted(match[3]) if match[3] else _PORTS.get((match[1] or "http").lower(), 0)
    # One engine may hand on to the other, which was not running when it was given by hand.
    if not own or (len(survey.engines) > 1 and any(e.declared for e in survey.engines)):
        return False
    return not any(listener.port == port for listener in survey.listeners)
