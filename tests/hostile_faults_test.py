"""Disks that fail in the middle: whatever cannot be written down, the records stay whole.

A tracer makes one call of many fail, or all from one on. Source: strace(1), "inject".
"""

from __future__ import annotations

import random
import shutil
import sqlite3
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import pytest

from ecumen_machine import origin
from tests.builders import server
from tests.hostile_web_test import ENTRY, LINE, SITE, packed, run, surroundings

pytestmark = pytest.mark.skipif(shutil.which("strace") is None, reason="needs strace")
CALLS = [
    "pwrite64",
    "write",
    "fsync",
    "fdatasync",
    "ftruncate",
    "openat",
    "rename,renameat",
    "mmap",
]
ERRORS = ["EIO", "ENOSPC"]
SITES = 60


@pytest.fixture
def home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """With one survey of this machine, whose log was not read yet, and beside it another file."""
    monkeypatch.setenv("ECUMEN_STATE", str(tmp_path / "state"))
    key = origin.key(make=True)
    assert key is not None
    log = tmp_path / "a.log"
    log.write_text("".join(LINE.format(n % 250, n // 100, n % 60, n % 90) for n in range(6000)))
    one = server(SITE.format(f"CustomLog {log} common\n"))
    more = "".join(SITE.format("").replace("a.test", f"s{n}.test") for n in range(SITES))
    for name, survey in (("one", replace(one, logs=(str(log),))), ("two", server(more))):
        file = tmp_path / f"{name}.survey"
        file.write_bytes(packed(survey))
        with file.open("r+b") as stream:
            origin.seal(stream, key)
    home = tmp_path / "home"
    done = run(home, "load", str(tmp_path / "one.survey"), "--as-root")
    assert done.returncode == 0, done.stderr
    return home


def failing(rng: random.Random) -> list[str]:
    """A tracer that lets calls of one kind fail: one of them, or all from one on."""
    call = rng.choice(CALLS)
    # What starts Python itself opens and maps files by the thousand.
    first = rng.randrange(1200, 2600) if call in ("openat", "mmap") else rng.randrange(1, 60)
    when = f"{first}{rng.choice(['', '+'])}"
    inject = f"{call}:error={rng.choice(ERRORS)}:when={when}"
    return [
        "strace",
        "-f",
        "-qq",
        "-o",
        "/dev/null",
        "-e",
        f"trace={call}",
        "-e",
        f"inject={inject}",
    ]


def whole(home: Path) -> tuple[int, int]:
    """The records hold together; returns how many surveys and sites there are."""
    database = sqlite3.connect(home / "ecumen.sqlite3", timeout=20)
    assert database.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    rows = database.execute("SELECT id, file FROM store_surveyrecord").fetchall()
    for _, file in rows:
        assert (home / "surveys" / file).is_file()
    (sites,) = database.execute("SELECT count(*) FROM store_siterecord").fetchone()
    database.close()
    return len(rows), sites


def test_a_load_is_whole_or_nothing(home: Path, tmp_path: Path, seed: int, faults: int) -> None:
    rng = random.Random(seed)
    failed = 0
    for number in range(faults):
        copy = tmp_path / f"home{number}"
        shutil.copytree(home, copy)
        how = failing(rng)
        done = subprocess.run(
            [*how, sys.executable, "-c", ENTRY, "load", str(tmp_path / "two.survey"), "--as-root"],
            capture_output=True, text=True, check=False, timeout=120, env=surroundings(copy),
        )  # fmt: skip
        surveys, sites = whole(copy)
        assert (surveys, sites) in ((1, 1), (2, 1 + SITES)), how
        if done.returncode == 0:
            assert surveys == 2, how
        failed += done.returncode != 0
        # And it goes on from there.
        again = run(copy, "load", str(tmp_path / "two.survey"), "--as-root")
        assert (again.returncode, whole(copy)) == (0, (2, 1 + SITES)), (how, again.stderr)
        shutil.rmtree(copy)
    print(f"{faults} faults while loading, {failed} of them were told")


def test_each_line_counts_once_whatever_fails(
    home: Path, tmp_path: Path, seed: int, faults: int
) -> None:
    rng = random.Random(seed)
    code = (
        "import ecumen_machine.logreader as l; l.AT_ONCE = 500; "
        "import sys, runpy; sys.argv = sys.argv[1:]; "
        "runpy.run_module('ecumen_web.worker', run_name='__main__')"
    )
    for number in range(faults):
        copy = tmp_path / f"home{number}"
        shutil.copytree(home, copy)
        for how in (failing(rng), []):
            database = sqlite3.connect(copy / "ecumen.sqlite3", timeout=20)
            with database:
                made = database.execute(
                    "INSERT INTO store_jobrecord (state, doing, done, total, error, kind, file,"
                    " asked_at, cancel, asked, survey_id) SELECT 'running', '', 0, 0, '', 'logs',"
                    " file, '2031-01-01', 0, '{}', id FROM store_surveyrecord"
                )
            database.close()
            done = subprocess.run(
                [*how, sys.executable, "-c", code, "ecumen_web.worker", str(made.lastrowid)],
                capture_output=True, check=False, timeout=120, env=surroundings(copy),
            )  # fmt: skip
            whole(copy)
        assert done.returncode == 0, done.stderr
        database = sqlite3.connect(copy / "ecumen.sqlite3", timeout=20)
        (lines,) = database.execute("SELECT lines FROM store_logsource").fetchone()
        (counted,) = database.execute(
            "SELECT sum(requests) FROM store_hoursum s JOIN store_logsite l ON l.id = s.site_id "
            "WHERE l.key = '' AND dim = 0"
        ).fetchone()
        database.close()
        assert (lines, counted) == (6000, 6000), how
        shutil.rmtree(copy)
