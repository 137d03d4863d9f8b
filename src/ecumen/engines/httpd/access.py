"""Who may, by configuration: access rules, their combination and what they decide.

Source: httpd 2.4, mod_authz_core ("Authorization Containers", "AuthMerging") and mod_authz_host.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import Enum
from functools import cached_property
from itertools import product

from ecumen.engines.httpd.lexer import words
from ecumen.engines.sites import Proof, proof_of
from ecumen.engines.tree import Directive

_CONTAINERS = {"<requireall": "all", "<requireany": "any", "<requirenone": "none"}
MOST_UNKNOWN = 6


class Outcome(Enum):
    """What a rule says. LOGIN: denied, but signing in could change that."""

    GRANTED = "granted"
    DENIED = "denied"
    LOGIN = "login"
    NEUTRAL = "neutral"


@dataclass(frozen=True, slots=True)
class Visitor:
    """Who asks. client: None is somebody outside whose address is not given."""

    client: str | None
    server: str | None
    method: str
    signed_in: bool = False


@dataclass(frozen=True, slots=True)
class Rule:
    """A single rule, or several under `all`, `any` or `none`."""

    directive: Directive
    kind: str
    args: tuple[str, ...] = ()
    negated: bool = False
    children: tuple[Rule, ...] = ()

    def leaves(self) -> Iterator[Rule]:
        if self.kind in ("all", "any", "none"):
            for child in self.children:
                yield from child.leaves()
        else:
            yield self


@dataclass(frozen=True)
class Access:
    """The access rules of one section. merging: off, and, or. unread: not evaluated."""

    rules: tuple[Rule, ...]
    merging: str = "off"
    unread: tuple[Directive, ...] = ()
    inherited: Access | None = None

    def over(self, base: Access) -> Access:
        """A later section's rules upon an earlier one's: in their place, unless merging is on."""
        if not self.rules:
            return Access(base.rules, self.merging, base.unread + self.unread, base.inherited)
        if self.merging == "off":
            return self
        return Access(self.rules, self.merging, self.unread + base.unread, base)

    @cached_property
    def lines(self) -> tuple[Proof, ...]:
        return tuple(proof_of(leaf.directive) for rule in self.rules for leaf in rule.leaves())

    def all_rules(self) -> tuple[Rule, ...]:
        return self.rules + (self.inherited.all_rules() if self.inherited else ())


def is_access(name: str) -> bool:
    """Whether a directive (lower case) is an access rule or says how rules are merged."""
    return name in ("require", "authmerging") or name in _CONTAINERS


def access_of(directives: Sequence[Directive]) -> Access:
    """The access rules of one section, in the order of the file."""
    merging = "off"
    rules: list[Rule] = []
    unread: list[Directive] = []
    for directive in directives:
        if directive.name.lower() == "authmerging":
            merging = directive.text.strip().lower()
        else:
            rules.append(_rule(directive, unread))
    return Access(tuple(rules), merging, tuple(unread))


def _rule(directive: Directive, unread: list[Directive]) -> Rule:
    name = directive.name.lower()
    if name in _CONTAINERS:
        children = []
        for child in directive.children or ():
            if child.name.lower() == "require" or child.name.lower() in _CONTAINERS:
                children.append(_rule(child, unread))
            else:
                unread.append(child)
        return Rule(directive, _CONTAINERS[name], children=tuple(children))
    given = words(directive.text)
    negated = bool(given) and given[0].lower() == "not"
    given = given[1:] if negated else given
    kind = given[0].lower() if given else ""
    return Rule(directive, f"require {kind}", tuple(given[1:]), negated)


# --- deciding ---


def judge(access: Access, visitor: Visitor) -> tuple[Outcome | None, tuple[Directive, ...]]:
    """(outcome, what was not evaluated). The outcome is None where that could change it."""
    if access.unread:
        return None, access.unread
    unknown = [
        leaf
        for rule in access.all_rules()
        for leaf in rule.leaves()
        if _leaf(leaf, visitor) is None
    ]
    if len(unknown) > MOST_UNKNOWN:
        return None, tuple(leaf.directive for leaf in unknown)
    outcomes = set()
    choices = (Outcome.GRANTED, Outcome.DENIED, Outcome.LOGIN)
    for guess in product(choices, repeat=len(unknown)):
        assumed = {id(leaf): value for leaf, value in zip(unknown, guess, strict=True)}
        outcomes.add(_whole(access, visitor, assumed))
    if len(outcomes) == 1:
        return outcomes.pop(), ()
    return None, tuple(leaf.directive for leaf in unknown)


def _whole(access: Access, visitor: Visitor, assumed: dict[int, Outcome]) -> Outcome:
    own = _combined([_judge(rule, visitor, assumed) for rule in access.rules], conjunction=False)
    if access.inherited is None:
        return own
    base = _whole(access.inherited, visitor, assumed)
    return _combined([base, own], conjunction=access.merging == "and")


def _judge(rule: Rule, visitor: Visitor, assumed: dict[int, Outcome]) -> Outcome:
    if rule.kind in ("all", "any", "none"):
        outcomes = [_judge(child, visitor, assumed) for child in rule.children]
        outcome = _combined(outcomes, conjunction=rule.kind == "all")
        return _negated(outcome) if rule.kind == "none" else outcome
    known = _leaf(rule, visitor)
    outcome = assumed[id(rule)] if known is None else known
    return _negated(outcome) if rule.negated else outcome


def _combined(outcomes: list[Outcome], *, conjunction: bool) -> Outcome:
    """As mod_authz_core's apply_authz_sections() goes through the rules of a container."""
    ends = Outcome.DENIED if conjunction else Outcome.GRANTED
    result = Outcome.NEUTRAL
    for outcome in outcomes:
        if outcome is ends:
            return outcome
        if outcome is Outcome.NEUTRAL:
            continue
        could_sign_in = outcome is Outcome.LOGIN and (
            result is not Outcome.DENIED if conjunction else result is Outcome.DENIED
        )
        if could_sign_in or result is Outcome.NEUTRAL:
            result = outcome
    return result


