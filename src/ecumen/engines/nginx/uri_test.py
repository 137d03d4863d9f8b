"""Paths and host names as the server takes them."""

from __future__ import annotations

import pytest

from ecumen.engines.nginx.hostname import read_host
from ecumen.engines.nginx.uri import read_path, unescaped_redirect


@pytest.mark.parametrize(
    ("raw", "path"),
    [
        ("/a/b", "/a/b"),
        ("/a//b", "/a/b"),
        ("/a/./b/../c", "/a/c"),
        ("/a/..", "/"),
        ("/%61%2f..%2fb", "/b"),
        ("/a%20b", "/a b"),
        ("/a%3Fb%23c%25", "/a?b#c%"),
        ("/a/.", "/a/"),
    ],
)
def test_paths_are_put_in_order(raw: str, path: str) -> None:
    assert read_path(raw).path == path
    assert read_path(raw).valid


@pytest.mark.parametrize("raw", ["/..", "/a/../..", "/%zz", "/%", "/%00", "/a\tb"])
def test_malformed_paths_are_refused(raw: str) -> None:
    assert not read_path(raw).valid


@pytest.mark.parametrize(
    ("header", "name"),
    [
        ("A.Test", "a.test"),
        ("a.test.", "a.test"),
        ("a.test:80x", "a.test"),
        ("[::1]:80", "[::1]"),
        ("a..b", None),
        ("a/b", None),
        ("", None),
        ("a b", None),
    ],
)
def test_the_host_header(header: str, name: str | None) -> None:
    assert read_host(header) == name


def test_what_is_undone_in_an_address_that_a_rule_sends_to() -> None:
    assert unescaped_redirect("/a%41%2B%20?x=%41") == "/aA+%20?x=%41"
