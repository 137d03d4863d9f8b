"""Words that the server's own check took as addresses or refused (httpd 2.4.71, APR 1.7)."""

import pytest

from ecumen.engines.httpd.addresses import network


@pytest.mark.parametrize(
    "word",
    "10. 1.2.3.4. 01.2 010.1.1.1 010.1.1.1/8 1.2.3.04 1.0000000 :: ::1/08 10.0.0.0/255.0.255.0 "
    "1.2.3.4/+8 1.2.3.4/0.0.0.0 1.2.3.4/032 ::1.2.3.4 2001:DB8::1".split(),
)
def test_what_the_server_takes(word: str) -> None:
    assert network(word) is not None


@pytest.mark.parametrize(
    "word",
    ". 10..1 256 1.2.3.4.5 .1 1.1000 00000000000001.2 : 1::2::3 :1 [::1] 10/8 10./8 1.2.3.4./8 "
    "10.1/255.255.0.0 10.1.2.3/0 ::/0 ::1/129 ::1/ffff:: fe80::1%lo ::ffff:1.2.3.4 ::ffff:0:1 "
    "10.0.0.0/ 1.2.3.4/255 1.2.3.4/0x8 1.2.3.4/-1 1.2.3.4/33 /8".split(),
)
def test_what_the_server_refuses(word: str) -> None:
    assert network(word) is None


@pytest.mark.parametrize("form", ["{}", "1.2.3.{}", "1.2.3.4/{}", "::1/{}", "{}.", "::{}"])
def test_digits_without_end_are_refused(form: str) -> None:
    assert network(form.format("1" * 10_000)) is None


def test_a_mask_may_have_holes() -> None:
    ones = network("10.9.9.1/255.0.0.255")
    assert ones is not None
    assert [each in ones for each in ("10.1.2.1", "10.1.2.2", "::ffff:10.0.0.1")] == [
        True,
        False,
        True,
    ]
