"""Conditions that the server's own grammar reads, and those that are not evaluated."""

from __future__ import annotations

from dataclasses import dataclass, field

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ecumen.engines.httpd.expressions import holds


@dataclass
class Given:
    client: str | None = "192.0.2.7"
    variables: dict[str, str] = field(default_factory=lambda: {"REQUEST_URI": "/a/b.txt"})
    headers: dict[str, str] = field(default_factory=lambda: {"host": "choir.test"})

    def mark(self, name: str) -> bool | None:
        return None

    def variable(self, name: str) -> str:
        return self.variables[name]

    def header(self, name: str) -> str:
        return self.headers.get(name, "")


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("%{HTTP_HOST} == 'choir.test'", True),
        ("%{HTTP_HOST} == 'CHOIR.test'", False),
        ("tolower('CHOIR.test') = %{HTTP_HOST}", True),
        ("%{REQUEST_URI} =~ m#/b\\.txt$#", True),
        ("%{REQUEST_URI} !~ /B/i", False),
        ("%{HTTP_HOST} in {'a.test', 'choir.test'}", True),
        # AND binds closer than OR, and NOT closest.
        ("true || false && false", True),
        ("!false && false or true", True),
        ("not (true and false)", True),
        ("10 -gt 9", True),
        ("'10' > '9'", False),
        ("-R '192.0.2.0/24' && !(-R '198.51.100.0/24')", True),
        ("%{HTTP:Accept-Language} == ''", True),
        ("'%{HTTP_HOST}' . ':' . 80 == 'choir.test:80'", True),
        # What is not known leaves open only what hangs on it.
        ("%{SERVER_NAME} == 'x'", None),
        ("%{SERVER_NAME} == 'x' && false", False),
        ("%{SERVER_NAME} == 'x' || true", True),
        ("%{TIME_YEAR} -gt 2000", None),
        ("env('x') == 'y'", None),
        ("-f '/etc/passwd'", None),
        ("%{HTTP_HOST} ==", None),
        ("%{HTTP_HOST} == 'x", None),
        ("(true", None),
        ("", None),
    ],
)
def test_a_condition_holds_as_it_is_written(text: str, expected: bool | None) -> None:
    assert holds(text, Given()) is expected


def test_somebody_outside_is_in_no_network_but_that_of_all() -> None:
    assert holds("-R '192.0.2.0/24'", Given(client=None)) is False
    assert holds("-R '0.0.0.0/0.0.0.0'", Given(client=None)) is True


@given(st.text(alphabet="%{}()'\"/m#i!&|=~<>-., \\$1aRn", max_size=40) | st.text(max_size=40))
def test_any_text_is_a_condition_or_is_not_evaluated(text: str) -> None:
    assert holds(text, Given()) in (True, False, None)
