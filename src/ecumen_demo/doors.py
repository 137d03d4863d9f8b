"""The packet filter of the town's server: some ports for everybody, all others for nobody."""

from __future__ import annotations

from ecumen.survey import PacketFilter

OPEN = (22, 80, 443, 8080, 8088)
_TABLE = {"family": "inet", "table": "quay"}


def packet_filter(devices: dict[str, tuple[str, ...]]) -> PacketFilter:
    """devices: with their addresses."""
    state = {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}
    loopback = {"op": "==", "left": {"meta": {"key": "iif"}}, "right": "lo"}
    port = {"payload": {"protocol": "tcp", "field": "dport"}}
    neighbours = {"op": "==", "left": {"meta": {"key": "l4proto"}}, "right": "ipv6-icmp"}
    ports = {"op": "==", "left": port, "right": {"set": list(OPEN)}}
    rules = [
        {"rule": {**_TABLE, "chain": "incoming", "handle": handle,
                  "expr": [{"match": match}, {"accept": None}]}}
        for handle, match in enumerate((state, loopback, neighbours, ports), 4)
    ]  # fmt: skip
    return PacketFilter(
        (
            {"table": {"family": "inet", "name": "quay", "handle": 1}},
            {"chain": {**_TABLE, "name": "incoming", "handle": 1, "type": "filter",
                       "hook": "input", "prio": 0, "policy": "drop"}},
            *rules,
        ),
        devices,
        forwards=False,
    )  # fmt: skip
