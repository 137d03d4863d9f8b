"""Small nginx servers, each with one question; answers that were wrong once have a name here."""

from __future__ import annotations

import pytest

from ecumen.passage import Passage
from tests.builders import codes, nginx, passage

FILES = (
    "0644 root /srv/a/index.html",
    "0644 root /srv/a/page.css",
    "0644 root /srv/a/sub/x.html",
    "0755 root /srv/a/list/",
)


def asked(lines: str, path: str = "/", *files: str, **more: str) -> Passage:
    config = f"server {{ listen 192.0.2.10:80; server_name a.test; root /srv/a; {lines} }}"
    return passage(nginx(config, (*FILES, *files)), f"http://a.test{path}", **more)


@pytest.mark.parametrize(
    ("lines", "path", "status", "location"),
    [
        ("", "/", 200, None),
        ("", "/sub", 301, "http://a.test/sub/"),
        ("", "/sub/", 403, None),
        ("", "/none", 404, None),
        ("location / { return 301 /b; }", "/", 301, "http://a.test/b"),
        ("location = /x { return 410; } location /x { return 402; }", "/x", 410, None),
        ("location ^~ /s { return 402; } location ~ html { return 403; }", "/s.html", 402, None),
        ("location /s { return 402; } location ~ html { return 403; }", "/s.html", 403, None),
        ("rewrite ^/a/(.*)$ /sub/$1 last;", "/a/x.html", 200, None),
        ("rewrite ^/(.*)$ /x$1 last;", "/a", 404, None),
        ("location / { rewrite ^/(.*)$ /x$1 last; }", "/a", 500, None),
        ("location / { try_files $uri /index.html; }", "/none", 200, None),
        ("location / { try_files $uri =410; }", "/none", 410, None),
        ("location /px/ { proxy_pass http://127.0.0.1:9; }", "/px?a", 301, "http://a.test/px/?a"),
        ("location /in { internal; }", "/in", 404, None),
        ("error_page 404 =200 /index.html;", "/none", 200, None),
        ("error_page 404 http://b.test/;", "/none", 302, "http://b.test/"),
        ("location / { deny all; return 402; }", "/", 402, None),
        ("location / { satisfy any; deny all; allow all; }", "/", 403, None),
    ],
)
def test_what_comes_of_it(lines: str, path: str, status: int, location: str | None) -> None:
    found = asked(lines, path)
    assert found.decided
    assert (found.status, found.location) == (status, location)


def test_where_links_are_judged_a_file_that_cannot_be_opened_is_not_found() -> None:
    closed = "0600 ines /srv/a/closed.html"
    tried = "location / { try_files $uri =404; }"
    assert asked(tried, "/closed.html", closed).status == 403
    judged = asked(f"{tried} disable_symlinks on;", "/closed.html", closed)
    assert (judged.status, codes(judged)) == (404, ["ladder.unreadable"])


def test_where_links_are_judged_a_folder_that_cannot_be_entered_is_not_found() -> None:
    tried = "autoindex on; location / { try_files $uri/ =404; }"
    assert asked(tried, "/half/", "0744 root /srv/a/half/").status == 403
    judged = asked(f"{tried} disable_symlinks on;", "/half/", "0744 root /srv/a/half/")
    assert (judged.status, codes(judged)) == (404, ["ladder.shut"])


def test_a_sign_in_without_a_file_of_passwords_is_not_asked_for() -> None:
    assert asked("auth_basic x;").status == 200
    assert asked("auth_basic x; auth_basic_user_file /dev/null;").status == 401


def test_a_redirect_has_no_charset_but_other_pages_have() -> None:
    assert asked("charset utf-8;", "/sub").content_type == "text/html"
    assert asked("charset utf-8;", "/none").content_type == "text/html; charset=utf-8"


def test_the_listing_behind_an_alias_without_a_slash_is_looked_for_a_letter_short() -> None:
    lines = "autoindex on; location /l/ { alias /srv/a/list; }"
    assert asked(lines, "/l/").status == 404
    assert asked(lines, "/l/", "0755 root /srv/a/lis/").status == 200


def test_a_listing_with_a_link_through_a_file_is_given_up() -> None:
    link = "0777 root /srv/a/list/odd -> ../page.css/x"
    assert asked("autoindex on;", "/list/", link).status is None
    assert asked("autoindex on;", "/list/", "0777 root /srv/a/list/odd -> nowhere").status == 200


def test_no_content_has_no_type() -> None:
    assert asked("return 204;").content_type is None


def test_a_closed_folder_is_taken_for_missing_where_files_are_tried() -> None:
    shut = asked("location / { try_files $uri =404; }", "/sub/x.html", "0700 ines /srv/a/sub/")
    assert shut.status == 404
    assert codes(shut) == ["ladder.shut"]


def test_a_folder_without_its_slash_must_be_readable() -> None:
    assert asked("", "/sub", "0711 root /srv/a/sub/").status == 403


def test_names_exact_then_wild_in_front_then_wild_behind_then_patterns() -> None:
    names = ("~^w", "www.a.*", "*.a.test", "www.a.test")
    for number in range(len(names)):
        config = "".join(
            f"server {{ listen 192.0.2.10:80; server_name {name}; return {402 + at}; }}"
            for at, name in enumerate(names[: number + 1])
        )
        assert passage(nginx(config), "http://www.a.test/").status == 402 + number


def test_behind_a_shut_folder_stands_what_the_path_itself_is() -> None:
    """An index below a file: once the folder is open, the engine finds that it is none."""
    found = asked("", "/sub/x.html%2f", "0700 ines /srv/a/sub/")
    assert codes(found) == ["ladder.shut", "serve.missing"]


def test_a_folder_is_one_obstacle_with_its_slash_and_without() -> None:
    closed = "0711 ines /srv/a/list/"
    found = asked("autoindex on; disable_symlinks on;", "/list/", closed)
    assert codes(found) == ["ladder.unlistable"]


@pytest.mark.parametrize(("line", "takes"), [
    ("", False), ("underscores_in_headers on;", True), ("ignore_invalid_headers off;", True),
    ("underscores_in_headers off; ignore_invalid_headers on;", False),
])  # fmt: skip
def test_fields_with_an_underscore_are_passed_over_unless_they_are_taken(
    line: str, takes: bool
) -> None:
    """Measured: taken, they are as good as those with a hyphen, but for fields of its own."""
    said = "return 302 /$http_x_foo-$http_user_agent-$http_a_b_c;"
    survey = nginx(f"{line} server {{ listen 192.0.2.10:80; location / {{ {said} }} }}")

    def told(**headers: str) -> tuple[bool, str | None]:
        names = {name.replace("__", "-"): value for name, value in headers.items()}
        found = passage(survey, "http://x.test/", headers=names)
        return found.decided, found.location

    assert told(X__Foo="2") == (True, "http://x.test/2--")
    assert told(X_Foo="1") == (True, f"http://x.test/{'1' if takes else ''}--")
    assert told(A_b__C="3") == (True, f"http://x.test/--{'3' if takes else ''}")
    assert told(user_agent="ua") == (True, "http://x.test/--")
    both = told(X_Foo="1", X__Foo="2")
    assert both == ((False, None) if takes else (True, "http://x.test/2--"))
