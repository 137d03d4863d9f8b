"""What is told of a site by another one that is written alike, beside working it out by itself: on
sites of a few kinds, whose files and names differ in all that may make a difference.
"""

from __future__ import annotations

import random
from collections import Counter
from dataclasses import astuple

import pytest

from ecumen.audit.scene import Scene, Seen
from ecumen.engines import alike
from ecumen.engines.httpd import alike as httpd_alike
from ecumen.engines.httpd.short import OFTEN
from ecumen.engines.short import Short
from ecumen.passage import Follower, read_request
from ecumen.survey import Survey
from tests.builders import server
from tests.short_test import FILES, HTTPD, HTTPD_HOST, PATHS

# With a name in them: of the site, of its root, of both.
OWN = (
    "ServerAlias www.NAME.test", "ServerAlias *.NAME.test", "ServerAlias WWW.NAME.example",
    "ErrorLog /srv/logs/NAME.err", "CustomLog /srv/logs/ROOT.log common", "Alias /NAME /srv/b",
    "Alias /other /srv/ROOT/sub", "Redirect /page http://NAME.test/", "Redirect /NAME /none",
    "RedirectMatch ^/(NAME) http://x.test/", "ScriptAlias /cgi/ /srv/ROOT/cgi/",
    "RewriteEngine On\nRewriteCond %{HTTP_HOST} !^www\\.\nRewriteRule ^ http://www.NAME.test/ [R]",
    "RewriteEngine On\nRewriteCond %{HTTP_HOST} ^NAME\nRewriteRule ^/page - [F]",
    "RewriteEngine On\nRewriteCond %{HTTP_HOST} 1\nRewriteRule ^/page - [F]",
    "RewriteEngine On\nRewriteCond %{HTTP_HOST} <m00000000\nRewriteRule ^/page - [F]",
    "RewriteEngine On\nRewriteCond /srv/%{HTTP_HOST} -d\nRewriteRule ^/page - [F]",
    "RewriteEngine On\nRewriteCond %{DOCUMENT_ROOT}/flag -f\nRewriteRule ^/page - [F]",
    "RewriteEngine On\nRewriteRule ^/page /srv/ROOT/sub/index.html [L]",
    "<Directory /srv/ROOT/sub>\nOptions +Indexes\nDirectoryIndex none.html\n</Directory>",
    "<Directory /srv/ROOT/s*>\nOptions +Indexes\n</Directory>", "<Location /NAME>\nRequire local\n"
    "</Location>", "<DirectoryMatch ROOT/d>\nRequire all denied\n</DirectoryMatch>",
    "ErrorDocument 404 /NAME.html", "ErrorDocument 404 http://NAME.test/",
    "DirectoryIndex NAME.html",
    "SetEnvIf Host NAME own", "php_admin_value open_basedir /srv/ROOT", "UseCanonicalName On",
    "<Files NAME.html>\nRequire all denied\n</Files>", "ServerPath /NAME", "Unheard NAME",
    "VirtualDocumentRoot /srv/ROOT/%0", "FallbackResource /NAME.html", "Alias /here /srv/ROOT",
    "Alias /here /srv/ROOT/\n<Files a*>\nRequire all denied\n</Files>",
    '<FilesMatch "^t">\nRequire all denied\n</FilesMatch>',
)  # fmt: skip
MAIN = (
    "", "<Directory /srv/*1>\nRequire all denied\n</Directory>",
    "<Directory /srv/two7>\nOptions Indexes\n</Directory>",
    '<DirectoryMatch "/a[0-9]*[02468]/">\nRequire all denied\n</DirectoryMatch>',
    '<DirectoryMatch "3$">\nOptions +Indexes\n</DirectoryMatch>', "AccessFileName .own .htaccess",
    '<FilesMatch "^two">\nRequire all denied\n</FilesMatch>', "DirectoryIndex w0rdqa.html",
    "<Files a*>\nOptions +Indexes\n</Files>", "UserDir public",
    "<DirectoryMatch two>\nAllowOverride None\n</DirectoryMatch>",
)  # fmt: skip
OVERRIDES = (
    "Options +Indexes", "Require all denied", "DirectoryIndex none.html", "Unheard of",
    "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^none - [F]",
    "RewriteEngine On\nRewriteCond %{HTTP_HOST} two4\nRewriteRule ^ - [F]",
    "RewriteEngine On\nRewriteCond %{HTTP_HOST} =two4.test\nRewriteRule ^ - [F]",
    "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} a5\nRewriteRule ^ - [F]",
    "ErrorDocument 404 /two3.html", "<Files two5*>\nRequire all denied\n</Files>", "",
)  # fmt: skip


