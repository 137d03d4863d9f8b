"""A shared-hosting world from a seed: trees, accounts, virtual hosts, and requests to it."""

from __future__ import annotations

import random
from pathlib import Path

from tests.worlds.httpd_themes import THEMES
from tests.worlds.seals import NAMES as NAMES_SEALED
from tests.worlds.seals import certificates
from tests.worlds.trees import ADDRESSES, PORTS, SEALED_PORT, WORDS, Trees, World, literal

MODULES = "/usr/lib/apache2/modules"
LOADED = """
    mpm_event authn_core authz_core authz_host access_compat auth_basic authn_file
    authz_user alias dir autoindex mime negotiation userdir headers env setenvif filter
    deflate status rewrite proxy proxy_http cgid expires authz_groupfile ssl macro
""".split()


class Builder(Trees):
    """Lays a world out on the disk."""

    def __init__(self, seed: int, base: Path) -> None:
        self.rng = random.Random(seed)
        self.world = World(seed, base, base / "httpd.conf")
        self.roots: list[Path] = []

    def build(self) -> World:
        self.lay_out()
        self._config()
        return self.world

    # --- configuration ---

    def _extra(self, root: Path) -> list[str]:
        """What hosting configurations hold beside the usual."""
        rng, base = self.rng, self.world.base
        word, other = rng.sample(WORDS, 2)
        below = [p for p in root.rglob("*") if p.is_dir()] or [root]
        folder = rng.choice([root, *below])
        inside = rng.choice(
            [
                ["AllowOverride All"],
                ["ErrorDocument 403 closed", "ErrorDocument 404 closed"],
                ["ErrorDocument 403 http://other.test/"],
                ["AddHandler odd-script .xyz .txt"],
                ["AllowOverride FileInfo AuthConfig"],
                ["AuthMerging And", self._rule()],
                ["AuthMerging Or", self._rule()],
                ["AuthType Basic", 'AuthName "a b"', "AuthUserFile /dev/null", self._login()],
                ["Require valid-user"],
                [f"<Files {word}.*>", self._rule(), "</Files>"],
                [
                    '<FilesMatch "\\.(txt|css)$">',
                    self._rule(),
                    "ForceType text/x-c",
                    "</FilesMatch>",
                ],
                ["IndexOptions Charset=UTF-8", "Options +Indexes"],
                ["IndexOptions Type=text/plain", "Options +Indexes"],
                ["ForceType None"],
                ["SetHandler None"],
                ["AddType Text/X-Upper .xyz"],
                ['AddType "text/plain; charset=x" .xyz'],
                ["RemoveType .html"],
                ["AddDefaultCharset On"],
                ["AddDefaultCharset Off"],
                ["AddCharset koi8-r .de"],
                ["AddOutputFilter INCLUDES .xyz"],
                ["DirectoryIndex sub/index.html index.htm"],
                ["UseCanonicalName On"],
                ["UseCanonicalPhysicalPort Off"],
                ["AcceptPathInfo On"],
                ["LimitRequestBody 100"],
                ["Order deny,allow", "Deny from all"],
                ["<Limit POST>", "Require all denied", "</Limit>"],
                ["Options All"],
                ["Options +FollowSymLinks -SymLinksIfOwnerMatch"],
                ["RemoveHandler .var"],
            ]
        )
        section = rng.choice(
            [
                f"Directory {folder}",
                f"Directory {root}/*",
                f"Directory {base}/www/*/{word}",
                f"Directory {root}/index.html",
                f'Directory ~ "/{word}"',
                f'DirectoryMatch "^{base}/www/[a-m]"',
                f"Location /{word}",
                f"Directory {base}/www/?{word[1:]}*",
                f'DirectoryMatch "{word}"',
                "Location /*.txt",
                f'Location ~ "^/{word}"',
                "Location /",
                f"Location /{word}/",
                f"Directory {folder}/",
            ]
        )
        # The server's own grammar has these in plain folder sections alone.
        plain = section.startswith("Directory /")
        if not plain and inside[0].startswith(("AllowOverride", "<Files")):
            inside = [self._rule()]
        whole = [
            ['ErrorDocument 404 "gone away"'],
            ["ErrorDocument 403 /index.html"],
            ["ErrorDocument 403 http://other.test/"],
            ["ErrorDocument 404 http://other.test/"],
            [f"Redirect /{word} http://other.test/x"],
            [f"RedirectMatch ^/{word} http://other.test/"],
            [f"ServerAlias {word}.test {other}.test"],
            [f"Define R{word} {root}", f"Alias /{other} ${{R{word}}}"],
            ["UseCanonicalName On"],
            [f"AliasMatch ^/{word}/(.*)$ {root}/$1"],
            ["AddType text/x-v .svg"],
            ["RewriteEngine Off"],
            ["UserDir http://people.test/~*/"],
            ["UserDir disabled", "UserDir enabled ecw1"],
            [f"UserDir {base}/none {base}/home/*/public_html"],
            ["Options -FollowSymLinks"],
            [f"Alias /{word} {root}/"],
            [f"Alias /{word}/ {root}"],
            ["DirectoryIndex disabled"],
            ["DirectorySlash Off"],
            ["AccessFileName .over"],
            [f"Alias /{word}/{other} {rng.choice(self.roots)}", f"Alias /{word} {root}"],
        ]
        if rng.random() < 0.4:
            return rng.choice(whole)
        return [f"<{section}>", *inside, f"</{section.split()[0]}>"]

    def _login(self) -> str:
        return self.rng.choice(
            ["Require valid-user", "Require user ann", "Require valid-user\nRequire ip 127.0.0.1",
             "<RequireAll>\nRequire valid-user\nRequire ip 192.0.2.1\n</RequireAll>",
             "<RequireAll>\nRequire valid-user\nRequire local\n</RequireAll>"]
        )  # fmt: skip

    def _config(self) -> None:
        base, rng = self.world.base, self.rng
        lines = [
            f"ServerRoot {base}",
            f"PidFile {base}/httpd.pid",
            "ServerName main.test",
            f"ErrorLog {base}/logs/error.log",
            "User www-data",
            "Group www-data",
            "KeepAlive Off",
            "StartServers 1",
            "ServerLimit 2",
            "LogLevel warn",
        ]
        lines += [f"LoadModule {name}_module {MODULES}/mod_{name}.so" for name in LOADED]
        lines += [f"Listen {literal(address)}:{port}" for address in ADDRESSES for port in PORTS]
        lines += [
            "TypesConfig /etc/mime.types",
            'LogFormat "%h %l %u %t \\"%r\\" %>s %b" plain',
            f"CustomLog {base}/logs/main.log plain",
            "Header always set X-Site main",
        ]
        lines += self._defaults()
        lines += [
            "AddLanguage de .de",
            "AddEncoding x-gzip .gz",
            "AddType text/x-note .note",
            "AddCharset UTF-8 .utf8",
        ]
        self.world.logs.append(base / "logs" / "main.log")
        for number in range(rng.randint(20, 26)):
            self._site(number)
        lines.append(f"Listen {ADDRESSES[0]}:{SEALED_PORT}")
        self._sealed()
        self._by_macro()
        for number in range(100, 100 + rng.randint(8, 12)):
            self._themed(number)
        lines += ["Include sites/*.conf", "IncludeOptional nothing/*.conf"]
        self.world.config.write_text("\n".join(lines) + "\n")

    def _defaults(self) -> list[str]:
        rng, base = self.rng, self.world.base
        lines = [f"DocumentRoot {rng.choice(self.roots)}"]
        lines += rng.choice([[], ["Options FollowSymLinks"], ["Options None"]])
        root_rule = rng.choice(["Require all denied", "Require all denied", "", "Require local"])
        share = rng.choice(["Options Indexes FollowSymLinks", "Options +Indexes", "", ""])
        lines += [
            "<Directory />",
            rng.choice(
                ["Options FollowSymLinks", "Options None", "Options SymLinksIfOwnerMatch", ""]
            ),
            "AllowOverride None",
            root_rule,
            "</Directory>",
        ]
        lines += [f"<Directory {base}/www>", "Require all granted", share, "</Directory>"]
        lines += [
            f"<Directory {base}/home/*/public_html>",
            self._rule(),
            rng.choice(["Options Indexes SymLinksIfOwnerMatch", "", "Options -Indexes"]),
            "</Directory>",
        ]
        lines += ['<FilesMatch "^\\.ht">', "Require all denied", "</FilesMatch>"]
        if rng.random() < 0.7:
            lines += ["UserDir public_html", rng.choice(["UserDir disabled root ecw2", ""])]
        lines += rng.choice(
            [
                [],
                ["DirectoryIndex index.html index.htm"],
                ["DirectoryIndex default.html", "DirectoryIndex index.html"],
            ]
        )
        lines += rng.choice([[], ["UseCanonicalName On"], ["UseCanonicalPhysicalPort On"]])
        return lines

    def _rule(self) -> str:
        return self.rng.choice(
            ["Require all granted"] * 16
            + [
                "Require all denied",
                "Require local",
                "Require ip 127.0.0.1",
                "Require ip 127.0.0.0/8",
                "Require ip 192.0.2.0/24 198.51.100.7",
                "Require ip 127",
                "<RequireAny>\nRequire ip 192.0.2.1\nRequire local\n</RequireAny>",
                "<RequireAll>\nRequire all granted\nRequire not ip 127.0.0.1\n</RequireAll>",
                "Require method GET",
                "Require ip 127.0.0.0/255.255.255.0",
            ]
        )

    def _site(self, number: int) -> None:
        rng, base = self.rng, self.world.base
        site = f"{number:03d}"
        self.world.sites.append(site)
        log = base / "logs" / f"{site}.log"
        bindings = self._bindings()
        lines = [f"<VirtualHost {bindings}>"]
        name = f"{rng.choice(WORDS)}{rng.randint(0, 12)}.{rng.choice(['test', 'example'])}"
        if rng.random() < 0.9:
            name_line = name + rng.choice(["", "", "", f":{PORTS[0]}", ":8099"])
            lines.append(f"ServerName {name_line}")
            self.world.names.append(name)
        for _ in range(rng.choice([0, 0, 1, 2])):
            alias = rng.choice(
                [
                    f"www.{name}",
                    f"*.{name}",
                    f"{rng.choice(WORDS)}.test",
                    "*.test",
                    f"{name}.",
                    f"W?W.{name}",
                    name.upper(),
                ]
            )
            lines.append(f"ServerAlias {alias}")
            self.world.names.append(alias.replace("*", "any").replace("?", "w"))
        root = rng.choice([*self.roots, base / "www" / "gone"])
        root = rng.choice([root, root, next((p for p in root.glob("*/") if p.is_dir()), root)])
        lines += [
            f"DocumentRoot {rng.choice(['', chr(34)])}{root}/".replace(
                '"' + str(root) + "/", f'"{root}"'
            ),
            f"Header always set X-Site {site}",
        ]
        if rng.random() < 0.8:
            lines.append(f"CustomLog logs/{site}.log plain")
            self.world.logs.append(log)
        lines += self._sections(root)
        for _ in range(rng.choice([0, 1, 1, 2])):
            lines += self._extra(root)
        lines.append("</VirtualHost>")
        address, port = _first(bindings)
        self.world.homes.append((address, port, name, root))
        (base / "sites" / f"{site}.conf").write_text("\n".join(line for line in lines) + "\n")

    def _themed(self, number: int) -> None:
        """A site of one kind, on ground of its own."""
        at = self.stand(number, THEMES)
        base = self.world.base
        lines = [
            f"<VirtualHost {literal(at.address)}:{at.port} {literal(at.address)}>",
            f"ServerName {at.name}",
            f"DocumentRoot {at.root}",
            f"Header always set X-Site {at.site}",
            f"CustomLog logs/{at.site}.log plain",
            *at.theme.lines,
            "</VirtualHost>",
        ]
        self.world.sites.append(at.site)
        self.world.logs.append(base / "logs" / f"{at.site}.log")
        (base / "sites" / f"{at.site}.conf").write_text("\n".join(lines) + "\n")

    def _sealed(self) -> None:
        """Sites on a door that speaks TLS: with one certificate, with another, and with none."""
        rng, base = self.rng, self.world.base
        pairs = certificates(base)
        for number, name in enumerate(NAMES_SEALED, 300):
            site = f"{number:03d}"
            crt, key = rng.choice(pairs)
            speaks = number == 300 or rng.random() < 0.8
            lines = [
                f"<VirtualHost {ADDRESSES[0]}:{SEALED_PORT}>",
                f"ServerName {name}.sealed.test",
                f"DocumentRoot {rng.choice(self.roots)}",
                f"Header always set X-Site {site}",
                f"CustomLog logs/{site}.log plain",
                "SSLEngine On" if speaks else "",
                f"SSLCertificateFile {crt}\nSSLCertificateKeyFile {key}" if speaks else "",
                "</VirtualHost>",
            ]
            self.world.sites.append(site)
            self.world.themes[site] = "sealed sites"
            self.world.logs.append(base / "logs" / f"{site}.log")
            (base / "sites" / f"{site}.conf").write_text("\n".join(lines) + "\n")

    def _by_macro(self) -> None:
        """A site that is written down once and filled in by its use."""
        rng, base = self.rng, self.world.base
        address, port, root = rng.choice(ADDRESSES), rng.choice(PORTS), rng.choice(self.roots)
        text = (
            f"<Macro Site400 $name $root $rule>\n<VirtualHost {literal(address)}:{port}>\n"
            "ServerName $name.macro.test\nDocumentRoot $root\n<Directory $root>\n$rule\n"
            "</Directory>\nHeader always set X-Site 400\nCustomLog logs/400.log plain\n"
            f'</VirtualHost>\n</Macro>\nUse Site400 filled {root} "Require all granted"\n'
        )
        self.world.sites.append("400")
        self.world.themes["400"] = "macros"
        self.world.logs.append(base / "logs" / "400.log")
        self.world.homes.append((address, port, "filled.macro.test", root))
        (base / "sites" / "400.conf").write_text(text)

    def _bindings(self) -> str:
        rng = self.rng
        one = f"{literal(rng.choice(ADDRESSES))}:{rng.choice(PORTS)}"
        return rng.choice(
            [
                one,
                one,
                one,
                f"*:{rng.choice(PORTS)}",
                literal(rng.choice(ADDRESSES)),
                f"{one} *:8082",
                "*",
                f"_default_:{rng.choice(PORTS)}",
                f"{ADDRESSES[2]}:{PORTS[0]}",
            ]
        )

    def _sections(self, root: Path) -> list[str]:
        rng = self.rng
        lines: list[str] = []
        options = ["Indexes", "FollowSymLinks", "SymLinksIfOwnerMatch", "MultiViews"]
        below = [p for p in root.rglob("*") if p.is_dir()] if root.exists() else []
        if rng.random() < 0.8:
            picked = rng.choice(
                [
                    " ".join(rng.sample(options, rng.randint(1, 3))),
                    "+" + rng.choice(options),
                    "-" + rng.choice(options),
                    "None",
                ]
            )
            lines += [
                f"<Directory {root}>",
                self._rule(),
                f"Options {picked}",
                rng.choice(
                    [
                        "",
                        "",
                        "DirectoryIndex start.txt index.html",
                        "DirectoryIndex disabled",
                        "DirectorySlash Off",
                    ]
                ),
                "</Directory>",
            ]
        if below and rng.random() < 0.5:
            lines += [
                f"<Directory {rng.choice(below)}>",
                self._rule(),
                rng.choice(
                    [
                        "",
                        "Options -Indexes",
                        "Options +Indexes",
                        "ForceType text/x-a",
                        "AddType text/x-b .txt",
                        "AddDefaultCharset utf-8",
                    ]
                ),
                "</Directory>",
            ]
        word = rng.choice(WORDS)
        lines += rng.choice(
            [
                [],
                [],
                [f"<Location /{word}>", self._rule(), "</Location>"],
                [
                    f'<Files "{rng.choice(["*.css", "index.html", word, "t*"])}">',
                    self._rule(),
                    "</Files>",
                ],
                [f'<LocationMatch "^/{word[0]}.*\\.txt$">', self._rule(), "</LocationMatch>"],
                [f'<DirectoryMatch "/{word}$">', self._rule(), "</DirectoryMatch>"],
                [f"Alias /{word} {rng.choice(self.roots)}"],
                [f"Alias /{word}/ {rng.choice(self.roots)}/"],
                ["UserDir disabled", "UserDir enabled ecw1 ecw3"],
                [f"UserDir {self.world.base}/home/*/public_html"],
                [f"UserDir {self.world.base}/www public_html"],
                ["<IfModule mod_gone.c>", "Unheard Of", "</IfModule>"],
            ]
        )
        return lines


def _first(bindings: str) -> tuple[str, int]:
    """An address and port on which a block with these bindings is asked."""
    first = bindings.split()[0]
    address, _, port = first[1:].partition("]") if first[0] == "[" else first.partition(":")
    port = port.lstrip(":")
    known = address in ADDRESSES
    return (address if known else ADDRESSES[0], int(port) if port.isdigit() else PORTS[0])
