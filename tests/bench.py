"""The benchmarks: each measured beside a named baseline in the same run.

Times on shared machines drift; the ratio to the baseline is what holds.
"""

from __future__ import annotations

import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from playwright.sync_api import BrowserContext

from ecumen.passage import Follower, Request, read_request
from ecumen_machine import EngineSpec, take_survey
from tests.application import Application, browser, demo
from tests.worlds.live import httpd
from tests.worlds.plain import plain_head

SITES = 1000
ADDRESS, PORT = "127.0.0.46", 8086


@dataclass(frozen=True)
class Result:
    """seconds; goal: seconds, of `took`."""

    what: str
    took: float
    baseline: str
    baseline_took: float
    goal: float

    def line(self) -> str:
        met = "met" if self.took <= self.goal else "MISSED"
        return (
            f"{self.what:<58} {self.took * 1e3:9.3f} ms   goal {self.goal * 1e3:7.1f} ms {met}\n"
            f"    {self.baseline:<54} {self.baseline_took * 1e3:9.3f} ms"
            f"   ratio {self.took / self.baseline_took:.3f}"
        )


@contextmanager
def thousand_sites() -> Iterator[Path]:
    """A real configuration of 1,000 sites with a page each."""
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-bench-"))
    base.chmod(0o755)
    try:
        head = plain_head(base, ADDRESS, PORT)
        (base / "httpd.conf").write_text(f"{head}Include sites/*.conf\n")
        (base / "sites").mkdir()
        for number in range(SITES):
            root = base / "www" / f"s{number}" / "public"
            root.mkdir(parents=True)
            (root / "index.html").write_text("page")
            (base / "sites" / f"{number:04d}.conf").write_text(
                f"<VirtualHost {ADDRESS}:{PORT}>\nServerName s{number}.test\n"
                f"ServerAlias www.s{number}.test\nDocumentRoot {root}\n"
                f"<Directory {root}>\nOptions SymLinksIfOwnerMatch\n</Directory>\n</VirtualHost>\n"
            )
        yield base
    finally:
        shutil.rmtree(base)


def median(work: Callable[[int], object], count: int) -> float:
    """Seconds that one call takes; `work` is called with 0, 1, 2, …"""
    times = []
    for number in range(count):
        began = time.perf_counter()
        work(number)
        times.append(time.perf_counter() - began)
    return statistics.median(times)


def one_passage() -> Iterator[Result]:
    with thousand_sites() as base:
        survey = take_survey([EngineSpec("httpd", str(base / "httpd.conf"))])
        follower = Follower(survey)
        rng = random.Random(1)
        urls = [f"http://s{rng.randrange(SITES)}.test:{PORT}/" for _ in range(2000)]
        asked: list[Request] = [read_request(url, to=ADDRESS) for url in urls]
        for request in asked[:50]:
            follower.follow(request)
        full = median(lambda number: follower.follow(asked[number]), 2000)
        brief = median(lambda number: follower.brief(asked[number]), 2000)
        with httpd(base / "httpd.conf", ADDRESS, PORT):
            curl = median(lambda number: _curl(urls[number]), 60)
    baseline = "one curl to the real server with the same sites"
    yield Result("a full passage, 1,000 sites on one address", full, baseline, curl, 0.001)
    yield Result("a brief answer, 1,000 sites on one address", brief, baseline, curl, 0.001)


def _curl(url: str) -> None:
    connect = f"::{ADDRESS}:{PORT}"
    command = ["curl", "-s", "-o", "/dev/null", "--connect-to", connect, url]
    subprocess.run(command, check=True)


def first_paint() -> Iterator[Result]:
    """From the address to the outcome on the screen, nothing cached."""
    with (
        tempfile.TemporaryDirectory() as home,
        demo(Path(home)) as application,
        browser() as chromium,
    ):
        context = chromium.new_context(viewport={"width": 1280, "height": 800})
        application.sign_in(context.new_page())
        follow = median(lambda _: _shown(context, application, FOLLOW, "Outcome"), 7)
        shell = median(lambda _: _shown(context, application, "/surveys", None), 7)
    baseline = "the plainest page of the same application"
    yield Result("first useful paint of Follow on the demo", follow, baseline, shell, 1.0)


FOLLOW = "/follow?url=http://boat-builders.example/"


def _shown(
    context: BrowserContext, application: Application, path: str, landmark: str | None
) -> None:
    page = context.new_page()
    page.goto(application.address + path, wait_until="commit")
    if landmark:
        page.get_by_role("complementary", name=landmark).wait_for()
    else:
        page.get_by_role("heading", name="Surveys").wait_for()
    page.close()


def main() -> int:
    results = [*one_passage(), *first_paint()]
    print("\n".join(result.line() for result in results))
    return 0 if all(result.took <= result.goal for result in results) else 1


if __name__ == "__main__":
    sys.exit(main())
