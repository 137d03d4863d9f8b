"""Trees of files on disk, as hosting servers hold them: owners, modes, ACLs, links."""

from __future__ import annotations

import os
import pwd
import random
import subprocess
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from tests.worlds.accounts import NAMES
from tests.worlds.grounds import Ground, Theme, owned

ADDRESSES = ("127.0.0.41", "127.0.0.42", "127.0.0.43", "::1")
PORTS = (8081, 8082)
SEALED_PORT = 8444
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


@dataclass
class Stand:
    """Where a site of one kind stands: its number, address, port, name and document root."""

    site: str
    address: str
    port: int
    name: str
    root: Path
    theme: Theme


class Trees:
    """Lays trees out on the disk."""

    rng: random.Random
    world: World
    roots: list[Path]

    def lay_out(self) -> None:
        """The folders of a world, its homes and trees, and links across them."""
        base = self.world.base
        for folder in ("sites", "logs", "home", "www", "themed"):
            (base / folder).mkdir(parents=True)
        self._homes()
        for number in range(9):
            root = base / "www" / f"{self.rng.choice(WORDS)}{number}"
            self._tree(root, depth=0)
            self.roots.append(root)
        self._links()

    def stand(self, number: int, themes: Mapping[str, Callable[[Ground], Theme]]) -> Stand:
        """Ground of its own for a site of one kind, drawn from these."""
        rng = self.rng
        site, kind = f"{number:03d}", rng.choice(list(themes))
        address, port = rng.choice(ADDRESSES), rng.choice(PORTS)
        name, root = f"{site}.themed.test", self.world.base / "themed" / site
        root.mkdir(parents=True)
        theme = themes[kind](Ground(rng, root, name, port))
        owned(root, *ids(rng.choice(NAMES)))
        self.world.themes[site] = kind
        self.world.asked.append((address, port, name, theme))
        return Stand(site, address, port, name, root, theme)

    def _homes(self) -> None:
        for name in NAMES:
            home = self.world.base / "home" / name
            home.mkdir()
            site = home / "public_html"
            if self.rng.random() < 0.85:
                self._tree(site, depth=1, owner=name)
            os.chown(home, *ids(name))
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
        uid, gid = ids(who)
        if rng.random() < 0.3:
            gid = ids("www-data")[1]
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
            os.lchown(link, *ids(rng.choice(["root", "www-data", *NAMES])))


def ids(name: str) -> tuple[int, int]:
    row = pwd.getpwnam(name)
    return row.pw_uid, row.pw_gid


def literal(address: str) -> str:
    return f"[{address}]" if ":" in address else address
