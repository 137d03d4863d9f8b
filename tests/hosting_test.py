"""Configurations as hosting customers write them, and as the packages ship them, with the servers.

Each case is a site of its own on one real server; it is asked the same paths as Ecumen.
"""

from __future__ import annotations

import random
import shutil
from collections.abc import Callable, Iterable, Iterator
from itertools import product
from pathlib import Path

import pytest

from ecumen.passage import Follower, read_request
from ecumen.passage.request import request_of
from ecumen_machine import EngineSpec, take_survey
from ecumen_machine.programs import Build, httpd_build, nginx_build
from tests.worlds.agreement import differences
from tests.worlds.live import ask, httpd, nginx

pytestmark = pytest.mark.server

ADDRESS, PORT = "127.0.0.47", 8087
MODULES = """
    mpm_event authn_core authz_core authz_host authz_user auth_basic authn_file access_compat alias
    dir autoindex mime negotiation headers env setenvif rewrite expires deflate filter
""".split()
TREE = {
    "index.html": "x", "about.html": "x", "app.php": "x", "assets/site.css": "x", "assets/logo.png": "x",
    "uploads/note.txt": "x", "uploads/run.php": "x", ".env": "x", ".git/config": "x", "blog/index.html": "x",
    "blog/post.html": "x", "errors/404.html": "x", "errors/down.html": "x", "empty/.keep": "", "backup.sql": "x",
    ".well-known/acme-challenge/token": "x", "robots.txt": "x", "sitemap.xml": "x", "old.htm": "x",
}  # fmt: skip
PATHS = [
    "/", "/index.html", "/about", "/about.html", "/about/", "/app.php", "/app.php/more", "/assets/site.css",
    "/assets/logo.png", "/assets", "/assets/", "/assets/gone.png", "/uploads/note.txt", "/uploads/run.php",
    "/.env", "/.git/config", "/.git", "/blog", "/blog/", "/blog/post", "/blog/post/", "/gone", "/gone/deep?x=1",
    "/empty/", "/backup.sql", "/.well-known/acme-challenge/token", "/robots.txt", "/sitemap.xml", "/old.htm",
    "/index.php?p=1", "/?p=7", "//blog//post.html", "/blog/../about.html", "/BLOG/", "/a%20b", "/errors/404.html",
]  # fmt: skip

