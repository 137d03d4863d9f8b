"""Short ways through much-used code say what the long ways say."""

from __future__ import annotations

import random
import re

import pytest

from ecumen.engines.httpd import hostname
from ecumen.errors import RequestError
from ecumen.passage import Request, read_request, request

NEVER = re.compile(r"(?!)")
PIECES = ("a", "b7", "-x", "9", "", "_", "é", "A", "x" * 70)
NAMES = ("sub.test", "10.0.0.1", "[2001:db8::1]", "a.b.c7", "host", "x..y", ".a.b", "a.b.", "1.2.a")
PORTS = ("", ":80", ":8080", ":0", ":65535", ":65536", ":08", ":x", ":", ":99999", ":443")
PATHS = ("", "/", "/a/b.html", "/A", "/%41", "/a b", "/?q", "/a?x=1", "/a#b", "//x", "/..", "/~u/")


def names(rng: random.Random) -> str:
    if rng.random() < 0.4:
        return rng.choice(NAMES)
    return ".".join(rng.choice(PIECES) for _ in range(rng.randrange(1, 5)))


def test_host_headers_are_read_alike_on_both_ways(seed: int) -> None:
    rng = random.Random(seed)
    short = 0
    for _ in range(20_000):
        header = names(rng) + rng.choice(PORTS)
        read = hostname.read_host.__wrapped__(header)
        short += hostname._USUAL.fullmatch(header) is not None
        assert read == hostname._read(header), header
    assert short > 1000


def test_addresses_are_read_alike_on_both_ways(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    rng = random.Random(seed)
    asked = []
    for _ in range(20_000):
        scheme = rng.choice(["http://", "https://", "HTTP://", "ftp://", ""])
        url = scheme + names(rng) + rng.choice(PORTS) + rng.choice(PATHS)
        more = rng.choice(
            [{}, {"to": "192.0.2.7"}, {"to": "192.0.2.7:8080"}, {"to": "zz"}, {"host": ""},
             {"source": "192.0.2.9"}, {"method": "HEAD"}, {"headers": {"X": "1"}}]
        )  # fmt: skip
        asked.append((url, more))
    both = [_read(*question) for question in asked]
    monkeypatch.setattr(request, "_USUAL", NEVER)
    assert [_read(*question) for question in asked] == both
    assert sum(isinstance(each, Request) for each in both) > 5000


def _read(url: str, more: dict[str, str]) -> Request | str:
    try:
        return read_request(url, **more)  # type: ignore[arg-type]
    except RequestError as error:
        return str(error)
