"""Who may, by configuration: access rules, their combination and what they decide.

Source: httpd 2.4, mod_authz_core ("Authorization Containers", "AuthMerging") and mod_authz_host.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from functools import cached_property
from itertools import product

from ecumen.engines.httpd.addresses import network
from ecumen.engines.httpd.callers import Callers
from ecumen.engines.httpd.expressions import ExpressionFacts, holds
from ecumen.engines.httpd.lexer import next_word, words
from ecumen.engines.httpd.methods import Limited
from ecumen.engines.httpd.modules import OWN
from ecumen.engines.sites import Proof, proof_of
from ecumen.engines.tree import Directive

# A line, and the methods that a section around it limits it to.
Scoped = tuple[Directive, Limited | None]
_CONTAINERS = {"<requireall": "all", "<requireany": "any", "<requirenone": "none"}
MOST_UNKNOWN = 6


class AccessOutcome(Enum):
    """What a rule says. LOGIN: denied, but signing in could change that."""

    GRANTED = "granted"
    DENIED = "denied"
    LOGIN = "login"
    NEUTRAL = "neutral"


@dataclass(frozen=True, slots=True)
class Judged:
    """Under what a visitor has been judged already. folder: of the file, as it was walked; None
    where the server keeps none in mind. address, file: for which sections were looked for.
    """

    settings: object
    folder: str | None
    address: str
    file: str


@dataclass(frozen=True, slots=True)
class Visitor:
    """Who asks. client: None is somebody outside whose address is not given.

    facts: what conditions may ask for. again: the server asks itself, or anew. callers: what
    addresses are called; None leaves rules by name open.
    """

    client: str | None
    server: str | None
    method: str
    signed_in: bool = False
    judged: Judged | None = None
    facts: ExpressionFacts | None = None
    again: bool = False
    callers: Callers | None = None


@dataclass(frozen=True, slots=True)
class AccessRule:
    """A single rule, or several under `all`, `any` or `none`."""

    directive: Directive
    kind: str
    args: tuple[str, ...] = ()
    negated: bool = False
    children: tuple[AccessRule, ...] = ()
    limited: Limited | None = None

    def holds_for(self, method: str) -> bool:
        return self.limited is None or self.limited.holds_for(method)

    def leaves(self) -> Iterator[AccessRule]:
        if self.kind in ("all", "any", "none"):
            for child in self.children:
                yield from child.leaves()
        else:
            yield self


@dataclass(frozen=True)
class Access:
    """The access rules of one section, or in their place `parts`: those of two that are joined, the
    earlier first. merging: how they are laid over earlier ones, "" where that is not said. joint:
    how the parts are joined, and, or. unread: not evaluated.
    """

    rules: tuple[AccessRule, ...]
    merging: str = ""
    unread: tuple[Directive, ...] = ()
    parts: tuple[Access, ...] = ()
    joint: str = ""

    @property
    def holds(self) -> bool:
        """Whether there is any rule."""
        return bool(self.rules or self.parts)

    def over(self, base: Access) -> Access:
        """A later section's rules upon an earlier one's: in their place, unless merging is on
        (mod_authz_core, merge_authz_core_dir_config).
        """
        unread = base.unread + self.unread
        if not self.holds and self.merging != "off":
            # What has no rule does not end the inheritance, but what it says of merging counts
            # where this one is laid over another.
            merging = self.merging or base.merging
            return replace(base, merging=merging, unread=unread) if base.holds else self
        if self.merging in ("", "off") or not base.holds:
            return self
        return Access((), self.merging, unread, (base, self), self.merging)

    @cached_property
    def lines(self) -> tuple[Proof, ...]:
        return tuple(proof_of(leaf.directive) for rule in self.rules for leaf in rule.leaves())

    def all_rules(self) -> tuple[AccessRule, ...]:
        return self.rules + tuple(rule for part in self.parts for rule in part.all_rules())


def is_access(name: str) -> bool:
    """Whether a directive (lower case) is an access rule or says how rules are merged."""
    return name in ("require", "authmerging") or name in _CONTAINERS


def access_of(directives: Sequence[Scoped]) -> Access:
    """The access rules of one section, in the order of the file."""
    merging = ""
    rules: list[AccessRule] = []
    unread: list[Directive] = []
    for directive, limited in directives:
        if directive.name.lower() == "authmerging":
            merging = directive.text.strip().lower()
        else:
            rule = _rule(directive, unread)
            rules.append(rule if limited is None else replace(rule, limited=limited))
    return Access(tuple(rules), merging, tuple(unread))


def _rule(directive: Directive, unread: list[Directive]) -> AccessRule:
    name = directive.name.lower()
    if name in _CONTAINERS:
        children = []
        for child in directive.children or ():
            if child.name.lower() == "require" or child.name.lower() in _CONTAINERS:
                children.append(_rule(child, unread))
            else:
                unread.append(child)
        return AccessRule(directive, _CONTAINERS[name], children=tuple(children))
    given = words(directive.text)
    negated = bool(given) and given[0].lower() == "not"
    given = given[1:] if negated else given
    kind = given[0].lower() if given else ""
    return AccessRule(directive, f"require {kind}", tuple(given[1:]), negated)


# Kinds of rules and the module that knows each.
_PROVIDERS = {
    **dict.fromkeys(("all", "env", "method", "expr"), "authz_core_module"),
    **dict.fromkeys(("ip", "host", "local", "forward-dns"), "authz_host_module"),
    **dict.fromkeys(("user", "valid-user"), "authz_user_module"),
    **dict.fromkeys(("group",), "authz_groupfile_module"),
    **dict.fromkeys(("file-owner",), "authz_owner_module"),
}


def access_fault(access: Access, modules: set[str]) -> tuple[Directive, str] | None:
    """The line that the server would refuse, and why; None where it takes them all."""
    for rule in access.rules:
        fault = _fault(rule, "any", modules)
        if fault is not None:
            return fault
    return None


def _fault(rule: AccessRule, within: str, modules: set[str]) -> tuple[Directive, str] | None:
    if rule.kind in ("all", "any", "none"):
        for child in rule.children:
            fault = _fault(child, "all" if rule.kind == "all" else "any", modules)
            if fault is not None:
                return fault
        if not rule.children:
            return rule.directive, "contains no authorization directives"
        if rule.kind == "none" and within == "any":
            return rule.directive, f"{rule.directive.name}> has no effect here"
        return None
    kind = rule.kind.removeprefix("require ")
    if _PROVIDERS.get(kind, "") not in modules and (kind in _PROVIDERS or modules <= OWN):
        return rule.directive, f"Unknown Authz provider: {kind}"
    if rule.negated and within == "any":
        return rule.directive, "negative Require directive has no effect here"
    if kind == "all" and (len(rule.args) != 1 or rule.args[0].lower() not in _ALL_WORDS):
        return rule.directive, "Argument for 'Require all' must be 'granted' or 'denied'"
    if kind == "ip" and any(network(word) is None for word in rule.args):
        return rule.directive, "an address appears to be invalid"
    return None


_ALL_WORDS = ("granted", "denied")


# --- deciding ---


def judge(access: Access, visitor: Visitor) -> tuple[AccessOutcome | None, tuple[Directive, ...]]:
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
    choices = (AccessOutcome.GRANTED, AccessOutcome.DENIED, AccessOutcome.LOGIN)
    # Whatever the unknown ones said, if the end is the same each time it is known.
    for guess in product(choices, repeat=len(unknown)):
        assumed = {id(leaf): value for leaf, value in zip(unknown, guess, strict=True)}
        outcomes.add(_whole(access, visitor, assumed))
    if len(outcomes) == 1:
        return outcomes.pop(), ()
    return None, tuple(leaf.directive for leaf in unknown)


def _whole(access: Access, visitor: Visitor, assumed: dict[int, AccessOutcome]) -> AccessOutcome:
    said = _said(access, visitor, assumed)
    return AccessOutcome.GRANTED if said is None else said


def _said(
    access: Access, visitor: Visitor, assumed: dict[int, AccessOutcome]
) -> AccessOutcome | None:
    """None where all rules are for other methods."""
    if not access.parts:
        return _own(access, visitor, assumed)
    said = [_said(part, visitor, assumed) for part in access.parts]
    if all(each is None for each in said):
        return None
    conjunction = access.joint == "and"
    # Rules for other methods only count as granted beside others, and for nothing in place of them.
    other = AccessOutcome.GRANTED if conjunction else AccessOutcome.NEUTRAL
    return _combined([other if each is None else each for each in said], conjunction=conjunction)


def _own(
    access: Access, visitor: Visitor, assumed: dict[int, AccessOutcome]
) -> AccessOutcome | None:
    """What the rules of one section say; None where they are all for other methods."""
    rules = [rule for rule in access.rules if rule.holds_for(visitor.method)]
    if not rules:
        return None
    return _combined([_judge(rule, visitor, assumed) for rule in rules], conjunction=False)


def _judge(rule: AccessRule, visitor: Visitor, assumed: dict[int, AccessOutcome]) -> AccessOutcome:
    if rule.kind in ("all", "any", "none"):
        outcomes = [_judge(child, visitor, assumed) for child in rule.children]
        outcome = _combined(outcomes, conjunction=rule.kind == "all")
        return _negated(outcome) if rule.kind == "none" else outcome
    known = _leaf(rule, visitor)
    outcome = assumed[id(rule)] if known is None else known
    return _negated(outcome) if rule.negated else outcome


def _combined(outcomes: list[AccessOutcome], *, conjunction: bool) -> AccessOutcome:
    """As mod_authz_core's apply_authz_sections() goes through the rules of a container."""
    ends = AccessOutcome.DENIED if conjunction else AccessOutcome.GRANTED
    result = AccessOutcome.NEUTRAL
    for outcome in outcomes:
        if outcome is ends:
            return outcome
        if outcome is AccessOutcome.NEUTRAL:
            continue
        could_sign_in = outcome is AccessOutcome.LOGIN and (
            result is not AccessOutcome.DENIED if conjunction else result is AccessOutcome.DENIED
        )
        if could_sign_in or result is AccessOutcome.NEUTRAL:
            result = outcome
    return result