# As override files; `R` stands for the line that turns rewriting on.
HTTPD = {
    "a front controller": "R\nRewriteBase /\nRewriteRule ^index\\.html$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\n"
    "RewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /index.html [L]",
    "a front controller with a path behind": "R\nRewriteCond %{REQUEST_FILENAME} !-f\n"
    "RewriteRule ^(.*)$ about.html?path=$1 [QSA,L]",
    "endings that need not be given": "R\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteCond %{REQUEST_FILENAME}.html -f\n"
    "RewriteRule ^(.+?)/?$ $1.html [L]",
    "endings taken off": "R\nRewriteCond %{THE_REQUEST} \\s/([^.?\\s]+)\\.html[?\\s]\nRewriteRule ^ /%1 [R=301,L]",
    "one host": "R\nRewriteCond %{HTTP_HOST} !^www\\. [NC]\nRewriteRule ^(.*)$ http://www.%{HTTP_HOST}/$1 [R=301,L]",
    "always sealed": "R\nRewriteCond %{HTTPS} off\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [L,R=301]",
    "sealed but for proofs of the name": "R\nRewriteCond %{HTTPS} !=on\nRewriteCond %{REQUEST_URI} !^/\\.well-known/\n"
    "RewriteRule (.*) https://%{SERVER_NAME}/$1 [R=302]",
    "slashes taken off": "R\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule ^(.+)/$ /$1 [R=301,L]",
    "slashes put on": "R\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_URI} !/$\nRewriteRule ^(.*)$ /$1/ [R=301,L]",
    "closed for a while": "R\nErrorDocument 503 /errors/down.html\nRewriteCond %{REQUEST_URI} !^/errors/\n"
    "RewriteRule ^ - [R=503,L]",
    "names that begin with a dot": 'R\nRewriteRule "(^|/)\\.(?!well-known)" - [F]',
    "files that are nobody's business": '<FilesMatch "\\.(sql|env|ini|log|sh)$">\nRequire all denied\n</FilesMatch>\n'
    'RedirectMatch 404 "/\\.git"',
    "older rules for files": "<Files .env>\nOrder allow,deny\nDeny from all\n</Files>\n<FilesMatch ^\\.>\nDeny from all\n</FilesMatch>",
    "pictures for this site alone": "R\nRewriteCond %{HTTP_REFERER} !^$\nRewriteCond %{HTTP_REFERER} !^http://a\\.test/ [NC]\n"
    "RewriteRule \\.(png|jpe?g)$ - [F,NC]",
    "moved pages": "Redirect 301 /old.htm /about.html\nRedirect gone /backup.sql\nRedirectMatch ^/blog/(\\d+)$ /blog/post.html?id=$1\n"
    "RedirectPermanent /uploads http://files.test/u",
    "own error pages": "ErrorDocument 404 /errors/404.html\nErrorDocument 403 closed\nOptions -Indexes",
    "another index": "DirectoryIndex about.html app.php\nOptions +Indexes",
    "no index at all": "DirectoryIndex disabled\nOptions -Indexes",
    "what stands in": "FallbackResource /index.html",
    "a sign-in": "AuthType Basic\nAuthName members\nAuthUserFile /dev/null\nRequire valid-user",
    "a sign-in but for one folder": "AuthType Basic\nAuthName x\nAuthUserFile /dev/null\n<RequireAny>\nRequire ip 192.0.2.1\n"
    "Require valid-user\n</RequireAny>\nErrorDocument 401 none",
    "by address": "<RequireAll>\nRequire all granted\nRequire not ip 127.0.0.1\n</RequireAll>",
    "by address, the older way": "Order deny,allow\nDeny from all\nAllow from 127.0.0 192.0.2.0/24",
    "lifetimes and types": "AddType text/x-note .txt\nExpiresActive On\nExpiresByType text/css \"access plus 1 month\"\n"
    "AddDefaultCharset utf-8\n<IfModule mod_headers.c>\nHeader set Cache-Control max-age=60\n</IfModule>",
    "a module that is not there": "<IfModule mod_none.c>\nNoSuchWord 1\n</IfModule>\nOptions -Indexes",
    "a word that is no directive": "Optoins -Indexes",
    "a word that may not stand here": "DocumentRoot /srv",
    "a section left open": "<Files x>\nRequire all denied",
    "rules that go round": "R\nRewriteRule ^(.*)$ /blog/$1 [L]",
    "a query that is taken off": "R\nRewriteCond %{QUERY_STRING} .\nRewriteRule ^ %{REQUEST_URI}? [R=302,L]",
    "by method": "<LimitExcept GET HEAD>\nRequire all denied\n</LimitExcept>\n<Limit GET>\nRequire all granted\n</Limit>",
}  # fmt: skip
NGINX = {
    "a front controller": "location / { try_files $uri $uri/ /index.html?$args; }",
    "a front controller in one place": "location /blog { try_files $uri $uri/ /blog/index.html; } location / { try_files $uri =404; }",
    "endings that need not be given": "location / { try_files $uri $uri.html $uri/ =404; }",
    "endings taken off": "location / { if ($request_uri ~ ^/(.*)\\.html$) { return 301 /$1; } try_files $uri $uri.html $uri/ =404; }",
    "one host": "if ($host !~ ^www\\.) { return 301 http://www.$host$request_uri; }",
    "always sealed": "location /.well-known/ { } location / { return 301 https://$host$request_uri; }",
    "slashes taken off": "rewrite ^/(.+)/$ /$1 permanent;",
    "slashes put on": "rewrite ^([^.]*[^/])$ $1/ permanent;",
    "closed for a while": "error_page 503 /errors/down.html; location / { return 503; } location = /errors/down.html { }",
    "names that begin with a dot": "location ~ /\\.(?!well-known) { deny all; }",
    "names that are not even there": "location ~ /\\. { return 404; } location ~* \\.(sql|bak)$ { return 444; }",
    "pictures for this site alone": "location ~* \\.(png|jpg)$ { if ($http_referer !~ ^(|http://a\\.test/)) { return 403; } }",
    "moved pages": "location = /old.htm { return 301 /about.html; } location /uploads/ { rewrite ^/uploads/(.*)$ http://files.test/u/$1; }"
    " rewrite ^/blog/(\\d+)$ /blog/post.html?id=$1 last;",
    "own error pages": "error_page 404 /errors/404.html; error_page 403 =404 /errors/404.html; location /errors/ { internal; }",
    "another index": "index about.html app.php; autoindex on;",
    "an alias": "location /files/ { alias {ROOT}/uploads/; } location /pics { alias {ROOT}/assets; autoindex on; }",
    "an alias by pattern": "location ~ ^/u/(.+)$ { alias {ROOT}/uploads/$1; }",
    "a root of its own": "location /blog/ { root {ROOT}/blog; } location ^~ /assets/ { expires 30d; }",
    "a sign-in": "auth_basic members; auth_basic_user_file /dev/null; location /assets/ { auth_basic off; }",
    "either of two": "satisfy any; allow 192.0.2.0/24; deny all; auth_basic x; auth_basic_user_file /dev/null;",
    "by address": "allow 192.0.2.1; allow 127.0.0.1; deny all; location /blog/ { deny 127.0.0.1; }",
    "programs kept out of uploads": "location ~ ^/uploads/.*\\.php$ { return 403; } location ~ \\.php$ { return 418; }",
    "the longest prefix before a pattern": "location ^~ /uploads/ { } location ~ \\.(txt|php)$ { return 403; } location = / { return 204; }",
    "one place inside another": "location /blog/ { location ~ \\.html$ { return 402; } location /blog/post { return 410; } }",
    "an upstream that is closed": "location /app.php { proxy_pass http://127.0.0.1:9; } location / { try_files $uri @up; }"
    " location @up { proxy_pass http://127.0.0.1:9; } error_page 502 /errors/down.html;",
    "by method": "location /uploads/ { limit_except GET { deny all; } }",
    "lifetimes and types": "charset utf-8; location ~* \\.css$ { expires 1M; add_header Cache-Control public; } types { text/x-note txt; }",
    "rules that go round": "location / { rewrite ^(.*)$ /blog$1 last; }",
    "a query that is taken off": "if ($args) { rewrite ^(.*)$ $1? redirect; }",
    "conditions on files": "if (!-e $request_filename) { rewrite ^ /index.html last; } if (-d $request_filename) { rewrite ^(.*[^/])$ $1/ permanent; }",
    "a variable": "set $page about; if ($arg_p = 7) { set $page blog/post; } location = / { rewrite ^ /$page.html last; }",
    "addresses without host": "absolute_redirect off; port_in_redirect off; location /a { return 302 b; }",
}  # fmt: skip


