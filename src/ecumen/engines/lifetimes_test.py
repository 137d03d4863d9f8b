"""How long copies are kept: as stated, asked each time, never, or guessed."""

from __future__ import annotations

import pytest

from ecumen.engines.lifetimes import MAX, by_header, guessed, shortly, spelled_out
from ecumen.survey import Entry, Kind

NOW = 1_000_000_000
FILE = Entry("/a", Kind.FILE, 0o644, 0, 0, mtime=(NOW - 1000) * 1_000_000_000)


@pytest.mark.parametrize(
    ("text", "kind", "seconds"),
    [
        ("max-age=600", "stated", 600),
        ("public, Max-Age=600", "stated", 600),
        ("no-cache", "asks", 0),
        ("max-age=0, must-revalidate", "asks", 0),
        ("no-store, max-age=600", "never", 0),
    ],
)
def test_a_header_says_how_long(text: str, kind: str, seconds: int) -> None:
    found = by_header(text, None)
    assert found is not None
    assert (found.kind, found.seconds) == (kind, seconds)


def test_a_header_may_leave_it_open() -> None:
    assert by_header("public", None) is None


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("access plus 1 month 2 days", 2592000 + 2 * 86400),
        ('"access 1 hour"', 3600),
        ("A3600", 3600),
        ("modification plus 1 hour", 2600),
        ("M500", 0),
        ("sometime", None),
        ("access plus few days", None),
    ],
)
def test_a_lifetime_spelled_out(text: str, seconds: int | None) -> None:
    assert spelled_out(text, FILE, NOW) == seconds


@pytest.mark.parametrize(
    ("words", "seconds"),
    [
        (("30d",), 30 * 86400), (("1h30m",), 5400), (("max",), MAX), (("-1",), 0), (("epoch",), 0),
        (("modified", "+1h"), 2600), (("off",), None), (("600",), 600),
    ],
)  # fmt: skip
def test_a_lifetime_in_short(words: tuple[str, ...], seconds: int | None) -> None:
    assert shortly(words, FILE, NOW) == seconds


def test_the_guess_is_a_tenth_of_the_age() -> None:
    assert (guessed(FILE, NOW).kind, guessed(FILE, NOW).seconds) == ("guess", 100)
