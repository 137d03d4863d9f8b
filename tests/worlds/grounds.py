"""Sites of one kind each: the ground that they stand on, and what is worth asking them."""

from __future__ import annotations

import os
import random
from dataclasses import dataclass, field
from pathlib import Path


@dataclass
class Ground:
    """One site's own ground. root: its document root; address: where the site is asked."""

    rng: random.Random
    root: Path
    name: str
    port: int

    def write(self, path: str, text: str = "x", mode: int = 0o644) -> None:
        file = self.root / path
        file.parent.mkdir(parents=True, exist_ok=True)
        if not file.is_dir():
            file.write_text(text)
            file.chmod(mode)

    def override(self, lines: list[str], folder: str = "") -> None:
        self.write(
            f"{folder}/.htaccess".lstrip("/"), "\n".join(line for line in lines if line) + "\n"
        )

    def some(self, *choices: str, most: int = 3) -> list[str]:
        return self.rng.sample(choices, self.rng.randint(1, min(most, len(choices))))


@dataclass
class Theme:
    """lines: inside the virtual host. paths: worth asking for."""

    lines: list[str] = field(default_factory=list)
    paths: list[str] = field(default_factory=list)
    methods: list[str] = field(default_factory=lambda: ["GET"])


TREE = ("index.html", "about.html", "style.css", "sub/index.html", "sub/page.txt", "sub/deep/x.html",
        "empty/.keep", "old/a.html", "images/l.png", "app.php", "a b.html", "x.html.de")  # fmt: skip
PATHS = ["/", "/about.html", "/sub", "/sub/", "/sub/page.txt", "/sub/deep", "/sub/deep/", "/empty/",
         "/old/a.html", "/nothing", "/nothing/here", "/sub/nothing", "/about.html/x", "/style.css",
         "/a%20b.html", "/images/l.png", "/about", "/sub/page.txt/", "/x.html.de", "/app.php",
         "/nothing?x=1", "/?p=7", "/%C3%A9", "/a%2520b", "/sub//page.txt", "/.htaccess"]  # fmt: skip


def lay(ground: Ground) -> None:
    for path in TREE:
        if ground.rng.random() < 0.9:
            ground.write(path)


def owned(root: Path, uid: int, gid: int) -> None:
    """Gives a site's ground to one account; what was made closed stays closed to the worker."""
    for path in (root, *root.rglob("*")):
        os.lchown(path, uid, gid)
