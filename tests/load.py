"""Fifty people at once, on the survey of 10,000 sites: how long each waits.

`python -m tests.load SECONDS`: prints the figures.
"""

from __future__ import annotations

import random
import statistics
import sys
import threading
import time
from http.client import HTTPConnection
from pathlib import Path

import psutil

from tests.bench import MANY, PORT, many_sites, records_of
from tests.hostile_web_test import PASSWORD, first_password, served

CLIENTS = 50


def paths(base: Path, rng: random.Random) -> list[str]:
    """What every screen asks for; of what is about one site, another one each time."""
    number = rng.randrange(MANY)
    return [
        "sites", "findings", f"bindings?q=s{number}", "roots",
        f"site?at={base}/httpd/{number:05d}.conf:2",
        f"passage?url=http://s{number}.test:{PORT}/", "users", "contexts", "neighbours",
        f"who?path={base}/www/s{number}/index.html", "logs",
        "logs/figures?begin=0&end=1900000000", "logs/failures?begin=0&end=1900000000",
    ]  # fmt: skip


class _Client(threading.Thread):
    def __init__(self, port: int, cookies: dict[str, str], base: Path, until: float, seed: int):
        super().__init__()
        self._headers = {
            "Cookie": "; ".join(f"{k}={v}" for k, v in cookies.items()),
            "Accept-Encoding": "gzip",
        }
        self._port, self._base, self._until = port, base, until
        self._rng = random.Random(seed)
        self.times: dict[str, list[float]] = {}
        self.errors: list[str] = []
        self.ends: list[float] = []

    def run(self) -> None:
        link = HTTPConnection("127.0.0.1", self._port, timeout=120)
        while time.monotonic() < self._until:
            path = self._rng.choice(paths(self._base, self._rng))
            began = time.perf_counter()
            link.request("GET", f"/api/surveys/latest/{path}", headers=self._headers)
            answer = link.getresponse()
            answer.read()
            took = time.perf_counter() - began
            self.times.setdefault(path.partition("?")[0], []).append(took)
            self.ends.append(time.monotonic())
            if answer.status != 200:
                self.errors.append(f"{path}: {answer.status}")


def main(seconds: float) -> None:
    with many_sites(MANY) as base, served(records_of(base)) as application:
        application.sign_in("admin", first_password(application))
        word = first_password(application)
        application.ask("POST", "/api/session/password", {"old": word, "new": PASSWORD})
        cookies = []
        for _ in range(CLIENTS):
            application.cookies, application.token = {}, ""
            # Under one name: what is asked is the same for all.
            assert application.sign_in("admin", PASSWORD) == 200
            cookies.append(dict(application.cookies))
        for warm in paths(base, random.Random(0)):
            began = time.perf_counter()
            application.ask("GET", f"/api/surveys/latest/{warm}")
            print(f"the first {warm.partition('?')[0]}: {time.perf_counter() - began:.2f} s")
        before = processor(application.process.pid)
        until = time.monotonic() + seconds
        clients = [
            _Client(application.port, each, base, until, seed) for seed, each in enumerate(cookies)
        ]
        for client in clients:
            client.start()
        for client in clients:
            client.join()
        for what, spent in processor(application.process.pid).items():
            print(f"processor time, {what}: {spent - before.get(what, 0.0):.1f} s")
    report(clients, seconds)


def processor(server: int) -> dict[str, float]:
    """Seconds of processor time so far, of who asks and who answers."""
    spent = {"clients": sum(psutil.Process().cpu_times()[:2])}
    spent["server"] = sum(psutil.Process(server).cpu_times()[:2])
    for each in psutil.Process(server).children(recursive=True):
        spent[f"process {each.pid} of the server"] = sum(each.cpu_times()[:2])
    return spent


def report(clients: list[_Client], seconds: float) -> None:
    together: dict[str, list[float]] = {}
    for client in clients:
        for path, times in client.times.items():
            together.setdefault(path, []).extend(times)
    every = sorted(time for times in together.values() for time in times)
    errors = [error for client in clients for error in client.errors]
    for path, times in sorted(together.items()):
        times.sort()
        print(f"{path:16} {len(times):6} p50 {statistics.median(times):.3f} p95 {late(times):.3f}")
    print(
        f"all {len(every)} in {seconds:.0f} s: {len(every) / seconds:.0f} a second, "
        f"p50 {statistics.median(every):.3f} p95 {late(every):.3f} s, {len(errors)} errors "
        f"{errors[:3]}"
    )


def late(times: list[float]) -> float:
    """The 95th percentile of sorted times."""
    return times[min(len(times) - 1, int(len(times) * 0.95))]


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0)
