"""Configurations that nobody would write: whatever stands in them, every question is answered."""

from __future__ import annotations

from dataclasses import replace
from itertools import chain

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from ecumen.audit import audit
from ecumen.engines.engine import all_sites
from ecumen.engines.httpd.modules import known_directives
from ecumen.engines.nginx.catalogue import NO_EFFECT
from ecumen.engines.nginx.config import _TAKERS
from ecumen.passage import Follower, read_request
from ecumen.survey import EngineRecord, Survey
from tests.builders import server

FILES = (
    "0644 root /srv/a/index.html", "0644 root /srv/a/.htaccess", "0700 ines /srv/a/shut/",
    "0777 otto /srv/a/link -> /srv/a/link", "0777 otto /srv/a/out -> /etc", "0644 otto /srv/a/sub/x.php",
)  # fmt: skip
# Arguments that fit somewhere, that fit nowhere, and that break something elsewhere.
WORDS = st.one_of(
    st.sampled_from(
        """
        on off On all none None All any + - -Indexes +Indexes = =404 ! !-f -d ~ ~* ^~ @ @a * *.a.test . .. /
        // /srv/a /srv/a/ /srv/a/sub ^ ^/(.*)$ ( [ (?<n>a) (a+)+$ $1 $9 %1 %{REQUEST_FILENAME} %{ENV:x}
        %{x ${a} ${ $ $uri $arg_a $nope [L] [R=301,L] [R=999] [N] [N=0] [S=99] [E=a:b] [H=x] [PT] [F,G] [
        last break redirect 0 1 -1 99999999999999999999 301 404 499 600 1.2.3 127.0.0.1 127.0.0.1:80 [::1]
        [::1]:80 [ ::1 0.0.0.0/0 10.0.0.0/99 unix: unix:/x http:// http://[ http://b.test/ $scheme:// ip host
        env=x from granted denied user valid-user expr allow,deny text/html .html html x=y max epoch 1d
        modified +1M A9 access plus month max-age=9 "x Cache-Control default ssl default_server
        """.split()
    ),
    st.text(st.characters(codec="utf-8", exclude_characters="\x00\n\r"), max_size=6),
)  # fmt: skip
REQUESTS = [
    ("http://a.test/", "GET"), ("http://a.test/sub/x.php/y?a=b", "POST"), ("http://b.test/link/x", "HEAD"),
    ("http://a.test/%2e%2e/out/passwd", "GET"), ("https://a.test/shut/x", "GET"), ("http://a.test/none", "PUT"),
]  # fmt: skip


def _joined(found: list[list[str]]) -> list[str]:
    return list(chain.from_iterable(found))


def httpd_lines(depth: int) -> st.SearchStrategy[list[str]]:
    """Lines of httpd: known names with any arguments, in sections as deep as that."""
    names = [name for name in known_directives() if not name.startswith("<")]
    sections = [name for name in known_directives() if name.startswith("<")]
    line = st.tuples(st.sampled_from(names), st.lists(WORDS, max_size=4)).map(
        lambda drawn: [" ".join((drawn[0], *drawn[1]))]
    )
    if depth == 0:
        return st.lists(line, max_size=6).map(_joined)
    section = st.tuples(
        st.sampled_from(sections), st.lists(WORDS, max_size=2), httpd_lines(depth - 1)
    ).map(lambda drawn: [" ".join((drawn[0], *drawn[1])) + ">", *drawn[2], f"</{drawn[0][1:]}>"])
    return st.lists(st.one_of(line, line, section), max_size=8).map(_joined)


def nginx_lines(depth: int) -> st.SearchStrategy[list[str]]:
    """Statements of nginx: known names with any arguments, in blocks as deep as that."""
    names = [*sorted(_TAKERS), *sorted(_TAKERS), *sorted(NO_EFFECT), "listen", "server_name"]
    line = st.tuples(st.sampled_from(names), st.lists(WORDS, max_size=4)).map(
        lambda drawn: [" ".join((drawn[0], *drawn[1])) + ";"]
    )
    if depth == 0:
        return st.lists(line, max_size=6).map(_joined)
    blocks = ["location", "if", "limit_except", "types", "server", "map", "upstream"]
    block = st.tuples(
        st.sampled_from(blocks), st.lists(WORDS, max_size=3), nginx_lines(depth - 1)
    ).map(lambda drawn: [" ".join((drawn[0], *drawn[1])) + " {", *drawn[2], "}"])
    return st.lists(st.one_of(line, line, block), max_size=8).map(_joined)