def _negated(outcome: AccessOutcome) -> AccessOutcome:
    return AccessOutcome.DENIED if outcome is AccessOutcome.GRANTED else AccessOutcome.NEUTRAL


def _leaf(rule: AccessRule, visitor: Visitor) -> AccessOutcome | None:
    """A single rule, its negation left aside; None where it is not evaluated."""
    match rule.kind:
        case "require all":
            word = rule.args[0].lower() if len(rule.args) == 1 else ""
            return {"granted": AccessOutcome.GRANTED, "denied": AccessOutcome.DENIED}.get(word)
        case "require method":
            return _granted(visitor.method in _methods(rule.args))
        case "require ip":
            return _by_address(rule.args, visitor.client)
        case "require local":
            return _local(visitor)
        case "require host" | "require forward-dns":
            return _by_name(rule, visitor)
        case "require expr" if visitor.facts is not None:
            held = holds(expression_of(rule), visitor.facts)
            return None if held is None else _granted(held)
        case "require env" if visitor.facts is not None:
            held = _or(visitor.facts.mark(name) for name in rule.args)
            return None if held is None else _granted(held)
        case "require valid-user" | "require user" | "require group" if not visitor.signed_in:
            return AccessOutcome.LOGIN
    return None


def _or(each: Iterable[bool | None]) -> bool | None:
    """Whether any is so; None where that is not known."""
    found = set(each)
    return True if True in found else None if None in found else False


