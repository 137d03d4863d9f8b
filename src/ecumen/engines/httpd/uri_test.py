"""Paths of addresses, as the server was measured to take them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ecumen.engines.httpd.uri import escaped, read_path


@pytest.mark.parametrize(
    ("raw", "path"),
    [
        ("/", "/"),
        ("/a//b", "/a/b"),
        ("/a/./b/", "/a/b/"),
        ("/a/..", "/"),
        ("/a/../b", "/b"),
        ("/no-such/../b", "/b"),
        ("/a/.", "/a/"),
        ("/%7Eines/", "/~ines/"),
        ("/%2e%2E/", None),
        ("/a/%2e%2e/b", "/b"),
        ("/a%20b", "/a b"),
        ("/%C3%A9", "/é"),
        ("/..", None),
        ("/a/../../b", None),
        ("/%zz", None),
        ("/a%", None),
        ("/a%2", None),
    ],
)
def test_a_path_is_decoded_and_resolved(raw: str, path: str | None) -> None:
    address = read_path(raw)
    if path is None:
        assert (address.status, address.problem) == (400, "way.bad-path")
    else:
        assert (address.path, address.status) == (path, None)


@pytest.mark.parametrize("raw", ["/a%2fb", "/a%2F..%2Fb", "/a%00"])
def test_an_escaped_slash_or_zero_finds_nothing(raw: str) -> None:
    assert read_path(raw).status == 404


@pytest.mark.parametrize(
    ("raw", "path"),
    [
        ("/a%2fb", "/a/b"),
        ("/a%2f..%2fb", "/b"),
        ("/%2f%2e%2e%2fx", "/x"),
        ("/a%2f..%2f..%2fx/", "/x/"),
        ("/%2f..", "/"),
    ],
)
def test_dots_between_decoded_slashes_stay_below_the_root(raw: str, path: str) -> None:
    assert read_path(raw, "on").path == path


@given(st.text(st.characters(codec="utf-8", exclude_characters="/\0"), min_size=1))
def test_what_is_escaped_reads_back(name: str) -> None:
    if name not in (".", ".."):
        assert read_path(f"/x{escaped('/' + name)}").path == f"/x/{name}"
