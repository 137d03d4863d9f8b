"""What programs visitors use, and which of them act by themselves.

The patterns are those of a maintained library; what it does not know is called as it calls itself.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from ua_parser import parse

_PRODUCT = re.compile(r"\s*([A-Za-z][\w .-]{0,38}?)(?:/|\s*\(|\s*\Z)")
_PLACE = re.compile(r"\(([A-Za-z][\w .-]{0,30}?)[;)]")
# As browsers begin their names, for reasons of the past.
_BROWSERS = "Mozilla/"
_AUTOMATIC = re.compile(r"bot\b|crawl|spider|fetch|monitor|\+http", re.IGNORECASE)
UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Agent:
    """family: of the program; system: that it runs on; automatic: no person sits before it."""

    family: str
    system: str
    automatic: bool


@lru_cache(maxsize=200_000)
def agent_of(text: str) -> Agent:
    """What an agent says of itself."""
    if text in ("", "-"):
        return Agent("says nothing", UNKNOWN, True)
    found = parse(text[:1000])
    family = found.user_agent.family if found.user_agent else None
    system = found.os.family if found.os else None
    spider = found.device is not None and found.device.family == "Spider"
    product = _PRODUCT.match(text)
    if family is None or spider:
        family = product[1] if product and not text.startswith(_BROWSERS) else family
    place = _PLACE.search(text)
    if system is None and place is not None and not _AUTOMATIC.search(text):
        system = place[1]
    automatic = spider or bool(_AUTOMATIC.search(text))
    # Programs and libraries name themselves and nothing to sit at.
    automatic = automatic or (system is None and not text.startswith(_BROWSERS))
    return Agent(family or UNKNOWN, system or UNKNOWN, automatic)
