"""Which block answers: by address, by port, by name, by order; as the server was measured."""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor

import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.builders import passage, server

from ecumen.engines.engine import engines_of
from ecumen.engines.httpd.choice import _Chain
from ecumen.engines.httpd.engine import HttpdEngine
from ecumen.engines.httpd.server import Host
from ecumen.engines.tree import Place
from ecumen.patterns import shell_pattern

CONFIG = """\
ServerName main.test
DocumentRoot /srv/main
Listen 192.0.2.10:81
Listen 192.0.2.10:82
Listen 127.0.0.1:80
<VirtualHost 192.0.2.10:80>
ServerName first.test
ServerAlias *.wild.test W?W.odd.test UPPER.test port.test:80
DocumentRoot /srv/a
</VirtualHost>
<VirtualHost 192.0.2.10:80>
ServerName second.test:8080
ServerAlias a.wild.test both.test
DocumentRoot /srv/b
</VirtualHost>
<VirtualHost 192.0.2.10:80>
ServerName third.test
ServerAlias both.test
DocumentRoot /srv/c
</VirtualHost>
<VirtualHost 192.0.2.10>
ServerName any-port.test
DocumentRoot /srv/d
</VirtualHost>
<VirtualHost *:80>
ServerName all.test
DocumentRoot /srv/e
</VirtualHost>
<VirtualHost _default_:82>
ServerName default.test
DocumentRoot /srv/f
</VirtualHost>
"""


@pytest.mark.parametrize(
    ("host", "expected"),
    [
        ("first.test", "first.test"),
        ("FIRST.Test.", "first.test"),
        ("second.test", "second.test"),
        ("second.test:9", "second.test"),
        ("x.wild.test", "first.test"),
        ("a.wild.test", "first.test"),
        (".wild.test", "first.test"),
        ("wild.test", "first.test"),
        ("wow.odd.test", "first.test"),
        ("upper.test", "first.test"),
        ("port.test", "first.test"),
        ("both.test", "second.test"),
        ("third.test", "third.test"),
        ("all.test", "first.test"),
        ("unknown.test", "first.test"),
        ("192.0.2.10", "first.test"),
    ],
)
def test_a_name_on_an_address_with_blocks_of_its_own(host: str, expected: str) -> None:
    found = passage(server(CONFIG), "http://x.test/", host=host)
    assert found.site is not None
    assert found.site.name == expected


@pytest.mark.parametrize(
    ("to", "expected"),
    [
        ("192.0.2.10:81", "any-port.test"),
        ("192.0.2.10:82", "any-port.test"),
        ("127.0.0.1:80", "all.test"),
    ],
)
def test_the_address_is_weighed_before_the_name(to: str, expected: str) -> None:
    found = passage(server(CONFIG), "http://first.test/", to=to)
    assert found.site is not None
    assert found.site.name == expected


def test_without_a_block_for_the_port_the_main_server_answers() -> None:
    config = CONFIG.replace("<VirtualHost 192.0.2.10>", "<VirtualHost 192.0.2.10:99>")
    found = passage(server(config), "http://first.test/", to="192.0.2.10:81")
    assert found.site is not None
    assert found.site.name == "main.test"


def test_the_contest_says_who_claims_a_name_and_who_gets_it() -> None:
    found = passage(server(CONFIG), "http://both.test/")
    claims = next(gate.claims for gate in found.gates if gate.gate == "site")
    outcomes = [(claim.site, claim.outcome, claim.matched) for claim in claims]
    assert outcomes == [
        ("first.test", "other-name", None),
        ("second.test", "won", "both.test"),
        ("third.test", "matched-later", "both.test"),
    ]


def test_a_block_bound_by_name_needs_an_address() -> None:
    named = "<VirtualHost elsewhere.test:80>\nServerName e.test\n</VirtualHost>\n"
    assert not passage(server(named + CONFIG), "http://first.test/").decided


def test_what_is_worked_out_later_is_whole_for_whoever_asks() -> None:
    """A site is asked about by several threads at once, of a server that nobody asked yet."""
    lines = "".join(f"RewriteRule ^/{n}$ /{n + 1}\n" for n in range(40))
    block = f"<VirtualHost *:80>\nServerName a.test\nDocumentRoot /srv/a\n{lines}</VirtualHost>\n"
    sides = ("rewriting", "root", "settings", "unread", "logs") * 2
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    try:
        with ThreadPoolExecutor(len(sides)) as pool:
            for _ in range(20):
                (engine,) = engines_of(server(block))
                assert isinstance(engine, HttpdEngine)
                (host,) = engine.server.hosts
                seen = list(pool.map(lambda name, host=host: getattr(host, name), sides))
                assert [getattr(host, name) for name in sides] == seen
                assert (len(host.rewriting.rules), host.root) == (40, "/srv/a")  # type: ignore[union-attr]
    finally:
        sys.setswitchinterval(before)


@given(
    st.lists(st.sampled_from(("*.a.test", "*.test", "*.A.b.test", "?.test", "x*", "*", "*.")),
             max_size=8),
    st.sampled_from(("a.test", "x.a.test", "x.a.b.test", ".test", "y.", "x", "q.a.test.")),
)  # fmt: skip
def test_no_pattern_that_fits_a_name_is_passed_over(patterns: list[str], name: str) -> None:
    host = Host(Place("/c", 1), None)
    chain = _Chain(wild=[(number, pattern, host) for number, pattern in enumerate(patterns)])

    def fitting(some: list[tuple[int, str, Host]]) -> list[tuple[int, str, Host]]:
        regexes = [shell_pattern(p, slashes_apart=False, ignore_case=True) for _, p, _ in some]
        pairs = zip(some, regexes, strict=True)
        return [each for each, regex in pairs if regex is not None and regex.match(name)]

    assert fitting(chain.patterns(name)) == fitting(chain.wild)