HEADS = {
    "httpd": """\
ServerRoot {BASE}
PidFile {BASE}/pid
ErrorLog {BASE}/error.log
ServerName main.test
User www-data
Group www-data
Listen {ADDRESS}:{PORT}
TypesConfig /etc/mime.types
KeepAlive Off
{MODULES}
<Directory {BASE}/www>
    AllowOverride All
    Require all granted
    Options FollowSymLinks
</Directory>
Include sites/*.conf
""",
    "nginx": """\
user www-data;
pid {BASE}/pid;
error_log {BASE}/error.log;
events { worker_connections 64; }
http {
    include /etc/nginx/mime.types;
    access_log off;
    include {BASE}/sites/*.conf;
}
""",
}
SITES = {
    "httpd": """\
<VirtualHost {ADDRESS}:{PORT}>
    ServerName {NAME}.test
    DocumentRoot {ROOT}
    Header always set X-Site {NAME}
    AllowEncodedSlashes {SLASHES}
</VirtualHost>
""",
    "nginx": """\
server {
    listen {ADDRESS}:{PORT};
    server_name {NAME}.test;
    root {ROOT};
    add_header X-Site {NAME} always;
    merge_slashes {SLASHES};
    {LINES}
}
""",
}
CASES = {"httpd": HTTPD, "nginx": NGINX}
# What becomes of escaped slashes, or of double ones; by turns from site to site.
SLASHES = {"httpd": ("Off", "On", "NoDecode"), "nginx": ("on", "off")}
PIECES = [
    "/",
    "/",
    "//",
    "%2f",
    "%2F",
    "..",
    ".",
    "%2e%2e",
    "%2E",
    "blog",
    "post.html",
    "a%20b",
    "%25",
    "%",
    "?x=/..",
    "+",
]


