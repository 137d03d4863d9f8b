"""Who may, by the older rules: an order, lists of who is let in and kept out, and whether any or
all of the two kinds of rules must agree.

Source: httpd 2.4, mod_access_compat; measured.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

from ecumen.engines.httpd.addresses import looks_like_one, network
from ecumen.engines.httpd.callers import Callers
from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.methods import Limited
from ecumen.engines.sites import Proof, proof_of
from ecumen.engines.tree import Directive

# Whether a variable is set; None where that is not known.
Marked = Callable[[str], bool | None]
_ORDERS = ("allow,deny", "deny,allow", "mutual-failure")


@dataclass(frozen=True, slots=True)
class _Line:
    word: str
    limited: Limited | None
    directive: Directive

    def holds_for(self, method: str) -> bool:
        return self.limited is None or self.limited.holds_for(method)


@dataclass(frozen=True, slots=True)
class Compat:
    """The lines of one section; those of a deeper section stand in their place as a whole."""

    orders: tuple[_Line, ...] = ()
    allows: tuple[_Line, ...] = ()
    denies: tuple[_Line, ...] = ()
    satisfies: tuple[_Line, ...] = ()
    places: tuple[Directive, ...] = field(default=())

    @property
    def lines(self) -> tuple[Proof, ...]:
        return tuple(proof_of(directive) for directive in self.places)

    def any_will_do(self, method: str) -> bool:
        """Whether one of the two kinds of rules is enough."""
        return self._last(self.satisfies, method) == "any"

    def _last(self, lines: tuple[_Line, ...], method: str) -> str | None:
        return next((line.word for line in reversed(lines) if line.holds_for(method)), None)

    def allowed(
        self,
        client: str | None,
        method: str,
        mark: Marked | None,
        callers: Callers | None,
    ) -> bool | None:
        """Whether this visitor is let in; None where that depends on what is not known."""
        order = self._last(self.orders, method) or "deny,allow"

        def any_fits(lines: tuple[_Line, ...]) -> bool | None:
            held = [line for line in lines if line.holds_for(method)]
            known = [_fits(line.word, client, mark, callers) for line in held]
            return True if True in known else None if None in known else False

        let_in, kept_out = any_fits(self.allows), any_fits(self.denies)
        if order == "deny,allow":
            return _or(let_in, _not(kept_out))
        return _and(let_in, _not(kept_out))


def is_compat(name: str) -> bool:
    """Whether a directive (lower case) belongs to the older rules."""
    return name in ("order", "allow", "deny", "satisfy")


def with_line(base: Compat, directive: Directive, limited: Limited | None) -> Compat | None:
    """The section with one line more; None where the server would refuse the line."""
    given = words(directive.text)
    name = directive.name.lower()
    places = (*base.places, directive)
    if name in ("order", "satisfy"):
        word = given[0].lower() if len(given) == 1 else ""
        line = _Line(word, limited, directive)
        if name == "order" and word in _ORDERS:
            return replace(base, orders=(*base.orders, line), places=places)
        if name == "satisfy" and word in ("all", "any"):
            return replace(base, satisfies=(*base.satisfies, line), places=places)
        return None
    if len(given) < 2 or given[0].lower() != "from" or any("#" in word for word in given):
        return None
    for word in given[1:]:
        if ("/" in word or looks_like_one(word)) and network(word) is None:
            return None
    lines = tuple(_Line(word, limited, directive) for word in given[1:])
    if name == "allow":
        return replace(base, allows=base.allows + lines, places=places)
    return replace(base, denies=base.denies + lines, places=places)


def _fits(
    word: str, client: str | None, mark: Marked | None, callers: Callers | None
) -> bool | None:
    lowered = word.lower()
    if lowered == "all":
        return True
    if lowered.startswith("env=") and mark is None:
        return None
    if lowered.startswith("env=") and mark is not None:
        return _not(mark(word[5:])) if word[4:5] == "!" else mark(word[4:])
    known = network(word)
    if known is None:
        if client is None:
            return False
        return None if callers is None else callers.within(client, word)
    if client is None:
        return known.everywhere
    return client in known


def _not(one: bool | None) -> bool | None:
    return None if one is None else not one


def _or(one: bool | None, other: bool | None) -> bool | None:
    if one or other:
        return True
    return None if one is None or other is None else False


def _and(one: bool | None, other: bool | None) -> bool | None:
    return _not(_or(_not(one), _not(other)))
