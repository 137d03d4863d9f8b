"""The packet filter of this machine, by its own tool. Source: nft(8), ip-sysctl (kernel)."""

from __future__ import annotations

import json
import socket
import subprocess
from dataclasses import dataclass

import psutil

from ecumen.survey import PacketFilter
from ecumen_machine import programs

WITHIN = 20.0  # seconds
LARGEST = 32 << 20  # bytes of a rule set


@dataclass(frozen=True, slots=True)
class FilterText:
    """What the machine says of its filter. said: as the tool prints it."""

    said: bytes
    devices: dict[str, tuple[str, ...]]
    forwards: bool
    to_itself: bool
    older: tuple[str, ...]


def asked() -> tuple[FilterText | None, str]:
    """What is said, or why nothing is. Only root is told."""
    older = _words("/proc/net/ip_tables_names") + _words("/proc/net/ip6_tables_names")
    said = b""
    try:
        program = programs.installed(["nft"])
        if program is not None:
            command = [program, "-j", "list", "ruleset"]
            done = subprocess.run(
                command, capture_output=True, timeout=WITHIN, check=True, cwd="/",
                stdin=subprocess.DEVNULL, env={"PATH": programs.PLACES},
            )  # fmt: skip
    except (programs.UntrustedError, OSError, subprocess.SubprocessError) as error:
        return None, str(error)
    if program is not None:
        if len(done.stdout) > LARGEST:
            return None, "its rules are more than are read here"
        said = done.stdout
    elif not older:
        # Nothing that could have made rules is here.
        return None, ""
    devices: dict[str, tuple[str, ...]] = {}
    for name, items in psutil.net_if_addrs().items():
        found = (i.address.partition("%")[0] for i in items if i.family in _FAMILIES)
        devices[name] = tuple(found)
    forwards = _words("/proc/sys/net/ipv4/ip_forward") == ("1",)
    to_itself = _words("/proc/sys/net/ipv4/conf/all/route_localnet") == ("1",)
    return FilterText(said, devices, forwards, to_itself, older), ""


_FAMILIES = (socket.AF_INET, socket.AF_INET6)


def _words(path: str) -> tuple[str, ...]:
    try:
        with open(path) as stream:
            return tuple(dict.fromkeys(stream.read().split()))
    except OSError:
        return ()


def understood(text: FilterText) -> PacketFilter | None:
    """Its rules; None for what is no JSON. By the process that understands."""
    try:
        rules = json.loads(text.said)["nftables"] if text.said else []
    except (ValueError, LookupError, TypeError):
        return None
    if not isinstance(rules, list):
        return None
    return PacketFilter(tuple(rules), text.devices, text.forwards, text.to_itself, text.older)
