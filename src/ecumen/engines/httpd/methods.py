"""Which methods a line holds for, and what the server knows of a method.

Source: RFC 9110, section 9; httpd 2.4, core ("Limit", "LimitExcept").
"""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.engines.httpd.lexer import words
from ecumen.engines.tree import Directive

# Methods that the server knows by name; any other is refused with 501.
KNOWN = frozenset(
    """
    GET HEAD POST PUT DELETE CONNECT OPTIONS TRACE PATCH PROPFIND PROPPATCH MKCOL COPY MOVE LOCK
    UNLOCK VERSION-CONTROL CHECKOUT UNCHECKOUT CHECKIN UPDATE LABEL REPORT MKWORKSPACE MKACTIVITY
    BASELINE-CONTROL MERGE
""".split()
)


@dataclass(frozen=True, slots=True)
class Limited:
    """The methods of a section that limits. but: all others are meant."""

    methods: frozenset[str]
    but: bool = False

    def holds_for(self, method: str) -> bool:
        """A line for GET holds for HEAD too."""
        asked = "GET" if method == "HEAD" else method
        return (asked in self.methods) != self.but


def limited_by(section: Directive) -> Limited | None:
    """Of a section that limits; None where a method in it is not one that the server knows."""
    methods = frozenset("GET" if word == "HEAD" else word for word in words(section.text))
    if not methods <= KNOWN or not methods:
        return None
    return Limited(methods, section.name.lower() == "<limitexcept")
