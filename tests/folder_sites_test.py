"""Folders that are sites: each one that is listed is what the real server shows for its name."""

from __future__ import annotations

from pathlib import Path

import pytest

from ecumen.engines.engine import all_sites, engines_of
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.live import ask, nginx
from tests.worlds.plain import open_way

pytestmark = [pytest.mark.server, pytest.mark.apart]
ADDRESS, PORT = "127.0.0.49", 8094
# The names of one server, its root, and those of the folders below that are sites.
# A folder of a person without the folder that is served is a site whose root is missing.
PEOPLE = ("ann", "bob", "carl")
CASES = {
    "the name itself": ("*.a.test", "/h/$host", ["one.a.test", "two.a.test"]),
    "a group by its name": (
        r"~^(?<n>[a-z]+)\.b\.test$", "/p/$n/web", [f"{who}.b.test" for who in PEOPLE],
    ),
    "a group by its number": (
        r"~^(www\.)?([a-z]+)\.c\.test$", "/p/$2/web", [f"{who}.c.test" for who in PEOPLE],
    ),
    "a name first, others by pattern": (
        r"own.d.test ~^(?<who>\w+)\.d\.test$", "/p/$who/web", [f"{who}.d.test" for who in PEOPLE],
    ),
    "a table of names": ("x.e.test y.e.test", "/p/$seat/web", ["y.e.test"]),
    "two levels": (r"~^(?<n>[a-z]+)\.(?<g>[a-z]+)\.f\.test$", "/g/$g/$n", ["x.red.f.test"]),
    "something else in the root": (".g.test", "/p/$cookie_seat/web", []),
    "a name with a folder behind": (".a2.test", "/h2/$host/web", ["k.a2.test", "l.a2.test"]),
}  # fmt: skip
FOLDERS = """
h/one.a.test h/two.a.test h/other.test p/ann/web p/bob/web p/carl h2/k.a2.test/web h2/l.a2.test
g/red/x p/Dora/web h/Three.a.test
"""


def test_each_folder_that_a_name_leads_to_is_a_site(tmp_path: Path) -> None:
    open_way(tmp_path)
    (tmp_path / "logs").mkdir()
    for folder in FOLDERS.split():
        (tmp_path / folder).mkdir(parents=True)
        (tmp_path / folder / "index.html").write_text(folder)
        (tmp_path / folder / folder.replace("/", "-")).write_text("x")
    servers = "".join(
        f"server {{ listen {ADDRESS}:{PORT}; server_name {names}; root {tmp_path}{root}; }}\n"
        for names, root, _ in CASES.values()
    )
    config = tmp_path / "nginx.conf"
    config.write_text(
        f"user www-data; pid {tmp_path}/pid; error_log {tmp_path}/logs/error;\nevents {{}}\n"
        "http { include /etc/nginx/mime.types; access_log off;\n"
        "map $host $seat { hostnames; x.e.test nobody; y.e.test ann; default none; }\n"
        f"{servers}}}\n"
    )
    survey = take_survey([EngineSpec("nginx", str(config))])
    (engine,) = engines_of(survey)
    sites = [site for site in all_sites(engine) if site.claims and site.root]
    listed: dict[str, list[str]] = {name: [] for name in CASES}
    lines = {f"{tmp_path}{root}": name for name, (_, root, _) in CASES.items()}
    text = config.read_text().splitlines()
    with nginx(config, ADDRESS, PORT):
        for site in sites:
            assert site.root is not None
            line = text[site.place.line - 1]
            listed[next(lines[root] for root in lines if f"root {root};" in line)].append(site.name)
            own = site.root.removeprefix(f"{tmp_path}/").replace("/", "-")
            seen = ask({"url": f"http://{site.asked_as}:{PORT}/{own}", "to": ADDRESS})
            there = Path(site.root).is_dir()
            assert seen.status == (200 if there else 404), (site.name, site.root)
    # Whatever a name puts into a path is in small letters.
    unled = {folder.removeprefix(f"{tmp_path}/") for _, folder in engine.unled()}
    assert unled == {"p/Dora/web", "h/Three.a.test"}
    assert listed == {name: expected for name, (_, _, expected) in CASES.items()}