def filled(text: str, **values: object) -> str:
    for name, value in (("ADDRESS", ADDRESS), ("PORT", PORT), *values.items()):
        text = text.replace(f"{{{name}}}", str(value))
    return text


@pytest.fixture(scope="module", params=["httpd", "nginx"])
def asked(request: pytest.FixtureRequest) -> Iterator[tuple[str, Follower]]:
    """A running server with a site for each case, and Ecumen on its survey."""
    kind = request.param
    base = Path(f"/srv/ecumen-hosting-{kind}")
    shutil.rmtree(base, ignore_errors=True)
    for folder in ("sites", "logs"):
        (base / folder).mkdir(parents=True)
    modules = "\n".join(
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in MODULES
    )
    config = base / f"{kind}.conf"
    config.write_text(filled(HEADS[kind], BASE=base, MODULES=modules))
    for number, lines in enumerate(CASES[kind].values()):
        root = base / "www" / f"c{number:02d}"
        for path, content in TREE.items():
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            (root / path).write_text(content)
        slashes = SLASHES[kind][number % len(SLASHES[kind])]
        text = filled(SITES[kind], LINES=lines, NAME=root.name, ROOT=root, SLASHES=slashes)
        (base / "sites" / f"{root.name}.conf").write_text(text)
        if kind == "httpd":
            turned_on = lines.replace("R\n", "RewriteEngine On\n", 1)
            (root / ".htaccess").write_text(
                (turned_on if lines.startswith("R\n") else lines) + "\n"
            )
    try:
        follower = Follower(take_survey([EngineSpec(kind, str(config))], [str(base)]))
        with {"httpd": httpd, "nginx": nginx}[kind](config, ADDRESS, PORT):
            yield kind, follower
    finally:
        shutil.rmtree(base, ignore_errors=True)


def compared(kind: str, follower: Follower, questions: Iterable[tuple[int, str, str]]) -> None:
    """Asks both: the number of a site, a method, and what stands behind the name."""
    wrong, unsure = [], []
    names = list(CASES[kind])
    for number, method, path in questions:
        url = f"http://c{number:02d}.test:{PORT}{path}"
        row: dict[str, object] = {"url": url, "to": ADDRESS, "from": "127.0.0.1", "method": method}
        answer = follower.brief(request_of(row))
        said = f"{names[number]}: {method} {path}: "
        if not answer["decided"]:
            unsure.append(f"{said}{answer['unsure_because']}")
        else:
            wrong += [f"{said}{one}" for one in differences(answer, ask(row))]
    assert not wrong, "\n".join(wrong)
    assert not unsure, "\n".join(unsure)


def test_what_customers_write_is_decided_as_the_server_does_it(
    asked: tuple[str, Follower],
) -> None:
    kind, follower = asked
    sites = range(len(CASES[kind]))
    compared(kind, follower, product(sites, ("GET", "POST"), PATHS))


def test_odd_paths_are_read_as_the_server_reads_them(
    asked: tuple[str, Follower], seed: int
) -> None:
    kind, follower = asked
    rng = random.Random(seed)
    paths = ["/" + "".join(rng.choices(PIECES, k=rng.randint(1, 7))) for _ in range(800)]
    compared(kind, follower, [(rng.randrange(len(CASES[kind])), "GET", path) for path in paths])


@pytest.mark.parametrize(("kind", "build"), [("httpd", httpd_build), ("nginx", nginx_build)])
def test_the_configuration_that_the_package_ships_is_decided(
    kind: str, build: Callable[[], Build | None]
) -> None:
    shipped = build()
    assert shipped is not None
    config = shipped.config
    follower = Follower(take_survey([EngineSpec(kind, config)]))
    for path in ("/", "/index.html", "/none", "/.htaccess", "/icons/", "/server-status", "/a%2fb"):
        found = follower.follow(read_request(f"http://x.test{path}", to="127.0.0.1"))
        assert found.decided, (path, found.unsure_because)
