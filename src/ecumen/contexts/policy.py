"""What the policy lets a domain do, with its switches as they are.

The policy is read from what its public tools print: sesearch(1) for the domain's rules, seinfo(1)
for types with their attributes, switches and ports. A permission is held where any rule that is in
force gives it; a rule may speak of an attribute, which stands for all its types.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from ecumen.errors import EcumenError
from ecumen.survey import PolicyTexts


class PolicyError(EcumenError):
    """The tools printed something that cannot be understood; says which line."""


@dataclass(frozen=True, slots=True)
class PolicyRule:
    """One rule of the domain. target: a type or an attribute. condition: "" for none.

    when: the outcome of the condition under which the rule is in force.
    """

    target: str
    kind: str
    perms: frozenset[str]
    condition: str
    when: bool
    text: str


@dataclass(frozen=True, slots=True)
class Leave:
    """allowed: None where the policy does not know the type. rule: that gives it, else one that
    would under other switches. switches: those of which the answer depends on that rule.
    """

    allowed: bool | None
    why: str
    rule: str = ""
    switches: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Port:
    """A range of ports with its type."""

    protocol: str
    low: int
    high: int
    type: str


_RULE = re.compile(
    r"allow (?P<source>\S+) (?P<target>\S+):(?P<kind>\S+) "
    r"(?:\{ (?P<many>[^}]*) \}|(?P<one>\S+));(?: \[ (?P<condition>.*) \]:(?P<when>True|False))?"
)
_TYPE = re.compile(r"type (\S+?)(?: alias (?:\{ ([^}]*) \}|(\S+?)))?((?:, \S+?)*);")
_PORT = re.compile(r"portcon (\S+) (\d+)(?:-(\d+))? \S+?:\S+?:([^:\s]+)")
_WORDS = re.compile(r"\s*(&&|\|\||==|!=|!|\^|\(|\)|[A-Za-z_]\w*)")


class Policy:
    """One domain of one policy. Raises PolicyError for texts that are not the tools'."""

    def __init__(self, texts: PolicyTexts) -> None:
        self.domain = texts.domain
        self._types, self._names = _types(texts.types)
        self.switches: dict[str, bool] = dict(_switches(texts.switches)) | dict(texts.active)
        self.ports: Sequence[Port] = tuple(_ports(texts.ports))
        self.is_permissive = self.domain in texts.permissive.split()
        self._rules: dict[tuple[str, str], list[PolicyRule]] = {}
        for rule in _rules(texts.rules):
            self._rules.setdefault((rule.target, rule.kind), []).append(rule)
        self._conditions: dict[str, _Condition] = {}

    @cached_property
    def minds_levels(self) -> bool:
        """Whether levels and categories bear on what the domain may (the reference policy's
        constraints: on domains of this attribute alone).
        """
        return "mcs_constrained_type" in self._types.get(self.domain, ())

    def knows(self, type_: str) -> bool:
        """Whether there is such a type, or one of which this is another name."""
        return type_ in self._names

    @property
    def types(self) -> Sequence[str]:
        return tuple(self._types)

    def rules_for(self, type_: str, kind: str) -> Iterator[PolicyRule]:
        """Rules on a type of object, those on its attributes too."""
        name = self._names.get(type_)
        if name is None:
            return
        for target in (name, *self._types[name]):
            yield from self._rules.get((target, kind), ())

    def allowed(
        self, type_: str, kind: str, perm: str, switches: Mapping[str, bool] | None = None
    ) -> Leave:
        """May the domain have this permission on an object of the type and class?

        switches: where they differ from how they are.
        """
        if not self.knows(type_):
            return Leave(None, f"the policy has no type {type_}")
        state = self.switches if not switches else {**self.switches, **switches}
        closed: PolicyRule | None = None
        unclear: PolicyRule | None = None
        for rule in self.rules_for(type_, kind):
            if perm not in rule.perms:
                continue
            # Another rule may give the same without a doubt, so this one waits.
            if rule.condition and self._condition(rule.condition).ambiguous:
                unclear = rule
                continue
            if self._in_force(rule, state):
                return Leave(True, f"by the rule {rule.text}", rule.text, self._named(rule))
            closed = closed or rule
        # Rules first: a domain that is only warned is told the rule that would let it, where one
        # does.
        if self.is_permissive:
            return Leave(True, f"{self.domain} is permissive: it is only warned")
        if unclear is not None:
            return Leave(None, f"how its condition is grouped is not told: {unclear.text}")
        if closed is not None:
            why = f"only with other switches: {closed.text}"
            return Leave(False, why, closed.text, self._named(closed))
        return Leave(False, f"no rule gives {self.domain} {perm} on {kind} {type_}")

    def opened_by(self, type_: str, kind: str, perm: str) -> list[dict[str, bool]]:
        """What could be turned so that it is allowed: for each rule the switches that then differ
        from how they are, the fewest first. Only conditions without a choice are worked out.
        """
        found: list[dict[str, bool]] = []
        for rule in self.rules_for(type_, kind):
            if perm not in rule.perms or not rule.condition:
                continue
            condition = self._condition(rule.condition)
            wanted = None if condition.ambiguous else condition.wanted(rule.when)
            if wanted is None:
                continue
            turned = {name: on for name, on in wanted.items() if self.switches.get(name) != on}
            if turned not in found:
                found.append(turned)
        return sorted(found, key=self.preference)

    def preference(self, turned: Mapping[str, bool]) -> tuple[int, int, list[str]]:
        """Few switches before many, and those of the domain's own before others."""
        own = self.domain.partition("_")[0]
        others = sum(not name.startswith(own) for name in turned)
        return len(turned), others, sorted(turned)

    def port_type(self, protocol: str, port: int) -> str | None:
        """The type of a port: of the ranges that hold it the first one, as the policy orders them.

        Single ports and narrow ranges stand in front of wide ones in what the kernel holds.
        """
        inside = [
            each
            for each in self.ports
            if each.protocol == protocol and each.low <= port <= each.high
        ]
        return min(inside, key=lambda each: each.high - each.low).type if inside else None

    @cached_property
    def switches_used(self) -> frozenset[str]:
        """The switches on which any rule of the domain depends."""
        return frozenset(
            name for rules in self._rules.values() for rule in rules for name in self._named(rule)
        )

    def _named(self, rule: PolicyRule) -> tuple[str, ...]:
        return self._condition(rule.condition).names if rule.condition else ()

    def _in_force(self, rule: PolicyRule, switches: Mapping[str, bool]) -> bool:
        if not rule.condition:
            return True
        return self._condition(rule.condition).holds(switches) == rule.when

    def _condition(self, text: str) -> _Condition:
        known = self._conditions.get(text)
        if known is None:
            known = self._conditions[text] = _Condition(text)
        return known