def _files(rng: random.Random, root: str, usual: list[str]) -> list[str]:
    """Of a site: as of all, with a few that are otherwise."""
    found = []
    for line in usual:
        line = line.replace("/srv/a/", f"/srv/{root}/")
        roll = rng.random()
        if roll < 0.02:
            continue
        if roll < 0.05:
            line = line.replace(line[:4], rng.choice(["0000", "0700", "0640", "0755"]), 1)
        elif roll < 0.08:
            line = line.replace(" ines ", f" {rng.choice(['otto', 'root', 'www-data'])} ", 1)
        elif roll < 0.09 and not line.endswith("/") and "->" not in line:
            line += " acl user::rw-,user:33:---,group::r--,mask::r--,other::r--"
        elif roll < 0.10:
            line = f"0777 ines /srv/{root}/on -> ../b" if " on " in line else line
        found.append(line)
    if rng.random() < 0.3:
        found.append(f"0644 ines /srv/{root}/{root}.html")
    return found


def survey_of(rng: random.Random) -> tuple[Survey, list[tuple[str, str]]]:
    """Sites of three kinds, and the name and root of each."""
    kinds = [
        (
            rng.sample(OWN, rng.randint(0, 3)) + rng.sample(HTTPD_HOST, rng.randint(0, 1)),
            rng.sample(HTTPD, rng.randint(0, 2)) + rng.sample(["AllowOverride All", ""], 1),
        )
        for _ in range(3)
    ]
    blocks, files, sites = [], ["0644 root /srv/b/index.html"], []
    texts: dict[str, bytes] = {}
    for number in range(24):
        above, inside = rng.choice(kinds)
        name = rng.choice([f"two{number}", f"a{number}x", f"Up{number}", f"t-{number}"])
        root = rng.choice([f"a{number}", f"two{number}", name, name.lower()])
        lines = [
            "<VirtualHost 192.0.2.10:80>", f"ServerName {name}.test", f"DocumentRoot /srv/{root}",
            *(line.replace("NAME", name).replace("ROOT", root) for line in above),
            f"<Directory /srv/{root}>", "Require all granted", *inside, "</Directory>",
            "</VirtualHost>",
        ]  # fmt: skip
        blocks.append("\n".join(lines))
        if rng.random() < 0.9:
            files += _files(rng, root, list(FILES))
        sites.append((name, root))
        if rng.random() < 0.5:
            texts[f"/srv/{root}/sub/.htaccess"] = rng.choice(OVERRIDES).encode()
        else:
            files = [line for line in files if not line.endswith(f"/srv/{root}/sub/.htaccess")]
        if rng.random() < 0.3:
            files.append(f"0644 ines /srv/{root}/.htaccess")
            texts[f"/srv/{root}/.htaccess"] = rng.choice(OVERRIDES).encode()
    config = "\n".join(
        ["LoadModule rewrite_module m", rng.choice(MAIN), "DocumentRoot /srv/b", *blocks, ""]
    )
    return server(config, files, texts=texts), sites


def _told(seen: Seen) -> object:
    shown = seen.shown
    known = _of_short(shown) if isinstance(shown, Short) else shown
    rests = None if seen.rests is None else sorted(seen.rests)
    return seen.summary, seen.front, seen.rules, rests, known


def _of_short(short: Short | None) -> object:
    if short is None:
        return None
    passed = [list(entries) for entries in short.passed]
    return (
        astuple(short.site), short.status, short.file, short.content_type, short.location, passed,
        short.read, short.indexed, list(short.looked),
    )  # fmt: skip


