"""Short answers beside the whole evaluation, on configurations of all sorts: never another one."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterator

import pytest

from ecumen.passage import Follower, Request, read_request
from ecumen.survey import Survey
from tests.builders import nginx, server

FILES = (
    "0644 ines /srv/a/index.html", "0600 ines /srv/a/closed.html", "0644 ines /srv/a/page.txt",
    "0644 ines /srv/a/404.html", "0644 ines /srv/a/sub/index.html", "0755 ines /srv/a/bare/",
    "0711 ines /srv/a/dark/", "0644 ines /srv/a/dark/main.css", "0700 ines /srv/a/shut/",
    "0644 ines /srv/a/shut/page.html", "0777 ines /srv/a/on -> sub", "0644 ines /srv/a/.hidden",
    "0644 ines /srv/b/index.html", "0644 ines /srv/a/sub/.htaccess", "0644 ines /srv/a/odd.v1.html",
)  # fmt: skip
PATHS = (
    "/", "/index.html", "/closed.html", "/page.txt", "/sub", "/sub/", "/sub/index.html", "/bare/",
    "/bare", "/dark/", "/dark/main.css", "/shut/", "/shut/page.html", "/on/", "/on/index.html",
    "/none", "/none/x/y", "/page.txt/", "/page.txt/x", "/other/", "/other/index.html", "/other",
    "/.hidden", "/odd.v1.html", "/sub/none?x=1", "//", "/%70age.txt", "/private/x", "/SUB/",
)  # fmt: skip

HTTPD = (
    "Options Indexes", "Options None", "Options +Indexes +FollowSymLinks", "Options MultiViews",
    "Require all granted", "Require all denied", "Require ip 192.0.2.0/24", "Require local",
    "DirectoryIndex none.html index.html", "DirectoryIndex sub",
    "DirectoryIndex disabled", "DirectorySlash Off", "AllowOverride None", "AllowOverride All",
    "ErrorDocument 404 /404.html", "ErrorDocument 404 /none", "ErrorDocument 403 /sub/",
    "ErrorDocument 404 gone", "ErrorDocument 403 http://x.test/", "AddType text/x-p .txt .v1",
    "ForceType text/x-all", "AddHandler odd .txt", "SetHandler None", "AddDefaultCharset utf-8",
    '<Files "page*">\nRequire all denied\n</Files>', "RedirectMatch ^/page /index.html",
    "FallbackResource /index.html", "AuthType Basic\nAuthName x", "IndexOptions Charset=UTF-8",
    *["AuthType Basic\nAuthName x\nRequire valid-user"] * 2, "RewriteEngine On",
    "RewriteEngine On\nRewriteRule ^page /index.html", "RewriteEngine On\nRewriteBase /",
    "RewriteEngine On\nRewriteOptions AllowNoSlash\nRewriteRule ^none - [F]",
    "RewriteEngine On\nRewriteOptions Inherit",
)  # fmt: skip
HTTPD_HOST = (
    "Alias /other /srv/b", "Alias /other/ /srv/b", "AliasMatch ^/other(.*) /srv/b$1",
    "Redirect /page http://x.test/", "Redirect gone /none", "ServerAlias *.a.test",
    "UseCanonicalName On", "<Location /sub>\nRequire all denied\n</Location>",
    "<Location /private>\nRequire ip 192.0.2.9\n</Location>", "ProxyPass /none http://127.0.0.1:9/",
    "<LocationMatch sub>\nForceType text/x-l\n</LocationMatch>", "CustomLog logs/b common env=x",
    "<Directory /srv/a/page.txt>\nRequire all denied\n</Directory>", "Unheard Of",
    '<DirectoryMatch "dark">\nOptions +Indexes\n</DirectoryMatch>', "BrowserMatch x bad",
    "RewriteEngine On\nRewriteRule ^/none /index.html",
)  # fmt: skip
_NGINX = (
    "autoindex on;", "index none.html index.html;", "index /sub/index.html;", "deny all;",
    "allow 192.0.2.0/24; deny all;", "auth_basic x; auth_basic_user_file /x;", "satisfy any;",
    "error_page 404 /404.html;", "error_page 403 404 =200 /sub/;", "error_page 404 =410 /none;",
    "error_page 404 @named;", "error_page 403 http://x.test/;", "charset utf-8;", "types { }",
    "default_type text/x-d;", "try_files $uri $uri/ =404;", "try_files $uri /index.html;",
    "try_files $uri $uri/ /sub/?$args;", "try_files $uri @named;", "absolute_redirect off;",
    "port_in_redirect off;", "server_name_in_redirect on;", "disable_symlinks on;", "unheard of;",
    "access_log off;", "access_log /x if=$y;", "recursive_error_pages on;", "root /srv/b;",
)  # fmt: skip
_PLACES = (
    "location / { LINES }", "location /sub { LINES }", "location = /page.txt { LINES }",
    "location ~ \\.txt$ { LINES }", "location ^~ /dark/ { LINES }",
    "location /other { alias /srv/b; }",
    "location /other/ { alias /srv/b/; LINES }", "location @named { LINES }",
    "location /none { return 301 /; }", "location /private/ { internal; }",
    "location ~ ^/s(.*)$ { alias /srv/a/s$1; }", "if ($args) { return 403; }",
    "location /bare { proxy_pass http://127.0.0.1:9; }",
)  # fmt: skip


def httpd_survey(rng: random.Random) -> Survey:
    inside = "\n".join(rng.sample(HTTPD, rng.randint(0, 4)))
    above = "\n".join(
        rng.sample(HTTPD_HOST, rng.randint(0, 2)) + rng.sample(HTTPD, rng.randint(0, 1))
    )
    below = "\n".join(rng.sample(HTTPD, rng.randint(0, 1)))
    config = (
        "LoadModule rewrite_module m\nListen 192.0.2.10:80\n<VirtualHost 192.0.2.10:80>\n"
        f"ServerName a.test\nDocumentRoot /srv/a\nCustomLog logs/a common\n{above}\n"
        f"<Directory /srv/a>\nRequire all granted\n{inside}\n</Directory>\n"
        f"<Directory /srv/a/sub>\n{below}\n</Directory>\n</VirtualHost>\n"
    )
    told = rng.choice(HTTPD).encode()
    return server(config, FILES, texts={"/srv/a/sub/.htaccess": told})


def nginx_survey(rng: random.Random) -> Survey:
    def lines() -> str:
        return " ".join(rng.sample(_NGINX, rng.randint(0, 2)))

    places = " ".join(p.replace("LINES", lines()) for p in rng.sample(_PLACES, rng.randint(0, 3)))
    config = (
        f"server {{ listen 192.0.2.10:80; server_name a.test; root /srv/a; {lines()} {places} }}"
    )
    return nginx(config, FILES)


def questions(rng: random.Random) -> Iterator[Request]:
    for path in PATHS:
        source = rng.choice([None, None, "192.0.2.9", "127.0.0.1"])
        yield read_request(
            f"http://{rng.choice(['a.test', 'a.test', 'x.a.test', 'b.test'])}{path}",
            to="192.0.2.10",
            source=source,
            method=rng.choice(["GET", "GET", "HEAD", "POST"]),
        )


@pytest.mark.parametrize("make", [httpd_survey, nginx_survey])
def test_a_short_answer_is_the_whole_one(make, seed: int) -> None:  # type: ignore[no-untyped-def]
    short = Counter[int]()
    for number in range(250):
        rng = random.Random(f"{seed} {number}")
        follower = Follower(make(rng))
        for request in questions(rng):
            known = follower.short.answer(request)
            if known is not None:
                short[known.status] += 1
                assert follower.brief(request) == follower.at_length(request), (number, request)
    # Every kind of answer is given shortly, and not too seldom to tell.
    assert min(short[status] for status in (200, 301, 401, 403, 404)) > 2, short