# --- conditions ---

_State = Mapping[str, bool]


class _Condition:
    """An expression over switches: `!`, `&&`, `^`, `||`, `==`, `!=` and brackets."""

    _LEVELS = (("||",), ("^",), ("&&",), ("==", "!="))

    def __init__(self, text: str) -> None:
        self.text = text
        self._words = _WORDS.findall(text)
        if "".join(self._words) != re.sub(r"\s", "", text):
            raise PolicyError(f"the condition {text!r} cannot be understood")
        self.names = tuple(dict.fromkeys(w for w in self._words if w[0].isalpha() or w[0] == "_"))
        self._at = 0
        self._eval = self._level(0)
        if self._at != len(self._words):
            raise PolicyError(f"the condition {text!r} cannot be understood")

    def holds(self, state: _State) -> bool:
        return self._eval(state)

    @cached_property
    def ambiguous(self) -> bool:
        """Whether different operators stand side by side: the tool that prints the rules leaves out
        the brackets around them (sesearch; measured beside the kernel's own answers).
        """
        levels: list[set[str]] = [set()]
        for word in self._words:
            if word == "(":
                levels.append(set())
            elif word == ")":
                levels.pop()
            elif word in ("||", "^", "&&", "==", "!="):
                levels[-1].add(word)
                if len(levels[-1]) > 1:
                    return True
        return False

    def wanted(self, outcome: bool) -> dict[str, bool] | None:
        """The one state of its switches that gives this outcome, where it is a plain chain."""
        joined = {word for word in self._words if word in ("||", "^", "==", "!=")}
        if joined or (not outcome and "&&" in self._words):
            return None
        found: dict[str, bool] = {}
        negated = False
        for word in self._words:
            if word == "!":
                negated = not negated
            elif word in self.names:
                found[word] = negated != outcome
                negated = False
            elif word == "(" and negated:
                return None
        return found

    def _level(self, level: int) -> Callable[[_State], bool]:
        if level == len(self._LEVELS):
            return self._single()
        left = self._level(level + 1)
        while self._at < len(self._words) and self._words[self._at] in self._LEVELS[level]:
            operator = self._words[self._at]
            self._at += 1
            left = _joined(operator, left, self._level(level + 1))
        return left

    def _single(self) -> Callable[[_State], bool]:
        if self._at >= len(self._words):
            raise PolicyError(f"the condition {self.text!r} ends too early")
        word = self._words[self._at]
        self._at += 1
        if word == "!":
            inner = self._single()
            return lambda state: not inner(state)
        if word == "(":
            inner = self._level(0)
            if self._at >= len(self._words) or self._words[self._at] != ")":
                raise PolicyError(f"the condition {self.text!r} has an open bracket")
            self._at += 1
            return inner
        return lambda state: state.get(word, False)


