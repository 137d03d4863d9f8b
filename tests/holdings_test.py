"""One pass over columns against a look at each path by itself."""

from __future__ import annotations

import random
from collections import defaultdict

from ecumen.audit.holdings import Holding, holdings, secret_kind
from ecumen.survey import Entry, FileTable, Kind

NAMES = (
    "index.html", "INDEX.HTML", "main.css", ".htaccess", "dump.sql.gz", "old.bak", "no-ending",
    ".env.local", "page.", "HEAD", "id_rsa", "site.pub", "cert.pem", "private.pem", "a.b.js", "~",
    "back~", "config", "two\nlines.txt", "\udcff.png", "site.zip",
)  # fmt: skip
FOLDERS = ("a", "b", ".git", "shop.d", ".svn")
KINDS = (Kind.FILE,) * 8 + (Kind.LINK, Kind.SOCKET)


def grown(rng: random.Random) -> list[Entry]:
    folders = ["/"]
    entries = [Entry("/", Kind.DIR, 0o755, 0, 0)]
    for _ in range(rng.randrange(1, 25)):
        path = f"{rng.choice(folders).rstrip('/')}/{rng.choice(FOLDERS)}"
        if path not in folders:
            folders.append(path)
            entries.append(Entry(path, Kind.DIR, rng.choice([0o755, 0o775]), 0, 0))
    taken = set(folders)
    for _ in range(rng.randrange(120)):
        path = f"{rng.choice(folders).rstrip('/')}/{rng.choice(NAMES)}"
        if path not in taken:
            taken.add(path)
            mode, size = rng.choice([0o644, 0o664, 0o606]), rng.choice([0, 7, 900])
            entries.append(Entry(path, rng.choice(KINDS), mode, 0, 0, size))
    rng.shuffle(entries)
    return entries


def around(path: str) -> str:
    return path.rpartition("/")[0] or "/"


def plainly(entries: list[Entry], grounds: set[str], endings: frozenset[str]) -> dict[str, Holding]:
    found: dict[str, Holding] = defaultdict(Holding)
    for row, entry in enumerate(entries):
        at = entry.path if entry.kind is Kind.DIR else around(entry.path)
        while at not in grounds and at != "/":
            at = around(at)
        if at not in grounds:
            continue
        held = found[at]
        if entry.kind is Kind.LINK:
            held.links.append(row)
            continue
        if entry.mode & 0o022:
            held.loose.append(row)
        if entry.kind is not Kind.FILE:
            continue
        name = entry.path.rpartition("/")[2]
        ending = name.rpartition(".")[2].lower() if "." in name[1:] else ""
        held.files += 1
        held.bytes += entry.size
        held.endings[ending] = held.endings.get(ending, 0) + 1
        if entry.size and ending in endings:
            held.samples.setdefault(ending, row)
        secret = secret_kind(entry.path)
        if secret:
            held.suspects.append((secret, row))
    return found


def test_holdings_are_what_each_path_tells(seed: int) -> None:
    rng = random.Random(seed)
    asked = 0
    for _ in range(300):
        entries = grown(rng)
        folders = [entry.path for entry in entries if entry.kind is Kind.DIR]
        grounds = {"/gone", *rng.sample(folders, rng.randrange(len(folders)))}
        endings = frozenset({"html", "css", "js"})
        mine = holdings(FileTable(entries), grounds, endings)
        mine = {path: held for path, held in mine.items() if held != Holding()}
        theirs = plainly(entries, grounds, endings)
        assert mine == {path: held for path, held in theirs.items() if held != Holding()}
        assert all(list(mine[path].endings) == list(theirs[path].endings) for path in mine)
        asked += len(mine)
    assert asked > 300


def test_folders_and_what_lies_in_them(seed: int) -> None:
    rng = random.Random(seed)
    for _ in range(300):
        entries = grown(rng)
        table = FileTable(entries)
        inside = defaultdict(list)
        for entry in entries:
            if entry.path != "/":
                inside[around(entry.path)].append(entry.path.rpartition("/")[2])
        for path in [entry.path for entry in entries] + ["/gone"]:
            assert table.children(path) == sorted(inside[path])
        rows = [entry.path for entry in entries]
        for row, parent in enumerate(table.parents.tolist()):
            above = around(rows[row]) if rows[row] != "/" else None
            assert parent == (rows.index(above) if above is not None else -1)
        odd = {path for path, names in inside.items() if any("." in name for name in names)}
        assert table.folders_with(lambda name: "." in name) == odd