def _all_of(survey: Survey, sites: list[tuple[str, str]], enough: int) -> dict[str, object]:
    httpd_alike.ENOUGH = enough
    scene = Scene(Follower(survey))
    scene.look()
    found: dict[str, object] = {}
    for _, each in scene.looked.values():
        found |= {f"{number} {one.summary.place}": _told(one) for number, one in enumerate(each)}
    short = Follower(survey).short
    for path in (*PATHS, "/NAME", "/NAME.html", "/ROOT.html", "/x?ROOT", "/here", "/w0rdqa.html"):
        for name, root in sites:
            # The last name is nobody's.
            for host in (f"{name}.test", f"www.{name}.test", "w0rdqa.test"):
                asked = path.replace("NAME", name).replace("ROOT", root)
                request = read_request(f"http://{host}{asked}", to="192.0.2.10")
                found[request.url] = _of_short(short.answer(request))
    return found


@pytest.fixture
def told(monkeypatch: pytest.MonkeyPatch) -> Counter[bool]:
    """Whether another site's answer held, of those that were looked at."""
    monkeypatch.setattr(httpd_alike, "ENOUGH", httpd_alike.ENOUGH)
    counted: Counter[bool] = Counter()
    whole = alike.Answers.of

    def of(self: alike.Answers[object], *args: object) -> object:
        held = whole(self, *args)  # type: ignore[arg-type]
        counted[held is not None] += 1
        return held

    monkeypatch.setattr(alike.Answers, "of", of)
    return counted


def test_what_a_like_site_tells_is_what_the_site_itself_does(
    told: Counter[bool], request: pytest.FixtureRequest
) -> None:
    seed = request.config.getoption("--seed")
    for at in range(request.config.getoption("--kinds")):
        survey, sites = survey_of(random.Random(f"alike {seed} {at}"))
        itself = _all_of(survey, sites, 10**9)
        by_likes = _all_of(survey, sites, 0)
        differ = {
            key: (itself[key], by_likes[key]) for key in itself if itself[key] != by_likes[key]
        }
        assert not differ, f"seed {seed}, {at}: {next(iter(differ.items()))}"
    # Most are told by others, and what is not to be told so is met as well.
    assert told[True] > told[False] > 0


def alike_sites(main: str, inside: str, missing: tuple[str, ...] = ()) -> Survey:
    blocks, files = [], []
    for name in ("kelp", "tern", "oar", "dune", "two"):
        lines = inside.replace("NAME", name)
        blocks.append(
            f"<VirtualHost 192.0.2.10:80>\nServerName {name}.test\nDocumentRoot /srv/{name}\n"
            f"{lines}\n<Directory /srv/{name}>\nRequire all granted\n</Directory>\n</VirtualHost>"
        )
        if name not in missing:
            files += [f"0644 ines /srv/{name}/{name}.html", f"0644 ines /srv/{name}/page.txt"]
    return server("\n".join([main, *blocks, ""]), files)


@pytest.mark.parametrize(
    ("main", "inside", "missing", "path"),
    [
        # What a visitor asks for, and what is said for all, may look like a hole.
        ("", "", (), "/w0rdqa.html"),
        ("DirectoryIndex w0rdqa.html", "", (), "/"),
        # Sections by the name of a file bind a root that is not there, and one led to by its name.
        ('<FilesMatch "^t">\nRequire all denied\n</FilesMatch>', "", ("kelp", "tern", "two"), "/"),
        ("<Files t*>\nRequire all denied\n</Files>", "Alias /here /srv/NAME", (), "/here"),
        ("<Files t*>\nRequire all denied\n</Files>", "Alias /here /srv/NAME", (), "/here/page.txt"),
    ],
)  # fmt: skip
def test_what_looks_like_a_hole_or_is_chosen_by_name_is_told_by_the_site_itself(
    main: str, inside: str, missing: tuple[str, ...], path: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    survey = alike_sites(main, inside, missing)
    found = []
    for enough in (10**9, 0):
        monkeypatch.setattr(httpd_alike, "ENOUGH", enough)
        short = Follower(survey).short
        asked = [f"http://{name}.test{path}" for name in ("kelp", "tern", "oar", "dune", "two")]
        found.append(
            [_of_short(short.answer(read_request(each, to="192.0.2.10"))) for each in asked]
        )
    assert found[0] == found[1]


def test_who_is_asked_often_is_worked_out(told: Counter[bool]) -> None:
    httpd_alike.ENOUGH = 0
    short = Follower(alike_sites("", "")).short
    for number in range(100):
        for name in ("kelp", "tern"):
            short.answer(read_request(f"http://{name}.test/page.txt?{number}", to="192.0.2.10"))
    assert 0 < sum(told.values()) < 2 * OFTEN
