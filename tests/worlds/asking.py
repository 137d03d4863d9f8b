"""Requests to a world: to its sites and folders, to sites of one kind, and odd ones."""

from __future__ import annotations

import random
from pathlib import Path
from urllib.parse import quote

from tests.worlds.accounts import NAMES
from tests.worlds.seals import sealed_request
from tests.worlds.trees import ADDRESSES, PORTS, WORDS, World, literal


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
    if rng.random() < 0.06:
        return sealed_request(world, rng, number)
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
