"""Sites that are called otherwise: only their own lines change, whoever wrote them."""

from __future__ import annotations

import pytest

from ecumen.audit.scene import Scene, Site
from ecumen.engines.engine import all_sites, renewed
from ecumen.founding.naming import Naming, naming
from ecumen.operations.trial import done
from ecumen.passage import Follower, Request, read_request
from ecumen.survey import Survey
from tests.builders import nginx, server

FILES = ("0755 root /srv/a/", "0755 root /srv/b/")
HTTPD = """\
# The choir, ServerName old.test
<VirtualHost *:80>
\tServerName http://a.test:80
\tServerAlias www.a.test  more.a.test
    DocumentRoot /srv/a
    <Directory /srv/a>
        Options -Indexes
    </Directory>
    serveralias last.a.test
</VirtualHost>
<VirtualHost *:80>
ServerName b.test
DocumentRoot /srv/b
</VirtualHost>
"""
NGINX = """\
# server_name old.test;
server
{
    listen 80;  server_tokens off;
    server_name a.test www.a.test; # its names
    root "/srv/a";
    location / { if ($host = "a}test") { return 403; } }
}
server { listen 80; server_name b.test; root /srv/b; }
"""


def of(survey: Survey, name: str) -> tuple[Scene, Site]:
    scene = Scene(Follower(survey))
    return scene, next(site for site in scene.sites if site.name == name)


def names(survey: Survey, found: Naming) -> list[tuple[tuple[str, ...], str | None]]:
    """Of every site as it is read afterwards."""
    then = done(survey, found.operations[:1])
    (engine,) = renewed(Follower(survey).engines, then)
    return [(site.names, site.root) for site in all_sites(engine)]


def test_only_the_lines_that_say_its_names_change_on_httpd() -> None:
    survey = server(HTTPD, FILES)
    found = naming(*of(survey, "a.test"), ["new.test", "www.new.test"], leads_over=False)
    assert found.lines == (
        "-\tServerName http://a.test:80", "-\tServerAlias www.a.test  more.a.test",
        "+\tServerName http://new.test:80", "+\tServerAlias www.new.test",
        "-    serveralias last.a.test",
    )  # fmt: skip
    assert names(survey, found) == [
        (("new.test", "www.new.test"), "/srv/a"),
        (("b.test",), "/srv/b"),
    ]
    alone = naming(*of(survey, "a.test"), ["a.test"], leads_over=False)
    assert names(survey, alone)[0][0] == ("a.test",)
    more = naming(*of(survey, "b.test"), ["b.test", "*.b.test"], leads_over=False)
    assert more.lines == ("+ServerAlias *.b.test",)


def test_only_the_lines_that_say_its_names_change_on_nginx() -> None:
    survey = nginx(NGINX, FILES)
    found = naming(*of(survey, "b.test"), ["b.test", "*.b.test"], leads_over=False)
    assert found.lines == (
        "-server { listen 80; server_name b.test; root /srv/b; }",
        "+server { listen 80; server_name b.test *.b.test; root /srv/b; }",
    )
    found = naming(*of(survey, "a.test"), ["new.test"], leads_over=True)
    assert found.lines[:2] == (
        "-    server_name a.test www.a.test; # its names",
        "+    server_name new.test; # its names",
    )  # fmt: skip
    assert [each[0] for each in names(survey, found)] == [
        ("new.test",), ("a.test", "www.a.test"), ("b.test",),
    ]  # fmt: skip


@pytest.mark.parametrize("leads_over", [True, False])
def test_the_old_name_leads_over(leads_over: bool) -> None:
    for survey in (server(HTTPD, FILES), nginx(NGINX, FILES)):
        found = naming(*of(survey, "a.test"), ["new.test"], leads_over=leads_over)
        then = Follower(done(survey, found.operations[:1]))
        for old in ("a.test", "www.a.test"):
            asked = then.brief(_request(f"http://{old}/x?y=1"))
            assert (asked["location"] == "http://new.test/x?y=1") is leads_over
            assert (asked["status"] == 301) is leads_over


def _request(url: str) -> Request:
    return read_request(url, to="192.0.2.10")


@pytest.mark.parametrize(
    ("wanted", "why"),
    [
        (["b.test"], "b.test is claimed by b.test"),
        (["a.test", "b.test"], "b.test is claimed by b.test"),
        (["a b.test"], "no name that a visitor"),
        (["-x.test"], "no name that a visitor"),
        (["a.test;}"], "no name that a visitor"),
        (["${x}"], "no name that a visitor"),
        (["*.a.test"], "one name of its own"),
        ([], "one name of its own"),
        ([f"n{n}.test" for n in range(101)], "more than 100"),
    ],
)
def test_what_cannot_be_is_said_and_nothing_proposed(wanted: list[str], why: str) -> None:
    behind = HTTPD.split("</VirtualHost>\n")
    first = f"{behind[1]}</VirtualHost>\n{behind[0]}</VirtualHost>\n"
    for survey in (server(first, FILES), nginx(NGINX, FILES)):
        with pytest.raises((LookupError, ValueError)) as raised:
            naming(*of(survey, "a.test"), wanted, leads_over=False)
        assert why in str(raised.value)


@pytest.mark.parametrize("line", [
    'server_name "a.test";', "server_name a.test ~^b;", "server_name $hostname a.test;", "",
    "server_name a.test # one\n www.a.test;",
])  # fmt: skip
def test_names_of_another_kind_are_a_persons(line: str) -> None:
    survey = nginx(f"server {{ listen 80; {line} root /srv/a; }}\n", FILES)
    scene = Scene(Follower(survey))
    with pytest.raises(LookupError):
        naming(scene, scene.hosts[0], ["new.test"], leads_over=False)


@pytest.mark.parametrize("line", [
    "ServerName ${NAME}.test", "ServerName a.test\nServerName again.test",
    "ServerName a.test\nServerAlias one \\\n two", "<If true>\nServerName a.test\n</If>",
])  # fmt: skip
def test_lines_that_are_not_plain_are_a_persons(line: str) -> None:
    block = f"<VirtualHost *:80>\n{line}\nDocumentRoot /srv/a\n</VirtualHost>\n"
    survey = server(block, FILES)
    scene = Scene(Follower(survey))
    with pytest.raises(LookupError):
        naming(scene, scene.hosts[0], ["new.test"], leads_over=False)
