"""The configurations that Debian's packages bring along are decided wholly, as the servers do.

They listen on every address: each server is started in a network of its own, where there is none
but its loopback.
"""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from ecumen.passage import Follower, read_request
from ecumen_machine import EngineSpec, take_survey

pytestmark = [pytest.mark.server, pytest.mark.apart]
STARTS = {
    "httpd": (
        "/etc/apache2/apache2.conf",
        ". /etc/apache2/envvars && mkdir -p $APACHE_RUN_DIR && exec apache2 -DFOREGROUND",
    ),
    "nginx": ("/etc/nginx/nginx.conf", "exec nginx -g 'daemon off;'"),
}
PATHS = (
    "/", "/index.html", "/none", "/none/", "/icons", "/icons/", "/icons/blank.gif",
    "/icons/small/", "/server-status", "/server-status?auto", "/cgi-bin/x", "/.htaccess",
    "/.htpasswd", "/index.html/x", "/~root/", "/index.nginx-debian.html", "//", "/%2e%2e/",
    "/a%2fb", "/%zz",
)  # fmt: skip


@contextmanager
def started(start: str) -> Iterator[int]:
    """The server's process, once it answers."""
    command = ["unshare", "-n", "sh", "-c", f"ip link set lo up && {start}"]
    process = subprocess.Popen(
        command,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )
    try:
        for _ in range(100):
            if asked(process.pid, "GET", "/")[0]:
                break
            time.sleep(0.05)
        yield process.pid
    finally:
        process.terminate()
        process.wait(20)


def asked(pid: int, method: str, path: str) -> tuple[int, str, str]:
    """Status, content type and Location; a status of 0 is no answer."""
    command = ["nsenter", "-t", str(pid), "-n", "curl", "-s", "-o", "/dev/null", "--path-as-is",
               "-w", "%{http_code}|%{content_type}|%header{location}", "-H", "User-Agent:",
               *(["-I"] if method == "HEAD" else ["-X", method]),
               f"http://127.0.0.1{path}"]  # fmt: skip
    said = subprocess.run(command, capture_output=True, text=True, check=False).stdout
    status, kind, location = (said or "0||").split("|")
    return int(status or 0), kind, location


@pytest.mark.parametrize("kind", STARTS)
def test_a_stock_configuration_is_decided_wholly(kind: str) -> None:
    config, start = STARTS[kind]
    follower = Follower(take_survey([EngineSpec(kind, config)], ["/var/www"]))
    statuses = set()
    with started(start) as pid:
        for path in PATHS:
            for method in ("GET", "HEAD", "POST"):
                url = f"http://127.0.0.1{path}"
                request = read_request(url, to="127.0.0.1", source="127.0.0.1", method=method)
                answer = follower.brief(request)
                assert answer["decided"], (path, method, answer["unsure_because"])
                predicted = (
                    answer["status"], answer["content_type"] or "", answer["location"] or "",
                )  # fmt: skip
                assert predicted == asked(pid, method, path), (path, method)
                statuses.add(answer["status"])
    assert {200, 400, 404} <= statuses
