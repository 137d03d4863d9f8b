"""Builds the demo server's file table: folders and files with owners, modes and times."""

from __future__ import annotations

import random
from collections.abc import Iterable
from dataclasses import replace

from ecumen.survey import Acl, Entry, FileTable, Kind, parse_acl

DAY = 86_400_000_000_000  # nanoseconds


class DemoGround:
    """The file system while it is being made. Every folder in it is wholly known."""

    def __init__(self, seed: int, now: int) -> None:
        self.seed = seed
        self.now = now * 1_000_000_000
        self.entries: dict[str, Entry] = {}
        self._put("/", Kind.DIR, 0o755, 0, 0, 4096)

    def _put(
        self,
        path: str,
        kind: Kind,
        mode: int,
        uid: int,
        gid: int,
        size: int,
        target: str | None = None,
    ) -> None:
        changed = self.now - self._chance(path).randint(2 * DAY, 700 * DAY)
        self.entries[path] = Entry(
            path, kind, mode, uid, gid, size, changed, changed, target, listed=kind is Kind.DIR
        )

    def _chance(self, path: str) -> random.Random:
        """By path, so that one more file changes no other."""
        return random.Random(f"{self.seed} {path}")

    def folder(self, path: str, mode: int = 0o755, uid: int = 0, gid: int = 0) -> str:
        """A folder, with those around it where they are not there yet."""
        parent = path.rpartition("/")[0] or "/"
        if parent not in self.entries:
            self.folder(parent)
        if path not in self.entries:
            self._put(path, Kind.DIR, mode, uid, gid, 4096)
        return path

    def file(
        self, path: str, size: int | None = None, mode: int = 0o644, uid: int = 0, gid: int = 0
    ) -> None:
        self.folder(path.rpartition("/")[0] or "/")
        length = self._chance(path).randint(200, 60_000) if size is None else size
        self._put(path, Kind.FILE, mode, uid, gid, length)

    def link(self, path: str, target: str, uid: int = 0, gid: int = 0) -> None:
        self.folder(path.rpartition("/")[0] or "/")
        self._put(path, Kind.LINK, 0o777, uid, gid, len(target), target)

    def change(
        self,
        path: str,
        mode: int | None = None,
        owner: tuple[int, int] | None = None,
        acl: str | None = None,
        changed: int | None = None,
        written: bool = False,
    ) -> None:
        """Changes what stands there. changed: seconds since 1970, UTC, of the inode change.

        written: its contents were changed at that time too.
        """
        entry = self.entries[path]
        ctime = entry.ctime if changed is None else changed * 1_000_000_000
        given: Acl | None = parse_acl(acl) if acl else entry.acl
        self.entries[path] = replace(
            entry,
            mode=entry.mode if mode is None else mode,
            uid=owner[0] if owner else entry.uid,
            gid=owner[1] if owner else entry.gid,
            acl=given,
            mtime=ctime if written else entry.mtime,
            ctime=ctime,
        )

    def label(self, path: str, type_: str) -> None:
        """Gives everything at and below a path a type."""
        for known in [p for p in self.entries if p == path or p.startswith(f"{path}/")]:
            context = f"system_u:object_r:{type_}:s0"
            self.entries[known] = replace(self.entries[known], context=context)

    def remove(self, path: str) -> None:
        for known in [p for p in self.entries if p == path or p.startswith(f"{path}/")]:
            del self.entries[known]

    def table(self) -> FileTable:
        return FileTable(self.entries[path] for path in sorted(self.entries))


PAGES = """
    news about times contact members rules archive map hours join plan story gallery
""".split()
PICTURES = ["front", "shore", "boat", "hall", "sign", "crew", "pier", "lamp", "gate", "yard"]


def site_files(
    ground: DemoGround, root: str, uid: int, gid: int, rng: random.Random, index: str | None
) -> None:
    """What a small site is made of."""
    ground.folder(root, 0o755, uid, gid)
    if index is not None:
        ground.file(f"{root}/{index}", uid=uid, gid=gid)
    for page in rng.sample(PAGES, rng.randint(4, 10)):
        ground.file(f"{root}/{page}.html", uid=uid, gid=gid)
    for name in _extras(rng):
        path = f"{root}/{name}"
        folder = path.rpartition("/")[0]
        if folder not in ground.entries:
            ground.folder(folder, 0o755, uid, gid)
        ground.file(path, uid=uid, gid=gid)


def small_site(ground: DemoGround, root: str, uid: int, gid: int) -> None:
    """What a site of a few pages is made of."""
    ground.folder(root, 0o755, uid, gid)
    for name in ("index.html", "style.css", "about.html", "hours.html", "sign.jpg"):
        ground.file(f"{root}/{name}", uid=uid, gid=gid)


def _extras(rng: random.Random) -> Iterable[str]:
    yield "style/main.css"
    yield "style/print.css"
    yield "script/menu.js"
    yield "robots.txt"
    for picture in rng.sample(PICTURES, rng.randint(4, 9)):
        yield f"pictures/{picture}.{rng.choice(['jpg', 'png', 'svg'])}"
    for year in range(2030, 2032):
        for number in range(1, rng.randint(3, 9)):
            yield f"archive/{year}/{number:02d}.html"
