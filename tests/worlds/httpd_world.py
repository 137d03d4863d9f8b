"""A shared-hosting world from a seed: trees, accounts, virtual hosts, and requests to it."""

from __future__ import annotations

import os
import pwd
import random
import subprocess
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import quote

from tests.worlds.accounts import NAMES
from tests.worlds.httpd_themes import THEMES, Ground, Theme, owned

MODULES = "/usr/lib/apache2/modules"
LOADED = """
    mpm_event authn_core authz_core authz_host access_compat auth_basic authn_file
    authz_user alias dir autoindex mime negotiation userdir headers env setenvif filter
    deflate status rewrite proxy proxy_http cgid expires authz_groupfile
""".split()
ADDRESSES = ("127.0.0.41", "127.0.0.42", "127.0.0.43", "::1")
PORTS = (8081, 8082)
WORDS = """
    tide ferry choir seed boat radio net oar reed salt quay loft mast gull fen
""".split()
ENDINGS = """
    html txt css js png html.txt tar.gz de.html xyz html.de PNG htm svg json
""".split()


@dataclass
class World:
    """base: the folder in which everything lies. config: the main configuration file."""

    seed: int
    base: Path
    config: Path
    sites: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    # Where each site lives: address, port, a name that it claims, root.
    homes: list[tuple[str, int, str, Path]] = field(default_factory=list)
    paths: list[str] = field(default_factory=list)
    logs: list[Path] = field(default_factory=list)
    # By the number of the site: the kind of site that it is, and what is worth asking it.
    themes: dict[str, str] = field(default_factory=dict)
    asked: list[tuple[str, int, str, Theme]] = field(default_factory=list)

    def feature(self, site: str) -> str:
        """The feature that a request to this site tries."""
        return self.themes.get(site, "sites and folders")


