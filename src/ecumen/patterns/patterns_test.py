"""Patterns: what is compiled means the same to the engines; the rest is refused."""

import ctypes
from collections.abc import Callable, Iterator

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ecumen import patterns
from ecumen.patterns import (
    Apart,
    AtLimit,
    PatternFailsError,
    TooCostly,
    compiled,
    pcre,
    set_apart,
    shell_pattern,
)
from ecumen.patterns.driven import LONGEST_SAMPLE, MOST, drivers


@pytest.mark.parametrize(
    "pattern",
    ["(a+)+$", "(a*)*b", "(x+x+)+y", "^(a|a|aa)*$", "^/shop/([a-z]+[.]?)+$", r"^(\w+\d?)*;",
     "^(?:[[:alpha:]]|[x-z])*$", "(?i)^/(?<name>(?:b{2}|bb)*)c"],
)  # fmt: skip
def test_a_pattern_that_can_be_driven_is_by_one_of_the_texts(pattern: str) -> None:
    code = pcre.compiled(pattern.encode(), 0)
    assert code is not None
    found = [pcre.as_the_engines_do(code.source, 0, text.encode()) for text in drivers(pattern)]
    assert any(outcome.kind is pcre.MatchKind.LIMIT for outcome in found)


@pytest.mark.parametrize(
    "pattern", ["^/a(b|c)$", "[^/]+x.html$", "a?b+c*", r"^/\Q(*)\E/x$", "a{3}"]
)
def test_a_pattern_that_cannot_be_driven_is_not(pattern: str) -> None:
    texts = list(drivers(pattern))
    assert all(pcre.as_the_engines_do(pattern.encode(), 0, t.encode()) != pcre.LIMIT for t in texts)


@given(st.text(alphabet="ab(|)*+?{,}2[]^$\\dQE:=<!>P'.#-", max_size=40) | st.text(max_size=60))
def test_any_text_has_few_drivers(pattern: str) -> None:
    found = list(drivers(pattern))
    assert len(found) <= MOST
    assert all(len(text) < 500 * LONGEST_SAMPLE for text in found)


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


@pytest.fixture
def apart() -> Iterator[Callable[[Apart | None], None]]:
    """Where matching goes on, for one test."""
    before = patterns._apart
    yield set_apart
    set_apart(before)


def test_what_takes_too_long_here_is_given_up_unless_it_may_go_on_elsewhere(
    apart: Callable[[Apart | None], None],
) -> None:
    pattern = compiled("^(a|a|aa)*$")
    assert pattern is not None
    assert pattern.fits("a" * 400)
    apart(None)
    with pytest.raises(TooCostly):
        pattern.search("a" * 40 + "!")
    apart(lambda *asked: pcre.LIMIT)
    assert pattern.search("a" * 40 + "!") is None
    fails = compiled("^(a|a|aa)*$", at_limit=AtLimit.FAILS)
    assert fails is not None
    with pytest.raises(PatternFailsError):
        fails.search("a" * 40 + "!")


def test_a_text_that_is_no_utf8_is_no_match_or_fails() -> None:
    pattern = compiled("(*UTF8)^/x.$")
    fails = compiled("(*UTF8)^/x.$", at_limit=AtLimit.FAILS)
    assert pattern is not None
    assert fails is not None
    assert pattern.fits("/xé")
    assert pattern.fits("/x\udcff") is False
    with pytest.raises(PatternFailsError):
        fails.search("/x\udcff")


def test_a_star_that_could_be_driven_is_not() -> None:
    pattern = shell_pattern("*a" * 30 + "b", slashes_apart=False)
    assert pattern is not None
    assert not pattern.match("a" * 5000)


@given(st.text(alphabet="ab*?/", max_size=12), st.text(alphabet="ab/", max_size=12), st.booleans())
def test_shell_patterns_match_as_the_c_library_does(
    pattern: str, text: str, slashes_apart: bool
) -> None:
    own = shell_pattern(pattern, slashes_apart=slashes_apart)
    assert own is not None
    libc = ctypes.CDLL(None).fnmatch(pattern.encode(), text.encode(), int(slashes_apart))
    assert bool(own.match(text)) == (libc == 0)


def test_captures_by_number_and_by_name() -> None:
    pattern = compiled(r"^(?<site>[a-z]+)-([[:digit:]]+)(x)?$")
    assert pattern is not None
    hit = pattern.search("tide-12")
    assert hit is not None
    assert [hit.group(number) for number in range(5)] == ["tide-12", "tide", "12", "", ""]
    assert hit.named["site"] == "tide"
