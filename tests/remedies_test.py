"""Remedies done for real: the page is served then, and nothing opens that was not said."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from collections import Counter
from pathlib import Path

import pytest

from ecumen.engines.engine import all_sites
from ecumen.operations.mode import Mode
from ecumen.operations.opens import Opener
from ecumen.passage import Follower
from ecumen.passage.front import front_request
from ecumen.passage.remedies import Mending, mending
from ecumen.rights import Subject, subject_of
from ecumen.survey import Survey
from ecumen_machine import EngineSpec, take_survey
from tests.audit_test import ONE, labelled
from tests.builders import codes, passage, server
from tests.kernel_test import PERMS, as_subject
from tests.worlds.live import ask, httpd
from tests.worlds.plain import plain_head
from tests.worlds.trees import ADDRESSES, PORTS

OWNERS = ("root", "games", "man", "lp", "www-data")
WATCHED = ("daemon", "games", "man", "www-data", "nobody")
SITES = 24


def lay_out(base: Path, rng: random.Random) -> Path:
    """Sites whose folders and pages are closed in every manner."""
    blocks = []
    for number in range(SITES):
        root = base / "www" / f"s{number}" / "in" / "public"
        root.mkdir(parents=True)
        (root / "index.html").write_text("page")
        (root / "other.html").write_text("page")
        (root / "sub").mkdir()
        for path in (root.parents[1], root.parents[0], root, *root.iterdir()):
            shutil.chown(path, rng.choice(OWNERS), rng.choice(OWNERS))
            generous = 0o711 if path.is_dir() and rng.random() < 0.5 else 0
            path.chmod(rng.randrange(0o1000) | generous)
            if rng.random() < 0.3:
                who = rng.choice(OWNERS)
                entry = f"{rng.choice('ug')}:{who}:{rng.choice(PERMS)}"
                mask = f",m::{rng.choice(PERMS)}" if rng.random() < 0.5 else ""
                command = ["setfacl", "-n", "-m", entry + mask, path]
                subprocess.run(command, check=True, capture_output=True)
        blocks.append(
            f"<VirtualHost *>\nServerName s{number}.test\nDocumentRoot {root}\n</VirtualHost>\n"
        )
    config = base / "main.conf"
    config.write_text(plain_head(base, ADDRESSES[0], PORTS[0]) + "".join(blocks))
    return config


def held(top: Path, accounts: list[Subject]) -> set[tuple[str, str, int]]:
    """Who may do what below a folder, as the kernel says."""
    paths = [str(top), *(str(path) for path in sorted(top.rglob("*")))]
    needs = {"read": os.R_OK, "write": os.W_OK, "pass or run": os.X_OK}

    def tried() -> list[tuple[str, int]]:
        return [
            (what, number)
            for number, path in enumerate(paths)
            for what, need in needs.items()
            if os.access(path, need)
        ]

    return {
        (account.name, what, number)
        for account in accounts
        for what, number in as_subject(account, tried)
    }


def accounts_of(survey: Survey) -> list[Subject]:
    found = [subject_of(survey, name) for name in WATCHED]
    return [subject for subject in found if subject is not None]


@pytest.mark.server
def test_every_remedy_serves_the_page_and_opens_only_what_it_says(seed: int) -> None:
    rng = random.Random(seed)
    base = Path(f"/srv/ecumen-remedies-{seed}")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir(mode=0o755)
    mended = Counter[str]()
    try:
        config = lay_out(base, rng)
        survey = take_survey([EngineSpec("httpd", str(config))], [str(base)])
        follower = Follower(survey)
        accounts = accounts_of(survey)
        with httpd(config, ADDRESSES[0], PORTS[0]):
            for site in all_sites(follower.engines[0]):
                found = mending(follower, front_request(site))
                if not found.of or not site.name.startswith("s"):
                    continue
                told = passage(survey, f"http://{site.name}:{PORTS[0]}/", ADDRESSES[0])
                assert found.mends == found.of, [(o.code, o.reason) for o in told.obstacles]
                assert found.ways, site.name
                opened = [way.opened for way in found.ways]
                assert opened == sorted(opened)
                way = found.ways[rng.randrange(len(found.ways))]
                top = base / "www" / site.name.partition(".")[0]
                before = held(top, accounts)
                for command in way.shell:
                    subprocess.run(command, shell=True, check=True)
                seen = ask({"url": f"http://{site.name}:{PORTS[0]}/", "to": ADDRESSES[0]})
                assert seen.status == 200, (site.name, way.shell)
                after = held(top, accounts)
                real = Counter((what, True) for _, what, _ in after - before)
                real += Counter((what, False) for _, what, _ in before - after)
                said = Counter[tuple[str, bool]]()
                for each in Opener(survey, accounts).opens(way.operations):
                    said[each.what, each.gains] += len(each.accounts) * each.paths
                assert said == real, (site.name, way.shell)
                mended[way.title] += 1
    finally:
        shutil.rmtree(base)
    assert len(mended) >= 3, mended
    assert mended.total() >= SITES / 2


def test_the_least_opening_comes_first_and_all_obstacles_are_mended_at_once() -> None:
    config = "<VirtualHost *>\nDocumentRoot /srv/a/b\n</VirtualHost>\n"
    files = ("0700 ines /srv/a/", "0750 ines /srv/a/b/", "0600 ines /srv/a/b/index.html")
    survey = server(config, files)
    assert codes(passage(survey, "http://x/")) == [
        "ladder.shut",
        "ladder.shut",
        "ladder.unreadable",
    ]
    follower = Follower(survey)
    site = follower.engines[0].sites_of(0)[0]
    found = mending(follower, front_request(site))
    assert (found.mends, found.of) == (3, 3)
    assert found.ways[0].shell == [
        "setfacl -m user:www-data:--x -- /srv/a",
        "setfacl -m user:www-data:--x -- /srv/a/b",
        "setfacl -m user:www-data:r-- -- /srv/a/b/index.html",
    ]
    assert [set(each.accounts) for each in found.ways[0].openings] == [{"www-data"}] * 2
    everybody = found.ways[-1]
    assert everybody.title == "Let everybody through"
    assert any("otto" in each.accounts for each in everybody.openings)


def test_what_a_command_names_cannot_become_a_command() -> None:
    nasty = "/srv/$(touch x)/a b';\n\u202e\udcff"
    line = Mode(nasty, "0640", "0641").shell()
    assert "\n" not in line
    assert line.isprintable()
    script = f'set -- {line.removeprefix("chmod o+x -- ")}; printf %s "$1"'
    done = subprocess.run(["bash", "-c", script], capture_output=True, check=True)
    assert done.stdout == nasty.encode("utf-8", "surrogateescape")


def test_a_switch_says_what_else_it_would_open_and_relabelling_comes_first() -> None:
    def found(actual: str, expected: str) -> Mending:
        follower = Follower(labelled(ONE, actual, expected))
        return mending(follower, front_request(follower.engines[0].sites_of(0)[0]))

    (way,) = found("user_home_t", "user_home_t").ways
    assert way.shell == ["setsebool -P httpd_read_user_content on"]
    told = [opening.words for opening in way.openings]
    assert "the web server may then read files of the type user_home_t" in told[0]
    assert any("pass folders of the type" in words for words in told)
    (way,) = found("backup_store_t", "httpd_sys_content_t").ways
    assert [operation.what for operation in way.operations] == ["context"] * 2
    # Where neither helps, nothing is offered.
    assert found("default_t", "default_t").ways == []
