"""Sites as hosters write them, on disk: blocks of 6, 20 and 60 lines in a few shapes, override
files, both engines, a tenth of them odd.
"""

from __future__ import annotations

import os
import random
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from tests.worlds.plain import plain_head

ADDRESS, PORT = "127.0.0.47", 8087
# Beside those of every plain configuration.
MODULES = "rewrite headers expires setenvif cgid access_compat proxy proxy_http".split()
PAGES = "index.html about.html contact.html style.css menu.js logo.svg robots.txt".split()
OVERRIDE = """\
RewriteEngine On
RewriteCond %{REQUEST_FILENAME} !-f
RewriteCond %{REQUEST_FILENAME} !-d
RewriteRule ^ index.html [L]
<Files "config.ini">
Require all denied
</Files>
"""


@dataclass(frozen=True)
class Ground:
    """What was laid out. asked: addresses of pages, for each site some."""

    config: Path
    base: Path
    engine: str
    sites: int

    def addresses(self, count: int, seed: int) -> Iterator[str]:
        """As visitors ask: a few sites often, most of them seldom; pages, folders, what is not
        there, what a rule leads elsewhere.
        """
        rng = random.Random(seed)
        paths = ["", *PAGES, "pages/3.html", "pages", "pages/", "none.html", "shop?item=7",
                 "old/page.html", "cgi-bin/form", "files/x.pdf", ".htaccess"]  # fmt: skip
        for _ in range(count):
            number = min(int(rng.paretovariate(0.3)) - 1, 10**9) % self.sites
            yield f"http://s{number}.test:{PORT}/{rng.choice(paths)}"


def laid_out(base: Path, engine: str, sites: int, files: int = 0) -> Ground:
    """files: pages for each site; without any, the sites share a few roots."""
    rng = random.Random(f"{engine} {sites}")
    base.chmod(0o755)
    (base / "logs").mkdir()
    (base / "sites").mkdir()
    for number in range(sites if files else 50):
        _pages(base / "www" / f"s{number}", files or 12, number)
    for number in range(sites):
        where = base / "www" / f"s{number if files else number % 50}"
        text = _BLOCKS[engine](rng, number, where)
        (base / "sites" / f"{number:06d}.conf").write_text(text)
    config = base / f"{engine}.conf"
    config.write_text(_HEADS[engine](base))
    return Ground(config, base, engine, sites)


def _pages(where: Path, files: int, number: int) -> None:
    root = where / "public"
    (root / "pages").mkdir(parents=True)
    (where / "scripts").mkdir()
    (where / "logs").mkdir()
    for name in PAGES:
        (root / name).write_text("page")
    for at in range(files - len(PAGES)):
        (root / "pages" / f"{at}.html").write_text("page")
    form = where / "scripts" / "form"
    form.write_text("#!/bin/sh\n")
    form.chmod(0o755)
    if number % 4 == 0:
        (root / ".htaccess").write_text(OVERRIDE)
    if number % 50 == 3:
        os.chmod(root, 0o700)


def _httpd_head(base: Path) -> str:
    folder = "/usr/lib/apache2/modules"
    loaded = "\n".join(f"LoadModule {name}_module {folder}/mod_{name}.so" for name in MODULES)
    return f"""\
{plain_head(base, ADDRESS, PORT)}
{loaded}
ScriptSock {base}/programs
<Directory />
AllowOverride None
</Directory>
DirectoryIndex index.html index.php
LogFormat "%h %l %u %t \\"%r\\" %>s %O \\"%{{Referer}}i\\" \\"%{{User-Agent}}i\\"" combined
<FilesMatch "^\\.ht">
Require all denied
</FilesMatch>
Include {base}/sites/*.conf
"""