def _joined(
    operator: str, left: Callable[[_State], bool], right: Callable[[_State], bool]
) -> Callable[[_State], bool]:
    match operator:
        case "&&":
            return lambda state: left(state) and right(state)
        case "||":
            return lambda state: left(state) or right(state)
        case "==":
            return lambda state: left(state) == right(state)
    return lambda state: left(state) != right(state)


# --- reading what the tools print ---


def _rules(text: str) -> Iterator[PolicyRule]:
    for number, line in enumerate(text.splitlines(), 1):
        body = line.strip()
        if not body.startswith("allow "):
            # Extended permissions and other kinds of rules give nothing of themselves.
            continue
        match = _RULE.fullmatch(body)
        if match is None:
            raise PolicyError(f"rule {number} cannot be understood: {body[:100]}")
        perms = frozenset((match["many"] or match["one"]).split())
        condition = match["condition"] or ""
        # `self` is the domain's own type, as its processes and what they make have it.
        target = match["source"] if match["target"] == "self" else match["target"]
        yield PolicyRule(target, match["kind"], perms, condition, match["when"] != "False", body)


def _types(text: str) -> tuple[dict[str, tuple[str, ...]], dict[str, str]]:
    """Types with their attributes, and every name of a type with its proper one."""
    types: dict[str, tuple[str, ...]] = {}
    names: dict[str, str] = {}
    for line in text.splitlines():
        match = _TYPE.fullmatch(line.strip())
        if match is None:
            continue
        name = match[1]
        types[name] = tuple(match[4].replace(",", " ").split())
        for other in (name, *(match[2] or match[3] or "").split()):
            names[other] = name
    if not types:
        raise PolicyError("the list of types holds none")
    return types, names


def _switches(text: str) -> Iterator[tuple[str, bool]]:
    for match in re.finditer(r"bool (\w+) (true|false);", text):
        yield match[1], match[2] == "true"


def _ports(text: str) -> Iterator[Port]:
    for match in _PORT.finditer(text):
        low = int(match[2])
        yield Port(match[1], low, int(match[3] or low), match[4])


# --- batch ---


def leave_of_all(
    policy: Policy, rows: Iterator[Mapping[str, object]]
) -> Iterator[dict[str, object]]:
    """Answers rows of the batch format, in their order. A row that cannot be read is unknown."""
    for row in rows:
        answer: dict[str, object] = {"id": row.get("id"), "allowed": None}
        asked = [row.get(key) for key in ("type", "class", "perm")]
        switches = row.get("switches") or {}
        texts = [each for each in asked if isinstance(each, str)]
        if len(texts) != 3:
            yield answer | {"why": "type, class and perm must be texts"}
        elif not isinstance(switches, dict) or not all(
            isinstance(on, bool) for on in switches.values()
        ):
            yield answer | {"why": "switches must be names with true or false"}
        elif unknown := [name for name in switches if name not in policy.switches]:
            yield answer | {"why": f"the policy has no switch {unknown[0]}"}
        else:
            found = policy.allowed(texts[0], texts[1], texts[2], switches)
            yield answer | {"allowed": found.allowed, "why": found.why}
