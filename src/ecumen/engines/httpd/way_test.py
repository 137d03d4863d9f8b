"""From the address to a path on disk."""

from __future__ import annotations

import pytest
from tests.builders import passage, server

from ecumen.engines.httpd.redirects import alias_length
from ecumen.engines.httpd.way import personal_folder


@pytest.mark.parametrize(
    ("fake", "path", "length"),
    [
        ("/icons", "/icons", 6),
        ("/icons", "/icons/x", 6),
        ("/icons", "/iconsx", 0),
        ("/icons/", "/icons/x", 7),
        ("/icons/", "/icons", 0),
        ("/a//b", "/a/b/c", 4),
        ("/a/b", "/a//b", 5),
        ("/", "/x", 1),
        ("/é", "/é", 2),
    ],
)
def test_an_alias_takes_whole_components(fake: str, path: str, length: int) -> None:
    assert alias_length(fake, path) == length


@pytest.mark.parametrize(
    ("pattern", "folder"),
    [
        ("public_html", "/home/ines/public_html"),
        ("/srv/people", "/srv/people/ines"),
        ("/srv/*/web", "/srv/ines/web"),
        ("/srv/*", "/srv/ines"),
        ("http://people.test/~*/", None),
        ("odd/*/web", None),
    ],
)
def test_where_a_personal_site_lies(pattern: str, folder: str | None) -> None:
    assert personal_folder(pattern, "ines", "/home/ines") == folder


@pytest.mark.parametrize(
    ("lines", "path", "file", "status"),
    [
        ("UserDir web", "/~ines/", "/home/ines/web/index.html", 200),
        ("UserDir web", "/%7Eines/", "/home/ines/web/index.html", 200),
        ("UserDir web", "/~ines", "/home/ines/web", 301),
        ("UserDir web", "/~nobody/", None, 404),
        ("UserDir web\nUserDir disabled ines", "/~ines/", None, 404),
        ("UserDir web\nUserDir disabled", "/~ines/", None, 404),
        ("UserDir web\nUserDir disabled\nUserDir enabled ines", "/~ines/",
         "/home/ines/web/index.html", 200),
        ("UserDir /none web", "/~ines/", "/home/ines/web/index.html", 200),
        ("UserDir /home/*/web", "/~ines/", "/home/ines/web/index.html", 200),
        ("", "/~ines/", None, 404),
        ("Alias /p /home/ines/web", "/p/", "/home/ines/web/index.html", 200),
        ("Alias /p/ /home/ines/web/", "/p", None, 404),
        ("Alias /~ines /srv/root", "/~ines/", "/srv/root/index.html", 200),
    ],
)  # fmt: skip
def test_personal_sites_and_aliases(lines: str, path: str, file: str | None, status: int) -> None:
    config = f"<VirtualHost *:80>\nDocumentRoot /srv/root\n{lines}\n</VirtualHost>\n"
    files = ("0644 ines /home/ines/web/index.html", "0644 root /srv/root/index.html")
    found = passage(server(config, files), f"http://x.test{path}")
    assert (found.decided, found.file, found.status) == (True, file, status)


def test_personal_sites_elsewhere() -> None:
    config = "<VirtualHost *:80>\nUserDir http://people.test/~*/w\n</VirtualHost>\n"
    found = passage(server(config), "http://x.test/~ines/a")
    assert (found.status, found.location) == (302, "http://people.test/~ines/a")