class Builder:
    """Lays a world out on the disk."""

    def __init__(self, seed: int, base: Path) -> None:
        self.rng = random.Random(seed)
        self.world = World(seed, base, base / "httpd.conf")
        self.roots: list[Path] = []

    def build(self) -> World:
        base = self.world.base
        for folder in ("sites", "logs", "home", "www", "themed"):
            (base / folder).mkdir(parents=True)
        self._homes()
        for number in range(9):
            root = base / "www" / f"{self.rng.choice(WORDS)}{number}"
            self._tree(root, depth=0)
            self.roots.append(root)
        self._links()
        self._config()
        return self.world

    # --- trees ---

    def _homes(self) -> None:
        for name in NAMES:
            home = self.world.base / "home" / name
            home.mkdir()
            site = home / "public_html"
            if self.rng.random() < 0.85:
                self._tree(site, depth=1, owner=name)
            os.chown(home, *_ids(name))
            home.chmod(self.rng.choice([0o755, 0o711, 0o700, 0o750, 0o755]))

    def _tree(self, folder: Path, depth: int, owner: str | None = None) -> None:
        rng = self.rng
        folder.mkdir()
        for _ in range(rng.randint(1, 4)):
            self._file(folder / f"{rng.choice(WORDS)}.{rng.choice(ENDINGS)}", owner)
        for name in ("a b.txt", "é.html", "per%cent.css", "q?x.txt", "semi;colon.html", "+.html"):
            if rng.random() < 0.06:
                self._file(folder / name, owner)
        if rng.random() < 0.03:
            self._file(folder / ".htaccess", owner)
        for index in ("index.html", "index.htm", "default.html", "start.txt"):
            if rng.random() < 0.3:
                self._file(folder / index, owner)
        if rng.random() < 0.04:
            (folder / "index.html").unlink(missing_ok=True)
            (folder / "index.html").mkdir()
        if depth < 3:
            for word in rng.sample(WORDS, rng.randint(0, 2)):
                if not (folder / word).exists():
                    self._tree(folder / word, depth + 1, owner)
        self._permissions(folder, owner, [0o755] * 14 + [0o711, 0o700, 0o750, 0o744, 0o775])

    def _file(self, path: Path, owner: str | None) -> None:
        if path.exists():
            return
        path.write_text("x" * self.rng.randint(0, 20))
        self._permissions(path, owner, [0o644] * 8 + [0o640, 0o600, 0o604, 0o660, 0o444])

    def _permissions(self, path: Path, owner: str | None, modes: list[int]) -> None:
        rng = self.rng
        who = owner or rng.choice(["root", "www-data", *NAMES])
        uid, gid = _ids(who)
        if rng.random() < 0.3:
            gid = _ids("www-data")[1]
        os.chown(path, uid, gid)
        path.chmod(rng.choice(modes))
        if rng.random() < 0.12:
            entry = rng.choice(
                [
                    "u:www-data:r-x",
                    "u:www-data:---",
                    "g:www-data:r-x",
                    "g:ecwhalf:r-x",
                    "g:ecwhalf:--x",
                    "u:ecw1:rwx",
                    "m::---",
                    "m::r--",
                    "o::---",
                ]
            )
            subprocess.run(["setfacl", "-m", entry, str(path)], check=True, capture_output=True)

    def _links(self) -> None:
        rng = self.rng
        homes = [self.world.base / "home" / name for name in NAMES]
        everything = [p for root in self.roots for p in root.rglob("*")]
        for _ in range(14):
            folder = rng.choice([p for p in everything if p.is_dir()] + self.roots)
            link = folder / f"to{rng.randint(0, 999)}{rng.choice(['', '.html', '.css'])}"
            target = rng.choice(
                [
                    str(rng.choice(everything)),
                    rng.choice(everything).name,
                    "nowhere",
                    link.name,
                    str(rng.choice(homes)),
                    "..",
                    str(rng.choice(everything)) + "/",
                ]
            )
            if link.is_symlink() or link.exists():
                continue
            link.symlink_to(target)
            os.lchown(link, *_ids(rng.choice(["root", "www-data", *NAMES])))

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
        rng, base = self.rng, self.world.base
        site, kind = f"{number:03d}", rng.choice(list(THEMES))
        address, port = rng.choice(ADDRESSES), rng.choice(PORTS)
        name = f"{site}.themed.test"
        root = base / "themed" / site
        root.mkdir(parents=True)
        theme = THEMES[kind](Ground(rng, root, name, port))
        owned(root, *_ids(rng.choice(NAMES)))
        log = base / "logs" / f"{site}.log"
        lines = [
            f"<VirtualHost {literal(address)}:{port} {literal(address)}>",
            f"ServerName {name}",
            f"DocumentRoot {root}",
            f"Header always set X-Site {site}",
            f"CustomLog logs/{site}.log plain",
            *theme.lines,
            "</VirtualHost>",
        ]
        self.world.sites.append(site)
        self.world.themes[site] = kind
        self.world.logs.append(log)
        self.world.asked.append((address, port, name, theme))
        (base / "sites" / f"{site}.conf").write_text("\n".join(lines) + "\n")

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


def literal(address: str) -> str:
    return f"[{address}]" if ":" in address else address


def _first(bindings: str) -> tuple[str, int]:
    """An address and port on which a block with these bindings is asked."""
    first = bindings.split()[0]
    address, _, port = first[1:].partition("]") if first[0] == "[" else first.partition(":")
    port = port.lstrip(":")
    known = address in ADDRESSES
    return (address if known else ADDRESSES[0], int(port) if port.isdigit() else PORTS[0])


def _ids(name: str) -> tuple[int, int]:
    row = pwd.getpwnam(name)
    return row.pw_uid, row.pw_gid


# --- requests ---


def requests(world: World, count: int) -> list[dict[str, object]]:
    """Requests in the batch format, all to the world's own addresses."""
    rng = random.Random(world.seed * 7919 + 1)
    personal = _personal(world)
    below = {root: _below(root) for *_, root in world.homes}
    return [_request(world, rng, number, personal, below) for number in range(count)]


def _below(root: Path) -> list[str]:
    found = ["/"]
    for path in sorted(root.rglob("*")):
        slash = "/" if path.is_dir() and not path.is_symlink() else ""
        found.append(quote("/" + str(path.relative_to(root)) + slash))
    return found


def _personal(world: World) -> list[str]:
    found = []
    for name in NAMES:
        site = world.base / "home" / name / "public_html"
        found += [f"/~{name}", f"/~{name}/"] * 3
        found += [f"/~{name}{path}" for path in _below(site)]
    return found


