"""What an older release may lack makes unsure what it would decide, and nothing else."""

from __future__ import annotations

from dataclasses import replace

import pytest

from ecumen.engines.releases import TRIED, untried
from ecumen.passage import Follower, read_request
from ecumen.survey import Survey
from tests.builders import nginx, server

RULES = """\
<VirtualHost *:80>
ServerName a.test
DocumentRoot /srv/www
<Directory /srv/www>
Require all granted
</Directory>
RewriteEngine On
RewriteRule ^/mark/(.*)$ /$1.html
RewriteRule ^/query/(.*)$ /index.html?x=$1
RewriteRule ^/disk(.*)$ $1
</VirtualHost>
"""
SERVER = "server { listen 80; server_name a.test; root /srv/www; }"
FILES = ("0755 root /srv/", "0755 root /srv/www/", "0644 root /srv/www/index.html")


def of_release(survey: Survey, version: str) -> Follower:
    (record,) = survey.engines
    return Follower(replace(survey, engines=(replace(record, version=version),)))


@pytest.mark.parametrize(
    ("survey", "method", "path", "version", "decided"),
    [
        (server(RULES, FILES), "GET", "/mark/a%3fb", "2.4.71", True),
        (server(RULES, FILES), "GET", "/mark/a%3fb", "2.4.60", True),
        (server(RULES, FILES), "GET", "/mark/a%3fb", "2.4.59", False),
        (server(RULES, FILES), "GET", "/mark/ab", "2.4.59", True),
        (server(RULES, FILES), "GET", "/query/a%20b", "2.4.56", True),
        (server(RULES, FILES), "GET", "/query/a%20b", "2.4.55", False),
        (server(RULES, FILES), "GET", "/query/ab", "2.4.55", True),
        (server(RULES, FILES), "GET", "/disk/srv/other", "2.4.71", True),
        (server(RULES, FILES), "GET", "/disk/srv/other", "2.4.52", False),
        (server(RULES, FILES), "GET", "/disk/none/other", "2.4.52", True),
        (nginx(SERVER, FILES), "CONNECT", "/", "1.22.1", True),
        (nginx(SERVER, FILES), "CONNECT", "/", "1.18.0", False),
        (nginx(SERVER, FILES), "GET", "/", "1.18.0", True),
    ],
)
def test_an_older_release_may_answer_otherwise(
    survey: Survey, method: str, path: str, version: str, decided: bool
) -> None:
    request = read_request(f"http://a.test{path}", to="192.0.2.10", method=method)
    answer = of_release(survey, version).brief(request)
    assert answer["decided"] is decided, answer


def test_a_release_that_was_never_tried_is_named_in_the_passage() -> None:
    request = read_request("http://a.test/", to="192.0.2.10")
    said = [
        [each.text for each in gate.evidence if each.file is None and each.path is None]
        for version in ("2.4.52", "2.4.71")
        for gate in of_release(server(RULES, FILES), version).follow(request).gates
        if gate.gate == "site"
    ]
    assert said == [[untried("httpd", "2.4.52")], []]
    assert all(
        untried(kind, ".".join(map(str, each))) == "" for kind in TRIED for each in TRIED[kind]
    )
