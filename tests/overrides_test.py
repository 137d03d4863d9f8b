"""Override files: what they may say, and what the server fails on."""

from __future__ import annotations

import pytest

from tests.builders import codes, passage, server

FILES = ("0755 root /srv/a/", "0644 root /srv/a/index.html", "0644 root /srv/a/.htaccess")


def status(allowed: str, *lines: str, path: str = "/") -> int | None:
    config = (
        "LoadModule rewrite_module m\nLoadModule access_compat_module m\n"
        "<VirtualHost *:80>\nServerName a.test\nDocumentRoot /srv/a\n"
        "<Directory /srv/a>\nRequire all granted\nOptions FollowSymLinks\n"
        f"{allowed}\n</Directory>\n</VirtualHost>\n"
    )
    texts = {"/srv/a/.htaccess": "\n".join(lines).encode()}
    return passage(server(config, FILES, texts=texts), f"http://a.test{path}").status


@pytest.mark.parametrize(
    ("allowed", "line", "expected"),
    [
        ("AllowOverride None", "Blunder", 200),
        ("AllowOverride All", "Blunder", 500),
        ("AllowOverride All", "Deny from all", 403),
        ("AllowOverride FileInfo", "Deny from all", 500),
        ("AllowOverride FileInfo Nonfatal=Override", "Deny from all", 200),
        ("AllowOverride FileInfo Nonfatal=Unknown", "Blunder", 200),
        ("AllowOverride None\nAllowOverrideList Redirect", "Redirect / http://b.test/", 302),
        ("AllowOverride All", "DocumentRoot /x", 500),
        ("AllowOverride All", "Options Sideways", 500),
        ("AllowOverride Options=Indexes", "Options FollowSymLinks", 500),
        ("AllowOverride All", "Options FollowSymLinks -MultiViews", 500),
        ("AllowOverride All", "Options +FollowSymLinks MultiViews", 500),
        ("AllowOverride All", "Options None +FollowSymLinks", 200),
        ("AllowOverride All", "Options Indexes None", 500),
        (
            "AllowOverride None\nAllowOverrideList Redirect",
            "<IfModule rewrite_module>\n</IfModule>",
            500,
        ),
        ("AllowOverride All", "<IfModule gone_module>\nBlunder\n</IfModule>", 200),
        ("AllowOverride All", "<Files x>", 500),
        ("AllowOverride All", "RewriteEngine On\nRewriteRule ^ - [F]", 403),
        ("AllowOverride All", "RewriteEngine On\nRewriteRule ^none$ index.html", 200),
        ("AllowOverride All", "<RequireNone>\nRequire local\n</RequireNone>", 500),
    ],
)
def test_what_an_override_file_does(allowed: str, line: str, expected: int) -> None:
    assert status(allowed, line) == expected


def test_a_front_controller_takes_what_is_not_there() -> None:
    lines = ("RewriteEngine On", "RewriteCond %{REQUEST_FILENAME} !-f", "RewriteRule . /index.html")
    assert status("AllowOverride All", *lines, path="/2031/04/a-post") == 200


def test_rules_that_lead_in_a_circle_end_with_an_error() -> None:
    lines = ("RewriteEngine On", "RewriteRule ^(.*)$ /x$1")
    assert status("AllowOverride All", *lines, path="/a") == 500


def test_an_override_file_that_the_worker_may_not_read_closes_all_below() -> None:
    config = (
        "<VirtualHost *:80>\nDocumentRoot /srv/a\n<Directory /srv/a>\nAllowOverride All\n"
        "</Directory>\n</VirtualHost>\n"
    )
    closed = (*FILES[:2], "0600 ines /srv/a/.htaccess")
    found = passage(server(config, closed), "http://a.test/")
    assert codes(found) == ["rule.override-closed"]


def test_what_a_closed_folder_s_override_file_holds_stands_behind_it() -> None:
    config = (
        "<VirtualHost *:80>\nDocumentRoot /srv/a\n<Directory /srv/a>\nAllowOverride All\n"
        "</Directory>\n</VirtualHost>\n"
    )
    closed = (*FILES[:2], "0700 ines /srv/a/in/", "0644 ines /srv/a/in/.htaccess")
    survey = server(config, closed, texts={"/srv/a/in/.htaccess": b"Nonsense\n"})
    found = passage(survey, "http://a.test/in/x.html")
    assert codes(found)[:2] == ["ladder.shut", "rule.override-refused"]
    assert found.status == 403