def _negated(outcome: Outcome) -> Outcome:
    return Outcome.DENIED if outcome is Outcome.GRANTED else Outcome.NEUTRAL


def _leaf(rule: Rule, visitor: Visitor) -> Outcome | None:
    """A single rule, its negation left aside; None where it is not evaluated."""
    match rule.kind:
        case "require all":
            word = rule.args[0].lower() if len(rule.args) == 1 else ""
            return {"granted": Outcome.GRANTED, "denied": Outcome.DENIED}.get(word)
        case "require method":
            return _granted(visitor.method in _methods(rule.args))
        case "require ip":
            return _by_address(rule.args, visitor.client)
        case "require local":
            return _local(visitor)
        case "require valid-user" | "require user" | "require group" if not visitor.signed_in:
            return Outcome.LOGIN
    return None


def _granted(yes: bool) -> Outcome:
    return Outcome.GRANTED if yes else Outcome.DENIED


def _methods(args: tuple[str, ...]) -> set[str]:
    """A rule for GET holds for HEAD too."""
    return set(args) | ({"HEAD"} if "GET" in args else set())


def _local(visitor: Visitor) -> Outcome:
    if visitor.client is None:
        return Outcome.DENIED
    client = ipaddress.ip_address(visitor.client)
    mapped = getattr(client, "ipv4_mapped", None) or client
    return _granted(mapped.is_loopback or visitor.client == visitor.server)


def _by_address(args: tuple[str, ...], client: str | None) -> Outcome | None:
    networks = [_network(text) for text in args]
    if not args or any(network is None for network in networks):
        return None
    known = [network for network in networks if network is not None]
    if client is None:
        # Somebody outside, at no address that a rule was written for.
        return _granted(any(network.prefixlen == 0 for network in known))
    address = ipaddress.ip_address(client)
    address = getattr(address, "ipv4_mapped", None) or address
    return _granted(any(address in network for network in known))


def _network(text: str) -> ipaddress.IPv4Network | ipaddress.IPv6Network | None:
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
