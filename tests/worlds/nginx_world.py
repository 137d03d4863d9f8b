"""A shared-hosting world from a seed, for nginx: trees, servers, and sites of one kind each."""

from __future__ import annotations

import random
from pathlib import Path

from tests.worlds.nginx_themes import THEMES
from tests.worlds.seals import NAMES as NAMES_SEALED
from tests.worlds.seals import certificates
from tests.worlds.trees import ADDRESSES, PORTS, SEALED_PORT, WORDS, Trees, World, literal

MAPS = """
map $arg_k $mapped { default ""; one first; two second; ~^three(?<n>\\d) third$n; }
map $host $mapped_host { hostnames; default none; *.themed.test themed; .example ex; }
upstream dead { server 127.0.0.1:9; }
"""


class Builder(Trees):
    """Lays a world out on the disk."""

    def __init__(self, seed: int, base: Path) -> None:
        self.rng = random.Random(seed)
        self.world = World(seed, base, base / "nginx.conf")
        self.roots: list[Path] = []

    def build(self) -> World:
        self.lay_out()
        base, rng = self.world.base, self.rng
        for number in range(rng.randint(14, 20)):
            self._site(number)
        for number in range(100, 100 + rng.randint(8, 12)):
            self._themed(number)
        # Each address and port is listened on, so that whatever is asked is answered.
        for number, (address, port) in enumerate((a, p) for a in ADDRESSES for p in PORTS):
            self._standing(200 + number, address, port)
        self._sealed()
        self.world.logs.append(base / "logs" / "main.log")
        temporary = "\n".join(
            f"{kind}_temp_path {base}/tmp/{kind};" for kind in ("proxy", "fastcgi", "scgi", "uwsgi")
        )
        whole = rng.choice(["", "", "server_names_hash_bucket_size 128;", "autoindex on;"])
        self.world.config.write_text(
            f"user www-data;\npid {base}/nginx.pid;\nerror_log {base}/logs/error.log;\n"
            "worker_processes 1;\nevents { worker_connections 256; }\n"
            f"http {{\ninclude /etc/nginx/mime.types;\nlog_format plain '$host \"$request\" $status';\n"
            f"access_log {base}/logs/main.log plain;\nkeepalive_timeout 0;\n"
            f"client_body_temp_path {base}/tmp/body;\n{temporary}\n"
            f"{rng.choice(['default_type application/octet-stream;', ''])}\n{whole}\n{MAPS}"
            "server_names_hash_max_size 2048;\ninclude sites/*.conf;\n}\n"
        )
        (base / "tmp").mkdir()
        return self.world

    def _sealed(self) -> None:
        """Sites on a door that speaks TLS, one of which may reject names that it does not know."""
        rng = self.rng
        pairs = certificates(self.world.base)
        for number, name in enumerate(NAMES_SEALED, 300):
            crt, key = rng.choice(pairs)
            lines = [
                f"listen {ADDRESSES[0]}:{SEALED_PORT} ssl;",
                f"server_name {name}.sealed.test;",
                f"root {rng.choice(self.roots)};",
                f"ssl_certificate {crt};\nssl_certificate_key {key};",
                rng.choice(["", "", "", "ssl_reject_handshake on;", "error_page 497 /x;"]),
            ]
            self.world.themes[f"{number:03d}"] = "sealed sites"
            self._write(number, lines)

    def _standing(self, number: int, address: str, port: int) -> None:
        """A last server on each door, which claims no name that is asked for."""
        lines = [f"listen {literal(address)}:{port};", f"server_name standing{number}.test;"]
        self._write(number, [*lines, f"root {self.rng.choice(self.roots)};"])

    def _write(self, number: int, lines: list[str], *, log: bool = True) -> None:
        site = f"{number:03d}"
        base = self.world.base
        self.world.sites.append(site)
        head = [f"add_header X-Site {site} always;"]
        if log:
            path = base / "logs" / f"{site}.log"
            self.world.logs.append(path)
            head.append(f"access_log {path} plain;")
        text = "\n".join(["server {", *head, *(line for line in lines if line), "}", ""])
        (base / "sites" / f"{site}.conf").write_text(text)

    def _themed(self, number: int) -> None:
        at = self.stand(number, THEMES)
        lines = [f"listen {literal(at.address)}:{at.port};", f"server_name {at.name};"]
        has_root = any(line.startswith("root ") for line in at.theme.lines)
        lines += [] if has_root else [f"root {at.root};"]
        self._write(number, lines + at.theme.lines)

    def _site(self, number: int) -> None:
        rng = self.rng
        name = f"{rng.choice(WORDS)}{number}.{rng.choice(['test', 'example'])}"
        listens, address, port = self._listens(number)
        names = [name]
        for _ in range(rng.choice([0, 0, 1, 2])):
            alias = rng.choice(
                [f"www.{name}", f"*.{name}", f".more{number}.test", f"any{number}.*", f"~^w[0-9]+\\.s{number}\\.test$",
                 f"~^(?<sub>[a-z]+)\\.{number}\\.test$", f"UP{number}.Test", f"*.s{number}.test"]
            )  # fmt: skip
            names.append(alias)
            asked = alias.replace("*", "any").replace("~^w[0-9]+\\", "w7").replace("\\", "")
            self.world.names.append(asked.rstrip("$").replace("~^(?<sub>[a-z]+)", "sub"))
        self.world.names.append(name)
        root = rng.choice([*self.roots, self.world.base / "www" / "gone"])
        root = rng.choice([root, root, next((p for p in root.glob("*/") if p.is_dir()), root)])
        lines = [*listens, f"server_name {' '.join(names)};", f"root {root};"]
        if rng.random() < 0.1:
            lines[-2] = ""
        for _ in range(rng.choice([0, 1, 1, 2])):
            lines += self._extra(root)
        self.world.homes.append((address, port, name, root))
        self._write(number, _distinct(lines), log=rng.random() < 0.8)

    def _listens(self, number: int) -> tuple[list[str], str, int]:
        rng = self.rng
        address, port = rng.choice(ADDRESSES), rng.choice(PORTS)
        one = f"listen {literal(address)}:{port};"
        chance = rng.random()
        if chance < 0.15:
            # The first of a door may be marked as the one that answers for unknown names.
            taken = self.world.themes.setdefault(f"door {address} {port}", "")
            if not taken:
                self.world.themes[f"door {address} {port}"] = "x"
                return [one.replace(";", " default_server;")], address, port
        if chance < 0.3:
            other = rng.choice([a for a in ADDRESSES if a != address])
            return [one, f"listen {literal(other)}:{port};"], address, port
        return [one], address, port

    def _extra(self, root: Path) -> list[str]:
        rng = self.rng
        word, other = rng.sample(WORDS, 2)
        below = [p for p in root.rglob("*") if p.is_dir()] if root.exists() else []
        folder = rng.choice([root, *below])
        return rng.choice(
            [
                ["autoindex on;"], ["index default.html index.html;"], ["index start.txt index.htm;"], [f"location /{word} {{ deny all; }}"],
                [f"location /{word}/ {{ alias {folder}/; }}"], ["location ~ \\.txt$ { allow 127.0.0.1; deny all; }"], ["location / { try_files $uri $uri/ =404; }"],
                [f"location /{word} {{ return 301 http://other.test$request_uri; }}"], ["error_page 404 /index.html;"], ["merge_slashes off;"], ["absolute_redirect off;"],
                ["server_name_in_redirect on;"], ["port_in_redirect off;"], ["charset utf-8;"], [f"rewrite ^/{word}/(.*)$ /{other}/$1;"], ["disable_symlinks on;"],
                [f"location = /{word} {{ return 200 {other}; }}"], ["location ~ /\\. { deny all; }"], ["default_type text/x-mine;"], ["location ~* \\.(css|js|png)$ { expires 7d; }"],
                ["disable_symlinks on;", "location / { try_files $uri $uri/ =404; }"],
            ]
        )  # fmt: skip


def _distinct(lines: list[str]) -> list[str]:
    """A statement that may stand but once, once."""
    seen: dict[str, str] = {}
    for line in lines:
        key = line.partition("{")[0] if line.startswith("location") else line.partition(" ")[0]
        if line.startswith(("listen", "rewrite", "error_page")):
            key = line
        seen.setdefault(key, line)
    return list(seen.values())
