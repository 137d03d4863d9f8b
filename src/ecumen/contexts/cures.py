"""What lets the web server through where the security policy keeps it out. Words are made where
they are shown: each says itself as a sentence without its end.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Relabelled:
    """The path gets the context that the rules give it."""

    path: str
    context: str

    def __str__(self) -> str:
        return f"Give {self.path} the context {self.context}, as the rules say"


@dataclass(frozen=True, slots=True)
class Turned:
    """Switches of the policy, and how they are to stand."""

    switches: Mapping[str, bool]

    def __str__(self) -> str:
        return f"Turn {spelt(self.switches)}"


@dataclass(frozen=True, slots=True)
class OwnRule:
    """Neither helps: the path needs a rule of its own."""

    path: str

    def __str__(self) -> str:
        return f"Add a rule that gives {self.path} a context which the web server may read"


@dataclass(frozen=True, slots=True)
class OtherPort:
    """No switch lets the web server connect to this port."""

    def __str__(self) -> str:
        return "Use another port"


def spelt(switches: Mapping[str, bool]) -> str:
    """Switches with how they are to stand, in words."""
    return " and ".join(f"{'on' if on else 'off'} the switch {n}" for n, on in switches.items())
