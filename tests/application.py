"""The application with the demo data, running; and a browser to use it with."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.request import urlopen

from playwright.sync_api import Browser, Page, sync_playwright

ROOT = Path(__file__).parents[1]
FLAGS = (
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
)  # fmt: skip


@dataclass(frozen=True)
class Application:
    """address: without a slash at its end. home: where its records are."""

    address: str
    name: str
    password: str
    home: Path

    def sign_in(self, page: Page) -> None:
        page.goto(self.address)
        page.get_by_label("Name").fill(self.name)
        page.get_by_label("Password").fill(self.password)
        page.get_by_role("button", name="Sign in").click()
        own, places = page.get_by_label("Your own"), page.get_by_role("navigation", name="Places")
        own.or_(places).wait_for()
        if own.is_visible():
            # A first password is good for choosing another one.
            page.get_by_label("Password so far").fill(self.password)
            own.fill(f"{self.password}!")
            page.get_by_role("button", name="Keep it").click()
        places.wait_for()


def free_port() -> int:
    """A port of which the next one is free too."""
    while True:
        with socket.create_server(("127.0.0.1", 0)) as first:
            port = int(first.getsockname()[1])
            try:
                socket.create_server(("127.0.0.1", port + 1)).close()
            except OSError:
                continue
            return port


def command(home: Path, *words: str) -> subprocess.Popen[str]:
    """Starts `ecumen` with its records in `home`."""
    code = "from ecumen_cli.main import main; main()"
    return subprocess.Popen(
        [sys.executable, "-c", code, *words],
        stdout=subprocess.PIPE,
        text=True,
        env=os.environ | {"ECUMEN_HOME": str(home), "PYTHONPATH": str(ROOT / "src")},
    )


def demo(home: Path) -> AbstractContextManager[Application]:
    """`ecumen demo` on a free port, with its records in `home`."""
    return _running(home, "demo")


def serving(home: Path) -> AbstractContextManager[Application]:
    """`ecumen serve` on a free port, with the records in `home`."""
    return _running(home, "serve")


@contextmanager
def _running(home: Path, word: str) -> Iterator[Application]:
    port = free_port()
    process = command(home, word, "--port", str(port), *(["--as-root"] * (os.geteuid() == 0)))
    try:
        assert process.stdout is not None
        said = "".join(process.stdout.readline() for _ in range(3 if word == "demo" else 2))
        found = re.search(r"account: (\S+), password: ([^\s)]+)", said)
        assert found is not None, said
        address = f"http://127.0.0.1:{port}"
        _wait(address)
        yield Application(address, found[1], found[2], home)
    finally:
        process.terminate()
        process.communicate(timeout=20)


def logs_are_read(page: Page) -> None:
    """Waits until the demo's logs are; the page is signed in."""
    for _ in range(240):
        state = page.evaluate("fetch('/api/surveys/latest/logs').then((r) => r.json())")
        if state["job"]["state"] == "done":
            return
        assert state["job"]["state"] in ("waiting", "running"), state["job"]
        page.wait_for_timeout(1000)
    raise RuntimeError("the demo's logs were not read")


def _wait(address: str) -> None:
    for _ in range(200):
        try:
            urlopen(address, timeout=5).close()
            return
        except OSError:
            time.sleep(0.05)
    raise RuntimeError("the application does not answer")


@contextmanager
def browser() -> Iterator[Browser]:
    """Debian's Chromium; no browser is downloaded."""
    with sync_playwright() as play:
        launched = play.chromium.launch(executable_path=shutil.which("chromium"), args=list(FLAGS))
        try:
            yield launched
        finally:
            launched.close()
