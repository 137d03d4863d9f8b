"""Hosts that are served by an account of their own, beside the real server with the module that
gives them one.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from ecumen.passage import Follower, read_request
from ecumen.passage.remedies import mending
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.live import ask, httpd
from tests.worlds.plain import plain_head

MODULE = Path("/usr/local/lib/ecumen/mpm_itk.so")
pytestmark = [
    pytest.mark.server,
    pytest.mark.skipif(not MODULE.exists(), reason="needs libapache2-mpm-itk"),
]
ADDRESS, PORT = "127.0.0.47", 8087
MINE, OTHER = "games", "man"


@pytest.fixture
def base() -> Iterator[Path]:
    found = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-accounts-"))
    found.chmod(0o755)
    yield found
    shutil.rmtree(found)


def lay(base: Path, name: str, mode: int, owner: str, text: str | None = None) -> None:
    path = base / name
    if text is None:
        path.mkdir()
    else:
        path.write_text(text)
    shutil.chown(path, owner, owner)
    path.chmod(mode)


def test_a_host_is_served_as_its_own_account(base: Path) -> None:
    lay(base, "mine", 0o700, MINE)
    lay(base, "mine/index.html", 0o600, MINE, "mine")
    lay(base, "mine/other.html", 0o600, OTHER, "not mine")
    lay(base, "mine/open", 0o755, OTHER)
    lay(base, "mine/open/index.html", 0o644, OTHER, "x")
    lay(base, "mine/shut", 0o700, OTHER)
    lay(base, "mine/shut/page.html", 0o644, OTHER, "x")
    lay(base, "mine/told", 0o755, MINE)
    lay(base, "mine/told/.htaccess", 0o600, OTHER, "DirectoryIndex page.html\n")
    lay(base, "mine/told/page.html", 0o644, MINE, "x")
    head = plain_head(base, ADDRESS, PORT)
    head = head.replace("mpm_event", "mpm_prefork") + f"LoadModule mpm_itk_module {MODULE}\n"
    config = base / "httpd.conf"
    config.write_text(
        f"{head}<Directory {base}/mine>\nAllowOverride All\nRequire all granted\n</Directory>\n"
        + "".join(
            f"<VirtualHost {ADDRESS}:{PORT}>\nServerName {name}.test\n"
            f"DocumentRoot {base}/mine\n{line}\n</VirtualHost>\n"
            for name, line in (("own", f"AssignUserID {MINE} {MINE}"), ("plain", ""))
        )
    )
    follower = Follower(take_survey([EngineSpec("httpd", str(config))]))
    decided = {}
    with httpd(config, ADDRESS, PORT):
        for name in ("own", "plain"):
            for path in ("/", "/index.html", "/other.html", "/open/", "/open", "/none",
                         "/open/none", "/shut/page.html", "/shut/none", "/told/"):  # fmt: skip
                url = f"http://{name}.test:{PORT}{path}"
                answer = follower.brief(read_request(url, to=ADDRESS, source=ADDRESS))
                seen = ask({"url": url, "to": ADDRESS})
                if answer["decided"]:
                    decided[name, path] = answer["status"]
                    assert answer["status"] == seen.status, url
                    assert answer["content_type"] == seen.headers.get("content-type"), url
    assert decided["own", "/"] == 200
    assert decided["own", "/other.html"] == 403
    assert decided["own", "/open"] == 301
    # What a closed folder does to the master's walk is left open.
    assert {path for name, path in decided if name == "own"} >= {"/none", "/open/none", "/open/"}
    assert ("own", "/shut/page.html") not in decided
    # Nor is it known for a host without one, which is served as the server's usual account.
    assert ("plain", "/open") not in decided


def test_a_plan_lets_the_host_s_own_account_through(base: Path) -> None:
    lay(base, "mine", 0o755, MINE)
    lay(base, "mine/other.html", 0o600, OTHER, "not mine")
    config = base / "httpd.conf"
    config.write_text(
        plain_head(base, ADDRESS, PORT).replace("mpm_event", "mpm_prefork")
        + f"LoadModule mpm_itk_module {MODULE}\n<VirtualHost {ADDRESS}:{PORT}>\n"
        f"DocumentRoot {base}/mine\nAssignUserID {MINE} {MINE}\n<Directory {base}/mine>\n"
        "Require all granted\n</Directory>\n</VirtualHost>\n"
    )
    follower = Follower(take_survey([EngineSpec("httpd", str(config))]))
    request = read_request(f"http://own.test:{PORT}/other.html", to=ADDRESS)
    first = mending(follower, request).ways[0]
    assert any(MINE in line for line in first.shell), first.shell
    assert not any("www-data" in line for line in first.shell), first.shell
