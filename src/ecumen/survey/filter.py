"""The packet filter of a machine, as a survey holds it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class PacketFilter:
    """rules: the list that `nft -j list ruleset` prints behind `nftables`. devices: the network
    devices, each with its addresses. forwards: whether the kernel hands on what is for others;
    to_itself: whether what comes from outside may be sent to the loopback addresses. older: tables
    of the older filter that hold rules, of which nothing is known here.
    """

    rules: tuple[object, ...] = ()
    devices: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    forwards: bool = True
    to_itself: bool = False
    older: tuple[str, ...] = ()
