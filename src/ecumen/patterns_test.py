"""Patterns: what is compiled means the same to the engines; the rest is refused."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ecumen.patterns import TooCostly, compiled, shell_pattern


@pytest.mark.parametrize(
    "pattern",
    ["(a+)+$", "(a*)*b", "(x+x+)+y", "(?R)", "[[:graph:]]", r"\p{L}", "a++", "(?>a)", "("],
)
def test_what_could_differ_or_never_end_is_refused(pattern: str) -> None:
    assert compiled(pattern) is None


def test_a_dollar_is_the_very_end() -> None:
    pattern = compiled(r"\.txt$")
    assert pattern is not None
    assert pattern.fits("/a.txt")
    assert not pattern.fits("/a.txt\n")
    literal = compiled(r"[$]x\$")
    assert literal is not None
    assert literal.fits("$x$")


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


def test_many_repeats_on_a_long_text_are_not_tried() -> None:
    pattern = compiled("^.*a.*b.*c.*d$")
    assert pattern is not None
    assert pattern.fits("/a/b/c/d")
    assert pattern.fits("a" * 8000) is None
    with pytest.raises(TooCostly):
        pattern.search("a" * 8000)


def test_captures_by_number_and_by_name() -> None:
    pattern = compiled(r"^(?<site>[a-z]+)-([[:digit:]]+)(x)?$")
    assert pattern is not None
    hit = pattern.search("tide-12")
    assert hit is not None
    assert [hit.group(number) for number in range(5)] == ["tide-12", "tide", "12", "", ""]
    assert hit.named["site"] == "tide"