def _request(
    world: World,
    rng: random.Random,
    number: int,
    personal: list[str],
    below: dict[Path, list[str]],
) -> dict[str, object]:
    if world.asked and rng.random() < 0.6:
        return _themed_request(world, rng, number)
    address, port, name, root = rng.choice(world.homes)
    files = below[root]
    if rng.random() < 0.2:
        files = personal
    if rng.random() < 0.12:
        address, port = rng.choice(ADDRESSES), rng.choice(PORTS)
    if rng.random() < 0.12:
        name = rng.choice(
            [*world.names, "unknown.test", literal(address), "localhost", "main.test"]
        )
    if rng.random() < 0.2 and "[" not in name:
        name = rng.choice([name.upper(), name + ".", name.title()])
    url = f"http://{name}:{port}{_path(rng, files)}"
    if rng.random() < 0.2:
        url += rng.choice(["?", "?a=1", "?x=%20y&z", "?/"])
    client = "::1" if address == "::1" else "127.0.0.1"
    row: dict[str, object] = {"id": number, "url": url, "to": address, "from": client}
    if rng.random() < 0.12:
        row["host"] = rng.choice(
            [
                "",
                name,
                name + ":1",
                name + ":99999",
                f"{name}:",
                "a..b",
                "a b",
                "_x.test",
                "-x.test",
                "1.2.3.4",
                "1.2.3.4.5",
                "256.1.1.1",
                "01.2.3.4",
                "x.1",
                "[::1]",
                "a,b",
                "a%41",
                ".test",
                "x." + name,
                name + "..",
                "a*b",
                "é.test",
                "1.2.3",
                "a.b.1c",
                "12",
                "[::1",
                "a:b:1",
                "[::1]:80",
                "[x]",
                "a.-b",
                "a._b",
                "0.0.0.0",
            ]
        )
    row["method"] = rng.choice(["GET"] * 8 + ["HEAD", "POST"])
    return row


def _themed_request(world: World, rng: random.Random, number: int) -> dict[str, object]:
    address, port, name, theme = rng.choice(world.asked)
    path = rng.choice(theme.paths)
    if rng.random() < 0.1:
        path += rng.choice(["?a=1", "/", "%20", "?x=%20y&z"])
    client = "::1" if address == "::1" else "127.0.0.1"
    row: dict[str, object] = {"id": number, "to": address, "from": client}
    row["url"] = f"http://{name}:{port}{path}"
    row["method"] = rng.choice(theme.methods)
    if rng.random() < 0.1:
        row["host"] = rng.choice([name, f"{name}:1", f"www.{name}"])
    if rng.random() < 0.1:
        row["headers"] = rng.choice(
            [
                {"User-Agent": "BadBot/1"},
                {"X-Forwarded-Proto": "https"},
                {"Referer": "http://spam.test/"},
            ]
        )
    return row


def _path(rng: random.Random, files: list[str]) -> str:
    path = rng.choice(files)
    chance = rng.random()
    if chance < 0.6:
        return path
    word = rng.choice(WORDS)
    return rng.choice(
        [
            path.rstrip("/") or "/",
            path + "/",
            f"{path}/more",
            path + word,
            f"/{word}",
            f"/{word}/",
            path.replace("/", "//"),
            f"/./{path}",
            f"/{word}/..{path}",
            "/.." + path,
            path + "%20",
            path.replace("e", "%65"),
            path + "%2f",
            path + "%zz",
            "/.htaccess",
            "/~nobody",
            "/~nobody/x",
            "/%7Eecw1/",
            "/~ecw1//",
            "/~ECW1/",
            "/~ecw3%2f",
            "/~",
            path + "/..",
            path + "/.",
            path.upper(),
            "/~root/",
            path + ";x",
            path + "%00",
            f"/{word}.txt/",
            path + "/index.html",
            path + "%C3%A9",
            path + "%5c",
            path + "~",
            path + "'(x)",
            path + "%3f",
            path + "|x",
            path + "^",
            path + "{a}",
            path + "[b]",
            path + "`",
        ]
    )
