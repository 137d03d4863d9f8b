"""Access rules and their combinations."""

import pytest

from ecumen.engines.httpd.access import AccessOutcome, Scoped, Visitor, access_of, judge
from ecumen.engines.httpd.lexer import logical_lines, next_word
from ecumen.engines.tree import Directive, Place


def rules(text: str) -> list[Directive]:
    """Directives of a section, as the reader gives them."""
    stack: list[tuple[str, str, list[Directive]]] = [("", "", [])]
    for number, line in logical_lines(text.replace(";", "\n")):
        name, rest = next_word(line)
        if name.startswith("</"):
            title, argument, children = stack.pop()
            place = Place("/c", number)
            stack[-1][2].append(Directive(title, argument, place, tuple(children)))
        elif name.startswith("<"):
            stack.append((name.rstrip(">"), rest.rstrip(">"), []))
        else:
            stack[-1][2].append(Directive(name, rest, Place("/c", number)))
    return stack[0][2]


def scoped(text: str) -> list[Scoped]:
    return [(directive, None) for directive in rules(text)]


def outcome(
    text: str, client: str | None = "127.0.0.1", method: str = "GET"
) -> AccessOutcome | None:
    visitor = Visitor(client, "192.0.2.10", method)
    return judge(access_of(scoped(text)), visitor)[0]


@pytest.mark.parametrize(
    ("text", "client", "expected"),
    [
        ("Require all granted", None, AccessOutcome.GRANTED),
        ("Require all denied", "127.0.0.1", AccessOutcome.DENIED),
        ("Require local", "127.0.0.9", AccessOutcome.GRANTED),
        ("Require local", "::1", AccessOutcome.GRANTED),
        ("Require local", "192.0.2.10", AccessOutcome.GRANTED),
        ("Require local", "192.0.2.11", AccessOutcome.DENIED),
        ("Require local", None, AccessOutcome.DENIED),
        ("Require ip 198.51.100", "198.51.100.77", AccessOutcome.GRANTED),
        ("Require ip 198.51.100.0/25", "198.51.100.200", AccessOutcome.DENIED),
        ("Require ip 198.51.0.0/255.255.0.0", "198.51.1.1", AccessOutcome.GRANTED),
        ("Require ip 2001:db8::/32", "2001:db8::5", AccessOutcome.GRANTED),
        ("Require ip 192.0.2.1", None, AccessOutcome.DENIED),
        ("Require ip 0.0.0.0/0.0.0.0", None, AccessOutcome.GRANTED),
        ("Require ip 192.0.2.1; Require local", "192.0.2.1", AccessOutcome.GRANTED),
        ("<RequireAll>; Require local; Require ip 192.0.2.1; </RequireAll>", "127.0.0.1",
         AccessOutcome.DENIED),
        ("<RequireAll>; Require all granted; Require not ip 127.0.0.1; </RequireAll>", "127.0.0.1",
         AccessOutcome.DENIED),
        ("<RequireAll>; Require all granted; Require not ip 127.0.0.1; </RequireAll>", "192.0.2.1",
         AccessOutcome.GRANTED),
        ("<RequireNone>; Require ip 127.0.0.1; </RequireNone>", "192.0.2.1", AccessOutcome.NEUTRAL),
        ("Require valid-user", "192.0.2.1", AccessOutcome.LOGIN),
        ("Require valid-user; Require ip 192.0.2.1", "192.0.2.9", AccessOutcome.LOGIN),
        ("<RequireAll>; Require valid-user; Require ip 192.0.2.1; </RequireAll>", "192.0.2.9",
         AccessOutcome.DENIED),
        ("Require host friend.example", "192.0.2.1", None),
        ("Require host friend.example; Require all granted", "192.0.2.1", AccessOutcome.GRANTED),
        ("<RequireAll>; Require all denied; Require env open; </RequireAll>", "192.0.2.1",
         AccessOutcome.DENIED),
    ],
)  # fmt: skip
def test_who_may(text: str, client: str | None, expected: AccessOutcome | None) -> None:
    assert outcome(text, client) is expected


def test_a_rule_for_get_lets_head_in() -> None:
    assert outcome("Require method GET", method="HEAD") is AccessOutcome.GRANTED
    assert outcome("Require method GET", method="POST") is AccessOutcome.DENIED


def test_later_rules_replace_earlier_ones_unless_they_are_merged() -> None:
    visitor = Visitor("127.0.0.1", None, "GET")
    closed = access_of(scoped("Require all denied"))
    plain = access_of(scoped("Require all granted"))
    both = access_of(scoped("AuthMerging And; Require all granted"))
    either = access_of(scoped("AuthMerging Or; Require local"))
    assert judge(plain.over(closed), visitor)[0] is AccessOutcome.GRANTED
    assert judge(both.over(closed), visitor)[0] is AccessOutcome.DENIED
    assert judge(either.over(closed), visitor)[0] is AccessOutcome.GRANTED


def test_what_is_not_evaluated_is_named_with_its_line() -> None:
    named = judge(
        access_of(scoped("Require all denied; Require expr true")), Visitor(None, None, "GET")
    )
    assert named[0] is None
    assert [directive.place.line for directive in named[1]] == [2]
