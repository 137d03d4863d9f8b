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
from ecumen.patterns.plain import plain


@pytest.mark.parametrize(
    "pattern",
    ["(a+)+$", "(a*)*b", "(x+x+)+y", "(a|a|aa)*$", "(a{0,20}){0,20}$", "((a|b){2})+", "(?R)",
     "[[:graph:]]", r"\p{L}", "a++", "(?>a)", "("],
)  # fmt: skip
def test_without_the_library_what_could_differ_or_never_end_is_refused(pattern: str) -> None:
    assert plain(pattern, ignore_case=False, dollar_only_end=True, dot_all=True) is None


@pytest.mark.parametrize(
    "pattern", ["^/a(b|c)$", "^/old/(.*)$", "[^/]+x.html$", "(?i)^/x", "a?b+c*"]
)
@given(text=st.text(alphabet="/abc.htmlX1\n", max_size=30))
def test_without_the_library_what_is_evaluated_means_the_same(pattern: str, text: str) -> None:
    alone = plain(pattern, ignore_case=False, dollar_only_end=True, dot_all=True)
    library = compiled(pattern)
    assert alone is not None
    assert library is not None
    found = alone.match(text.encode())
    assert (found is not None) == library.fits(text)
    hit = library.search(text)
    assert (found.span() if found else None) == (hit.span if hit else None)


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
