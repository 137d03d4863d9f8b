"""Variables that are set by what a request says of itself, and the rules that ask for them."""

from __future__ import annotations

import pytest

from ecumen.passage import Follower, read_request
from ecumen.survey import Survey
from tests.builders import codes, passage, server

FILES = ("0644 ines /srv/a/index.html", "0644 ines /srv/a/page.html", "0644 ines /srv/a/x.html")
BOT = {"User-Agent": "BadBot/7"}


def site(*lines: str, above: str = "") -> Survey:
    inside = "\n".join(lines)
    return server(
        "LoadModule rewrite_module m\n<VirtualHost 192.0.2.10:80>\nServerName a.test\n"
        f"DocumentRoot /srv/a\n{above}\n<Directory /srv/a>\nOptions FollowSymLinks\n{inside}\n"
        "</Directory>\n</VirtualHost>\n",
        FILES,
    )


def status(survey: Survey, path: str = "/page.html", **headers: str) -> int | None:
    given = {name.replace("_", "-"): value for name, value in headers.items()}
    request = read_request(f"http://a.test{path}", to="192.0.2.10", headers=given)
    found = Follower(survey).follow(request)
    assert found.decided, found.unsure_because
    return found.status


@pytest.mark.parametrize(
    "lines",
    [
        ("BrowserMatchNoCase badbot bad", "Order Allow,Deny", "Allow from all",
         "Deny from env=bad"),
        ("SetEnvIf User-Agent ^Bad bad", "<RequireAll>", "Require all granted",
         "Require not env bad", "</RequireAll>"),
        ("SetEnvIfNoCase User-Agent BOT Bad=yes", "RewriteEngine On",
         "RewriteCond %{ENV:BAD} ^yes$", "RewriteRule ^ - [F]"),
    ],
)  # fmt: skip
def test_a_program_that_says_what_it_is_is_kept_out(lines: tuple[str, ...]) -> None:
    """Names of variables are compared without case."""
    assert status(site(*lines)) == 200
    assert status(site(*lines), User_Agent="BadBot/7") == 403


def test_what_is_set_for_all_comes_too_late_for_the_rules() -> None:
    assert status(site("SetEnv good 1", "Require env good")) == 403
    assert status(site("Require env good", above="SetEnvIf Host . good")) == 200


def test_a_later_line_takes_back_and_a_group_is_put_in() -> None:
    lines = ("SetEnvIf Request_URI ^/(page|x) what=$1", "SetEnvIf what ^x$ !what")
    assert status(site(*lines, "Require env what"), "/page.html") == 200
    assert status(site(*lines, "Require env what"), "/x.html") == 403


def test_values_beside_plain_text_are_set_as_they_are_written() -> None:
    rules = ("RewriteEngine On", "RewriteCond %{ENV:a} !^$", "RewriteRule ^ - [F]")
    assert status(site("SetEnvIf Referer spam a=$1", *rules), Referer="x spam") == 403
    assert status(site("SetEnvIf Referer spam.? a=$1", *rules), Referer="x spam") == 200


def test_an_index_is_judged_with_the_marks_of_the_folder() -> None:
    """The server does not go through the folder's lines again for a question of its own."""
    lines = ("SetEnvIf Request_URI ^/$ front", "Require env front")
    assert status(site(*lines), "/") == 200
    assert status(site(*lines), "/index.html") == 403


def test_what_a_visitor_outside_comes_from_is_not_known() -> None:
    survey = site("SetEnvIf Remote_Addr ^198 near", "Require env near")
    found = passage(survey, "http://a.test/page.html")
    assert not found.decided
    near = passage(survey, "http://a.test/page.html", source="198.51.100.4")
    assert (near.decided, near.status) == (True, 200)
    assert codes(passage(survey, "http://a.test/page.html", source="192.0.2.4")) == ["rule.denied"]


@pytest.mark.parametrize(
    ("lines", "path", "sure"),
    [
        (("SetEnvIf ^X-.* https !a",), "/page.html", False),
        (("UnsetEnv a",), "/page.html", True),
        # The index is a question of the server's own, which late lines have come before.
        (("UnsetEnv a",), "/", False),
        (("SetEnv b 1",), "/", True),
    ],
)
def test_a_value_that_may_be_gone_by_then_decides_nothing(
    lines: tuple[str, ...], path: str, sure: bool
) -> None:
    rules = ("RewriteEngine On", "RewriteCond %{REQUEST_URI} html$", "RewriteCond %{ENV:a} ^$",
             "RewriteRule ^ - [F]")  # fmt: skip
    found = passage(site("SetEnvIf Host . a", *lines, *rules), f"http://a.test{path}")
    assert (found.decided, found.status if sure else 200) == (sure, 200)
