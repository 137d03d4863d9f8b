"""Rules as written: what is taken, and what the server refuses."""

from __future__ import annotations

import pytest

from ecumen.engines.httpd.rewriting import (
    Action,
    RewriteRule,
    RewriteSubject,
    RuleError,
    apply,
    read_rule,
)
from ecumen.engines.httpd.rewriting.rules import Rewriting, read_condition
from ecumen.engines.tree import Directive, Place
from ecumen.survey import Entry


def rule(text: str, *conditions: str) -> RewriteRule:
    asked = [read_condition(Directive("RewriteCond", line, Place("/c", 1))) for line in conditions]
    return read_rule(Directive("RewriteRule", text, Place("/c", 2)), tuple(asked))


def subject(path: str, args: str | None = None, folder: str | None = None) -> RewriteSubject:
    def look(path: str, follow: bool) -> Entry | None:
        return None

    def variable(name: str, now: RewriteSubject) -> str:
        return {"QUERY_STRING": now.args or "", "HTTP_HOST": "a.test"}[name]

    return RewriteSubject(
        path, path, args, "", folder, look, variable, "http://a.test", lambda n, p: False,
        lambda name, key: None,
    )  # fmt: skip


@pytest.mark.parametrize(
    ("text", "path", "made", "args"),
    [
        ("^/old/(.*)$ /new/$1", "/old/x", "/new/x", None),
        ("^/old$ /new?a=1", "/old", "/new", "a=1"),
        ("^/old$ /new?a=1 [QSA]", "/old", "/new", "a=1&q=2"),
        ("^/old$ /new?", "/old", "/new", None),
        ("^/old$ /new [QSD]", "/old", "/new", None),
        ("^/(a|b)/?$ /x/$1 [NC]", "/A/", "/x/A", "q=2"),
        ("^/a\\ b$ /c", "/a b", "/c", "q=2"),
        ('"^/a b$" "/c d"', "/a b", "/c d", "q=2"),
        ("!^/keep /gone", "/other", "/gone", "q=2"),
        ("^/(.*)$ /b/$1 [B]", "/a b&c", "/b/a+b%26c", "q=2"),
    ],
)
def test_what_a_rule_makes_of_an_address(text: str, path: str, made: str, args: str | None) -> None:
    query = "q=2" if args is None or "q=2" in args else None
    now = subject(path, query)
    result = apply([rule(text)], now)
    assert result.action is Action.CHANGED
    assert now.filename == made
    if args is not None or text.endswith(("?", "[QSD]")):
        assert now.args == args


def test_conditions_are_all_asked_unless_one_of_several_is_enough() -> None:
    both = rule("^ /x", "%{HTTP_HOST} ^b", "%{QUERY_STRING} q")
    either = rule("^ /x", "%{HTTP_HOST} ^b [OR]", "%{QUERY_STRING} q")
    assert apply([both], subject("/a", "q=1")).action is Action.NONE
    assert apply([either], subject("/a", "q=1")).action is Action.CHANGED


def test_a_rule_that_goes_round_without_end_ends_with_an_error() -> None:
    result = apply([rule("^(.*)$ $1x [N=50]")], subject("/a"))
    assert (result.action, result.status) == (Action.STATUS, 500)


@pytest.mark.parametrize(
    "text", ["^/a", "^/a /b [R=301, L]", "^/a /b [Q]", "^/a /b [R=999]", "^/a /b R=301"]
)
def test_what_the_server_refuses_is_refused(text: str) -> None:
    with pytest.raises(RuleError):
        rule(text)


def test_a_deeper_folder_has_its_own_rules_alone_unless_it_inherits() -> None:
    upper, own = rule("^u /u"), rule("^o /o")
    base = Rewriting(True, rules=(upper,), folder="/a/")
    assert Rewriting(rules=(own,), folder="/a/b/").over(base).rules == (own,)
    inheriting = Rewriting(options=frozenset({"inherit"}), rules=(own,), folder="/a/b/")
    assert inheriting.over(base).rules == (own, upper)


@pytest.mark.parametrize("flag", ["S=²", "N=²"])
def test_a_raised_digit_is_no_number(flag: str) -> None:
    """What an owner writes must not stop the reading: "²" is a digit to Unicode, no number."""
    assert rule(f"^a$ /b [{flag}]").pattern == "^a$"