def everything_is_answered(survey: Survey) -> None:
    follower = Follower(survey)
    for engine in follower.engines:
        assert all(site.name for site in all_sites(engine))
    for url, method in REQUESTS:
        request = read_request(url, to="192.0.2.10", method=method)
        found = follower.follow(request)
        assert len(found.gates) == 10
        assert found.decided or found.unsure_because
        assert found.decided == follower.brief(request)["decided"]


unhurried = settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])


@unhurried
@example(["loadmodule"], [])
@given(httpd_lines(2), httpd_lines(1))
def test_any_httpd_lines_are_followed(lines: list[str], override: list[str]) -> None:
    modules = [
        f"LoadModule {name}_module m" for name in ("rewrite", "access_compat", "proxy", "ssl")
    ]
    host = ["<VirtualHost *:80>", "ServerName a.test", "DocumentRoot /srv/a", "RewriteEngine On"]
    inside = ["<Directory /srv/a>", "AllowOverride All", "Require all granted", "</Directory>"]
    config = "\n".join([*modules, *host, *inside, *lines, "</VirtualHost>"])
    text = "\n".join(["RewriteEngine On", *override]).encode()
    everything_is_answered(server(config, FILES, texts={"/srv/a/.htaccess": text}))


@unhurried
@given(nginx_lines(2))
def test_any_nginx_statements_are_followed(lines: list[str]) -> None:
    inside = "\n".join(lines)
    whole = f"user www-data; http {{ server {{ listen 80; root /srv/a;\n{inside}\n}} }}"
    survey = server("", (*FILES, "0644 root /etc/n"), texts={"/etc/n": whole.encode()})
    record = EngineRecord("nginx", "/etc/n", declared=True)
    everything_is_answered(replace(survey, engines=(record,)))


@pytest.mark.parametrize("kind", ["httpd", "nginx"])
@given(text=st.binary(max_size=200))
def test_any_bytes_are_a_configuration_or_a_mistake_with_its_place(kind: str, text: bytes) -> None:
    survey = replace(
        server("", FILES, texts={"/etc/c": text}),
        engines=(EngineRecord(kind, "/etc/c", "2.4.66", "/etc", declared=True),),
    )
    everything_is_answered(survey)
    for engine in Follower(survey).engines:
        assert all(mistake.place.file == "/etc/c" for mistake in engine.breaks)
        assert all(mistake.place.line > 0 and mistake.message for mistake in engine.breaks)


@pytest.mark.parametrize(
    ("config", "override"),
    [
        ("", "SetEnvIf Request_URI ^(.*)$ A={}\nRequire env A\n"),
        ('AliasMatch ^(/.*)$ "/x{}"\n', ""),
        ('ProxyPassMatch ^(/.*)$ "http://b.test/{}"\n', ""),
        ('RedirectMatch ^(/.*)$ "http://b.test/{}"\n', ""),
        ("", "RewriteEngine On\nRewriteRule ^(.*)$ {}\n"),
    ],
)
def test_a_line_that_grows_with_the_address_costs_its_own_answer(
    config: str, override: str
) -> None:
    """One line of one owner: it is not sure what comes of it, and nothing fails."""
    modules = "".join(
        f"LoadModule {n}_module m\n" for n in ("setenvif", "alias", "proxy", "rewrite")
    )
    site = (
        f"<VirtualHost 192.0.2.10:80>\nServerName a.test\nDocumentRoot /srv/a\n{config}"
        "<Directory /srv/a>\nAllowOverride All\nRequire all granted\n</Directory>\n</VirtualHost>\n"
    ).replace("{}", "$1" * 40_000)
    survey = server("", FILES)
    texts = {"/etc/c": survey.texts["/etc/c"] + (modules + site).encode(),
             "/srv/a/.htaccess": override.replace("{}", "$1" * 40_000).encode()}  # fmt: skip
    follower = Follower(replace(survey, texts=texts))
    found = follower.follow(read_request("http://a.test/index.html", to="192.0.2.10"))
    assert not found.decided
    assert audit(follower).failed_checks == []