def expression_of(rule: AccessRule) -> str:
    """The condition of a rule as it is written; the server takes one pair of quotes off it."""
    text = rule.directive.text.strip()
    if rule.negated:
        text = text.partition(next_word(text)[0])[2].strip()
    text = text[len("expr") :].strip()
    return text[1:-1] if len(text) > 1 and text[0] == text[-1] == '"' else text


def _granted(yes: bool) -> AccessOutcome:
    return AccessOutcome.GRANTED if yes else AccessOutcome.DENIED


def _methods(args: tuple[str, ...]) -> set[str]:
    """A rule for GET holds for HEAD too."""
    return set(args) | ({"HEAD"} if "GET" in args else set())


def _local(visitor: Visitor) -> AccessOutcome:
    if visitor.client is None:
        return AccessOutcome.DENIED
    client = ipaddress.ip_address(visitor.client)
    # An address of IPv4 that came over a socket for both is one of IPv4 to the server
    # (mod_authz_host).
    mapped = getattr(client, "ipv4_mapped", None) or client
    return _granted(mapped.is_loopback or visitor.client == visitor.server)


def _by_name(rule: AccessRule, visitor: Visitor) -> AccessOutcome | None:
    """By what the visitor's address is called, or by what leads to it; somebody outside whose
    address is not given has no name that a rule was written for.
    """
    client, callers = visitor.client, visitor.callers
    if client is None:
        return AccessOutcome.DENIED
    if callers is None:
        return None
    forwards = rule.kind == "require forward-dns"
    held = _or(
        callers.leads(word, client) if forwards else callers.within(client, word)
        for word in rule.args
    )
    return None if held is None else _granted(held)


def _by_address(args: tuple[str, ...], client: str | None) -> AccessOutcome | None:
    networks = [network(text) for text in args]
    if not args or any(known is None for known in networks):
        return None
    known = [each for each in networks if each is not None]
    if client is None:
        # Somebody outside, at no address that a rule was written for.
        return _granted(any(each.everywhere for each in known))
    return _granted(any(client in each for each in known))