def _httpd_block(rng: random.Random, number: int, where: Path) -> str:
    name, root = f"s{number}.test", where / "public"
    lines = [f"<VirtualHost {ADDRESS}:{PORT}>", f"ServerName {name}"]
    lines += [f"ServerAlias www.{name}"]
    lines += [f"DocumentRoot {root}", f"CustomLog {where}/logs/access combined"]
    kind = rng.random()
    if kind > 0.35:
        lines += [
            f"ErrorLog {where}/logs/error", "ServerSignature Off",
            f"<Directory {root}>", "AllowOverride All", "Options +SymLinksIfOwnerMatch",
            "</Directory>", "RewriteEngine On", "RewriteCond %{HTTP_HOST} ^www\\.(.+)$ [NC]",
            f"RewriteRule ^/shop$ http://shop.{name}/ [R=301,L]",
            '<FilesMatch "\\.php$">', "SetHandler application/x-httpd-php", "</FilesMatch>",
            "Header set X-Content-Type-Options nosniff", f"ScriptAlias /cgi-bin/ {where}/scripts/",
        ]  # fmt: skip
    if kind > 0.85:
        for at in range(12):
            lines += [f"Redirect 301 /old{at} http://{name}/pages/{at}.html"]
        lines += [
            '<FilesMatch "\\.(bak|sql|ini|log)$">', "Require all denied", "</FilesMatch>",
            f"<Directory {root}/pages>", "Options -Indexes", "DirectoryIndex 0.html",
            "</Directory>", "ErrorDocument 404 /robots.txt", "ErrorDocument 403 /about.html",
            "ExpiresActive On", 'ExpiresByType text/css "access plus 1 month"',
            'ExpiresByType image/svg+xml "access plus 1 month"',
            'SetEnvIf User-Agent "Rake" rake', "<Location /files>", "<RequireAll>",
            "Require all granted", "Require not env rake", "</RequireAll>", "</Location>",
            f"Alias /media {where}/public/pages", "AddType text/x-vcard .card",
            "AddCharset utf-8 .html",
        ]  # fmt: skip
    if rng.random() < 0.1:
        lines += [rng.choice(_ODD_HTTPD).format(root=root, number=number, name=name)]
    return "\n".join([*lines, "</VirtualHost>", ""])


_ODD_HTTPD = (
    "ServerAlias *.s{number}.test", "RedirectMatch 302 ^/a(\\d+)$ http://{name}/b$1",
    "<Location /private>\nRequire ip 198.51.100.0/24\n</Location>", "ServerAlias s{number}.example",
    "FallbackResource /index.html", "<If \"%{{REQUEST_METHOD}} == 'PUT'\">\nRequire local\n</If>",
    "ProxyPass /app/ http://127.0.0.1:9400/",
    "UseCanonicalName On\nDirectorySlash Off",
)  # fmt: skip


def _nginx_head(base: Path) -> str:
    return f"""\
user www-data;
pid {base}/pid;
error_log {base}/logs/error;
worker_rlimit_nofile 65536;
events {{ worker_connections 512; }}
http {{
include /etc/nginx/mime.types;
default_type application/octet-stream;
server_names_hash_max_size 65536;
server_names_hash_bucket_size 128;
access_log off;
index index.html index.php;
include {base}/sites/*.conf;
}}
"""


def _nginx_block(rng: random.Random, number: int, where: Path) -> str:
    name, root = f"s{number}.test", where / "public"
    lines = [f"listen {ADDRESS}:{PORT};", f"server_name {name} www.{name};", f"root {root};"]
    kind = rng.random()
    if kind > 0.35:
        lines += [
            "client_max_body_size 20m;", "charset utf-8;", "location / {",
            "try_files $uri $uri/ /index.html;", "}", "location ~ \\.php$ {",
            "fastcgi_pass 127.0.0.1:9000;", "}", "location ~ /\\.ht {", "deny all;", "}",
            "location ~* \\.(css|js|svg|png)$ {", "expires 30d;", "}",
        ]  # fmt: skip
    if kind > 0.85:
        for at in range(12):
            lines += [f"location = /old{at} {{ return 301 /pages/{at}.html; }}"]
        lines += [
            "error_page 404 /robots.txt;", "location ~ \\.(bak|sql|ini|log)$ { deny all; }",
            f"location /media/ {{ alias {root}/pages/; }}", "location /files/ {",
            "allow 198.51.100.0/24;", "deny all;", "}", "add_header X-Frame-Options SAMEORIGIN;",
            "location /cgi-bin/ {", "fastcgi_pass 127.0.0.1:9001;", "}", "gzip on;",
        ]  # fmt: skip
    if rng.random() < 0.1:
        lines += [rng.choice(_ODD_NGINX).format(number=number, name=name)]
    return "\n".join(["server {", *lines, "}", ""])


_ODD_NGINX = (
    "rewrite ^/a(\\d+)$ /b$1 permanent;", "location /app/ {{ proxy_pass http://127.0.0.1:9400; }}",
    "if ($request_method = PUT) {{ return 405; }}", "location /list/ {{ autoindex on; }}",
    "error_page 403 =404 /robots.txt;", "location @later {{ return 404; }}",
)  # fmt: skip
_HEADS = {"httpd": _httpd_head, "nginx": _nginx_head}
_BLOCKS = {"httpd": _httpd_block, "nginx": _nginx_block}
