"""The rules of the packet filter, as `nft -j list ruleset` prints them.

Source: libnftables-json(5). What is not understood here makes a rule unsure, never a different one.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

Key = tuple[str, str, str]  # family, table, name


@dataclass(frozen=True, slots=True)
class Rule:
    """expr: its statements, in their order."""

    chain: Key
    handle: int
    expr: tuple[object, ...]

    def __str__(self) -> str:
        return f"{' '.join(self.chain)}: {' '.join(map(told, self.expr))}"


@dataclass(slots=True)
class Chain:
    """hook: "" for one that others lead to. devices: those of a chain at a device."""

    key: Key
    hook: str = ""
    kind: str = ""
    priority: int = 0
    policy: str = "accept"
    devices: tuple[str, ...] = ()
    rules: list[Rule] = field(default_factory=list)


class Ruleset:
    """objects: the list behind `nftables`."""

    def __init__(self, objects: Sequence[object]) -> None:
        self.chains: dict[Key, Chain] = {}
        # Elements of sets and maps.
        self.elements: dict[Key, tuple[object, ...]] = {}
        self._dormant: set[tuple[str, str]] = set()
        for each in objects:
            if isinstance(each, dict):
                for kind, what in each.items():
                    if isinstance(what, dict):
                        self._take(str(kind), what)

    def _take(self, kind: str, what: Mapping[str, object]) -> None:
        family, table = str(what.get("family", "")), str(what.get("table", ""))
        key = family, table, str(what.get("name", ""))
        if kind == "table":
            # nft 1.0.6 prints what happens to stand in memory in place of `dormant` (measured); it
            # prints nothing where a table has no flags.
            flags = what.get("flags", [])
            named = flags if isinstance(flags, list) else [flags]
            if not all(each in ("owner", "persist") for each in named):
                self._dormant.add((family, str(what.get("name", ""))))
        elif kind == "chain":
            device = what.get("dev", ())
            devices = [device] if isinstance(device, str) else device
            prio = what.get("prio", 0)
            self.chains[key] = Chain(
                key,
                str(what.get("hook", "")),
                str(what.get("type", "")),
                prio if isinstance(prio, int) else 0,
                str(what.get("policy", "accept")),
                tuple(map(str, devices)) if isinstance(devices, list | tuple) else (),
            )
        elif kind == "rule":
            chain = self.chains.get((family, table, str(what.get("chain", ""))))
            expr, handle = what.get("expr"), what.get("handle", 0)
            if chain is not None and isinstance(expr, list):
                number = handle if isinstance(handle, int) else 0
                chain.rules.append(Rule(chain.key, number, tuple(expr)))
        elif kind in ("set", "map"):
            elements = what.get("elem")
            self.elements[key] = tuple(elements) if isinstance(elements, list) else ()

    @cached_property
    def hooked(self) -> Mapping[str, list[Chain]]:
        """The chains at each hook, in the order in which they are asked."""
        found: dict[str, list[Chain]] = {}
        for chain in self.chains.values():
            if chain.hook and chain.key[:2] not in self._dormant:
                found.setdefault(chain.hook, []).append(chain)
        for chains in found.values():
            chains.sort(key=lambda each: each.priority)
        return found

    def at(self, hook: str, family: str) -> Iterator[Chain]:
        """The chains at a hook that see packets of a family."""
        for chain in self.hooked.get(hook, ()):
            if chain.key[0] in (family, "inet", "netdev"):
                yield chain

    def items(self, chain: Key, right: object) -> tuple[object, ...] | None:
        """What a rule compares with; None where that is not known."""
        if isinstance(right, dict) and "set" in right:
            right = right["set"]
        if isinstance(right, str) and right.startswith("@"):
            return self.elements.get((chain[0], chain[1], right[1:]))
        return tuple(right) if isinstance(right, list) else (right,)


# --- in words ---


def told(what: object) -> str:
    """A statement, nearly as it was written."""
    if not isinstance(what, dict):
        return str(what)
    (kind, inner), *_ = what.items() or [("", None)]
    match kind, inner:
        case "match", {"left": left, "right": right, **rest}:
            op = str(rest.get("op", "=="))
            return " ".join(
                filter(None, (_left(left), "" if op in ("==", "in") else op, _right(right)))
            )
        case (("jump" | "goto"), {"target": target}):
            return f"{kind} {target}"
        case (("redirect" | "dnat"), {**more}):
            address, port = more.get("addr", ""), more.get("port", "")
            return f"{kind} to {address}{f':{port}' if port != '' else ''}"
        case "vmap", {"key": key}:
            return f"{_left(key)} vmap"
        case "xt", {"name": name}:
            return f"[{name}]"
        case "counter" | "log", _:
            return str(kind)
    return str(kind)


def _left(left: object) -> str:
    if isinstance(left, dict):
        for kind, what in left.items():
            if kind == "payload" and isinstance(what, dict):
                return f"{what.get('protocol')} {what.get('field')}"
            if kind in ("meta", "ct") and isinstance(what, dict):
                key = str(what.get("key"))
                return key if kind == "meta" and key.endswith("name") else f"{kind} {key}"
            if kind == "concat" and isinstance(what, list):
                return " . ".join(map(_left, what))
            return str(kind)
    return str(left)


def _right(right: object) -> str:
    if isinstance(right, list):
        return f"{{ {', '.join(map(_right, right))} }}"
    if isinstance(right, dict):
        for kind, what in right.items():
            if kind == "set":
                return _right(what)
            if kind == "prefix" and isinstance(what, dict):
                return f"{what.get('addr')}/{what.get('len')}"
            if kind == "range" and isinstance(what, list):
                return "-".join(map(str, what))
            if kind == "concat" and isinstance(what, list):
                return " . ".join(map(_right, what))
    return f'"{right}"' if isinstance(right, str) and right == "lo" else str(right)
