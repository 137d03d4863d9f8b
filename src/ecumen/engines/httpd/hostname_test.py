"""Host headers, as the server was measured to take them."""

import pytest

from ecumen.engines.httpd.hostname import read_host

ACCEPTED = """
    a.test A.Test. _x.test -x.test .test x_y.test 1.2.3.4 256.1.1.1 0.0.0.0 127.0.0.1. a-b.c [::1]
    [::1]:80 a.test:1 a.test:65535 localhost
""".split()
REFUSED = [
    *"a..b a,b a@b a%41 a*b a/b a.test: a.test:0 a.test:65536 a.test:x".split(),
    *"1.2.3.4.5 1.2.3 12 x.1".split(),
    *"01.2.3.4 1.02.3.4 [::1 [x] [::1]x a:b:1 a.1c é.test".split(),
    "a b",
    "a\tb",
]


@pytest.mark.parametrize("header", ACCEPTED)
def test_a_host_that_the_server_takes(header: str) -> None:
    assert read_host(header).valid


@pytest.mark.parametrize("header", REFUSED)
def test_a_host_that_the_server_refuses(header: str) -> None:
    assert not read_host(header).valid


def test_case_port_and_last_dot_do_not_count() -> None:
    host = read_host(" Choir.Example.:8080 ")
    assert (host.name, host.port) == ("choir.example", 8080)


def test_no_header_is_not_an_empty_one() -> None:
    assert not read_host(None).valid
    assert read_host("a.test").port is None
