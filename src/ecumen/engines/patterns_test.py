"""Patterns: what is compiled means the same to the engines; the rest is refused."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ecumen.engines.patterns import compiled, found, shell_pattern


@pytest.mark.parametrize(
    "pattern",
    ["(a+)+$", "(a*)*b", "(x+x+)+y", "(?R)", "[[:alpha:]]", r"\p{L}", "a++", "(?>a)", "("],
)
def test_what_could_differ_or_never_end_is_refused(pattern: str) -> None:
    assert compiled(pattern) is None


def test_a_dollar_is_the_very_end() -> None:
    pattern = compiled(r"\.txt$")
    assert pattern is not None
    assert found(pattern, "/a.txt")
    assert not found(pattern, "/a.txt\n")
    literal = compiled(r"[$]x\$")
    assert literal is not None
    assert found(literal, "$x$")


@given(st.text(max_size=40))
def test_any_text_is_a_pattern_or_none(text: str) -> None:
    compiled(text)
    shell_pattern(text, slashes_apart=True)


def test_shell_patterns_stop_at_slashes_where_they_should() -> None:
    apart = shell_pattern("/home/*/web", slashes_apart=True)
    across = shell_pattern("*.test", slashes_apart=False, ignore_case=True)
    assert apart is not None
    assert across is not None
    assert apart.match("/home/ines/web")
    assert not apart.match("/home/a/b/web")
    assert across.match("A.B.TEST")
    assert not across.match("test")
