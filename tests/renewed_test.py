"""Engines that take over what no change reaches answer as engines that were made anew."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from ecumen.engines.engine import Engine, all_sites, engines_of, renewed
from ecumen.passage import Follower, read_request
from ecumen.survey import Delta, EngineRecord, Entry, Kind, Survey, after
from tests.builders import around, server

PATHS = tuple(f"/etc/web/sites/{name}.conf" for name in ("a", "b", "c", "d", "e"))
NAMES = ("a.test", "b.test", "*.a.test", "x.b.test", "c.test")
HTTPD = """\
ServerRoot /etc/web
Listen 80
User www-data
Group www-data
LoadModule mime_module m.so
{more}
IncludeOptional sites/*.conf
"""
NGINX = "user www-data;\nhttp {{\n{more}\ninclude sites/*.conf;\n}}\n"
ROOTS = ("/srv/a", "/srv/b", "/srv/gone")


def httpd_site(rng: random.Random) -> str:
    lines = [f"DocumentRoot {rng.choice(ROOTS)}"]
    if rng.random() < 0.9:
        lines.append(f"ServerName {rng.choice(NAMES).removeprefix('*.')}")
    if rng.random() < 0.4:
        lines.append(f"ServerAlias {' '.join(rng.sample(NAMES, 2))}")
    lines += rng.sample(
        [
            "CustomLog ${LOGS}/x.log common", "CustomLog ${NOBODY}/x.log common",
            "<IfModule mime_module>\nAddType a/b .html\n</IfModule>",
            "<IfDefine Odd>\nRequire all denied\n</IfDefine>", "LogFormat %h own", "SetEnv who me",
            "<Location /x>\nRequire all denied\n</Location>", "TypesConfig other", "NoSuchThing on",
            "Redirect /r /s", "<IfFile /srv/a/index.html>\nAlias /q /srv/b\n</IfFile>",
        ],
        rng.randrange(4),
    )  # fmt: skip
    at = rng.choice(["*:80", "*:80", "192.0.2.10:80", "*"])
    text = "<VirtualHost {}>\n{}\n</VirtualHost>\n".format(at, "\n".join(lines))
    return rng.choice(["", "", "", "Listen 8080\n", "Define Odd\n", "Define LOGS /l\n"]) + text


def nginx_site(rng: random.Random) -> str:
    lines = [f"root {rng.choice(ROOTS)};"]
    if rng.random() < 0.9:
        lines.append(f"server_name {' '.join(rng.sample(NAMES, rng.randint(1, 2)))};")
    lines += rng.sample(
        [
            "listen 80;", "listen 80 default_server;", "listen 8080;", "location /x { deny all; }",
            "access_log /l/x.log;", "merge_slashes off;", "no_such_thing on;", "index b.html;",
            "location ~ ^/q { return 204; }", "server_name ~^(.+)\\.b\\.test$;",
        ],
        rng.randrange(4),
    )  # fmt: skip
    text = "server {{\n{}\n}}\n".format("\n".join(lines))
    return (
        rng.choice(["", "", "", "", "log_format own $host;\n", "map $host $m { default 1; }\n"])
        + text
    )


def text_of(kind: str, path: str, rng: random.Random) -> str:
    if path == "/etc/web/main":
        more = {
            "httpd": ["", "IncludeOptional sites/b.conf", "Define LOGS /l", "Define Odd",
                      "ServerName main.test", "User nobody"],
            "nginx": ["", "include sites/[b].conf;", "index b.html;", "merge_slashes off;",
                      "map $host $m { default 0; }"],
        }[kind]  # fmt: skip
        return (HTTPD if kind == "httpd" else NGINX).format(more=rng.choice(more))
    return httpd_site(rng) if kind == "httpd" else nginx_site(rng)


def begun(kind: str, rng: random.Random) -> Survey:
    files = (
        "0644 ines /srv/a/index.html", "0644 ines /srv/b/index.html", "0600 ines /srv/b/b.html",
        *(f"0644 root {path}" for path in PATHS[:4]), "0644 root /etc/web/main",
    )  # fmt: skip
    base = server("", files)
    texts = {p: text_of(kind, p, rng).encode() for p in ("/etc/web/main", *PATHS[:4])}
    if rng.random() < 0.5:
        # A site's file that is a link to where it lies.
        texts["/etc/web/there/a"] = texts.pop(PATHS[0])
        entries = [each for each in around(files) if each.path != PATHS[0]]
        entries += [
            Entry(PATHS[0], Kind.LINK, 0o777, 0, 0, target="../there/a"),
            Entry("/etc/web/there", Kind.DIR, 0o755, 0, 0, listed=True),
            Entry("/etc/web/there/a", Kind.FILE, 0o644, 0, 0),
        ]
        base = replace(base, files=type(base.files)(entries))
    record = EngineRecord(kind, "/etc/web/main", declared=True, environment={})
    return replace(base, engines=(record,), texts=texts)


def changed(survey: Survey, kind: str, rng: random.Random) -> Delta:
    path = rng.choice([*survey.texts, *PATHS])
    there = path in survey.texts
    match rng.randrange(6):
        case 0 if there and path != "/etc/web/main":
            return Delta({path: None}, {path: None})
        case 1:
            entry = survey.files.get("/srv/b/b.html")
            assert entry is not None
            return Delta({entry.path: replace(entry, mode=entry.mode ^ 0o044)})
        case 2 if survey.files.get(PATHS[0]) is not None:
            # What a link leads to is moved under it.
            link = Entry(PATHS[0], Kind.LINK, 0o777, 0, 0, target="d.conf")
            texts = {PATHS[0]: None} if PATHS[0] in survey.texts else {}
            return Delta({PATHS[0]: link}, texts)
    link = survey.files.get(path)
    if link is not None and link.kind is Kind.LINK:
        return Delta()
    return Delta(
        {path: Entry(path, Kind.FILE, 0o644, 0, 0)}, {path: text_of(kind, path, rng).encode()}
    )


def answers(survey: Survey, engines: tuple[Engine, ...]) -> list[object]:
    follower = Follower(survey, engines)
    found: list[object] = []
    for engine in engines:
        found += [list(all_sites(engine)), engine.listens, engine.breaks, sorted(engine.files)]
        found.append(dict(engine.missing))
    for name in ("a.test", "y.a.test", "x.b.test", "z.b.test", "c.test", "none.test", "192.0.2.10"):
        for port in (80, 8080):
            for path in ("/", "/x", "/q"):
                request = read_request(f"http://{name}:{port}{path}", to="192.0.2.10")
                found.append(follower.follow(request))
    return found


@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_what_is_taken_over_answers_as_what_is_made_anew(kind: str, seed: int) -> None:
    taken = 0
    for number in range(15):
        rng = random.Random(seed * 1000 + number)
        survey = begun(kind, rng)
        engines = engines_of(survey)
        for _ in range(4):
            before = survey
            survey = after(survey, changed(survey, kind, rng))
            engines = renewed(engines, survey)
            fresh = engines_of(survey)
            assert answers(survey, engines) == answers(survey, fresh), (number, survey.texts)
            taken += survey is not before
    assert taken > 25
