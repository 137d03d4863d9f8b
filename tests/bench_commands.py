"""Whole commands, started as a user starts them, each beside its named baseline in turn."""

from __future__ import annotations

import compileall
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psutil

from tests.application import ROOT
from tests.hosters import ADDRESS, PORT, Ground, laid_out

ROUNDS = int(os.environ.get("ECUMEN_BENCH_ROUNDS", "5"))
SITES = 10_000
ASKED = 20_000
RECORDS = "records"  # of the application, in the folder of a run
_ECUMEN = [sys.executable, "-c", "from ecumen_cli.main import main; main()"]


@dataclass(frozen=True)
class Ran:
    """seconds; mebibytes: the most that all its processes held at a time, shared parts once."""

    seconds: float
    mebibytes: float = 0.0


def ran(words: Sequence[str], home: Path, *, measured: bool = False) -> Ran:
    """A command from its start to its end. measured: its memory is looked at, which slows it."""
    began = time.perf_counter()
    process = subprocess.Popen(
        words,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env=os.environ | {"ECUMEN_HOME": str(home / RECORDS)},
    )
    most = 0
    while measured and process.poll() is None:
        most = max(most, _held(process.pid))
        time.sleep(0.05)
    if process.wait() not in (0, 1):
        raise RuntimeError(f"{words} ended with {process.returncode}")
    return Ran(time.perf_counter() - began, most / 2**20)


def _held(pid: int) -> int:
    total = 0
    try:
        root = psutil.Process(pid)
        for process in (root, *root.children(recursive=True)):
            total += process.memory_full_info().pss
    except psutil.Error:
        return total
    return total


@dataclass(frozen=True)
class Work:
    """One row: what is done, beside what, and the goal as a share of that; without a baseline, in
    seconds.
    """

    what: str
    words: Sequence[str]
    goal: float
    baseline: str = ""
    beside: Sequence[str] = ()
    before: Callable[[], object] = lambda: None


def measured(work: Work, home: Path) -> tuple[float, float, float]:
    """Seconds of ours and of the baseline in the round with the middle ratio, and our memory."""
    rounds = []
    for _ in range(ROUNDS):
        theirs = ran(work.beside, home).seconds if work.beside else 1.0
        work.before()
        rounds.append((ran(work.words, home).seconds, theirs))
    rounds.sort(key=lambda pair: pair[0] / pair[1])
    work.before()
    return *rounds[len(rounds) // 2], ran(work.words, home, measured=True).mebibytes


@contextmanager
def hosted(engine: str, sites: int, files: int = 0) -> Iterator[Ground]:
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-bench-"))
    try:
        yield laid_out(base, engine, sites, files)
    finally:
        shutil.rmtree(base)


def works(home: Path) -> Iterator[tuple[Work, tuple[float, float, float]]]:
    """Every row, on the sites of both engines."""
    # As installing does.
    compileall.compile_dir(ROOT / "src", quiet=1)
    start = Work("ecumen --version", [*_ECUMEN, "--version"], 0.3)
    yield start, measured(start, home)
    for engine, check in (("httpd", ["apache2", "-S", "-f"]), ("nginx", ["nginx", "-t", "-c"])):
        with hosted(engine, SITES) as ground:
            for work in _of_sites(ground, [*check, str(ground.config)], home):
                yield work, measured(work, home)
    with hosted("httpd", 100, 3300) as ground:
        survey = str(home / "scan.survey")
        # The tools name what lies in the roots; ours understands the configuration besides.
        base = ground.base / "www"
        tools = (
            f"find {base} -printf '%p %m %U %G %s %T@ %C@ %l\\n'; getfattr -R -h -d -m - {base}; "
            f"getfacl -R -n {base}"
        )
        scan = [*_ECUMEN, "survey", "--engine", f"httpd:{ground.config}", "--scan", str(base)]
        work = Work(
            "survey --scan of 330,000 paths, file written", [*scan, "--out", survey], 0.6,
            "find, getfattr and getfacl", ["sh", "-c", tools],
        )  # fmt: skip
        yield work, measured(work, home)


def _of_sites(ground: Ground, check: Sequence[str], home: Path) -> Iterator[Work]:
    engine = ground.engine
    survey, batch = str(home / f"{engine}.survey"), home / f"{engine}.jsonl"
    with batch.open("w") as stream:
        for number, url in enumerate(ground.addresses(ASKED, 1)):
            stream.write(json.dumps({"id": number, "url": url, "to": ADDRESS}) + "\n")
    own = "httpd's list of its hosts" if engine == "httpd" else "nginx's own check"
    take = [*_ECUMEN, "survey", "--engine", f"{engine}:{ground.config}", "--out", survey]
    goals = {"httpd": (3.0, 4.0), "nginx": (1.5, 2.0)}[engine]
    of = f"of {SITES:,} {engine} sites"
    yield Work(f"survey {of}", take, goals[0], own, check)
    yield Work(
        f"audit {of}", [*_ECUMEN, "audit", "--survey", survey, "--format", "json"], goals[1], own,
        check,
    )  # fmt: skip
    url = f"http://s77.test:{PORT}/"
    one = [*_ECUMEN, "follow", "--survey", survey, "--to", ADDRESS, url]
    yield Work(f"follow of one address {of}", one, 0.6)
    many = [*_ECUMEN, "follow", "--survey", survey, "--batch", str(batch), "--brief"]
    yield Work(f"follow --brief of {ASKED:,} addresses {of}", many, 1.6)
    yield Work(
        f"load {of}", [*_ECUMEN, "load", "--as-root", survey], 3.0,
        before=lambda: shutil.rmtree(home / RECORDS, ignore_errors=True),
    )  # fmt: skip


def growth(sites: Sequence[int], files: Sequence[int]) -> Iterator[tuple[str, int, float, float]]:
    """How cost grows: the work, how many sites (or paths), seconds and MiB, once each."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        survey = str(home / "grown.survey")
        for count in sites:
            with hosted("httpd", count) as ground:
                take = ["survey", "--engine", f"httpd:{ground.config}", "--out", survey]
                url = f"http://s{count // 2}.test:{PORT}/"
                for what, words in (
                    ("survey", take),
                    ("audit", ["audit", "--survey", survey, "--format", "json"]),
                    ("follow", ["follow", "--survey", survey, "--to", ADDRESS, url]),
                ):
                    done = ran([*_ECUMEN, *words], home, measured=True)
                    yield f"{what} of httpd sites", count, done.seconds, done.mebibytes
        for count in files:
            with hosted("httpd", 10, count // 10) as ground:
                base = str(ground.base / "www")
                take = ["survey", "--engine", f"httpd:{ground.config}", "--scan", base]
                done = ran([*_ECUMEN, *take, "--out", survey], home, measured=True)
                yield "survey --scan of paths", count, done.seconds, done.mebibytes


def told() -> Iterator[tuple[str, float, str, float, float, float]]:
    """What, seconds, baseline, its seconds, the goal in seconds, memory in MiB; row by row."""
    with tempfile.TemporaryDirectory() as folder:
        for work, (took, theirs, held) in works(Path(folder)):
            goal = work.goal * theirs
            yield work.what, took, work.baseline or "the goal is in seconds", theirs, goal, held
