"""The real request, sent by Ecumen, beside what it had predicted."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from ecumen.audit.scene import Scene
from ecumen.errors import RequestError
from ecumen.passage import Follower, read_request
from ecumen.survey import Listener, Survey
from ecumen_machine import EngineSpec, take_survey
from ecumen_web.explaining.replies import AskedServer, ask_server
from tests.worlds.live import nginx

ADDRESS, PORT = "127.0.0.49", 8091
HERE = "here"  # the origin of a survey that was taken on this machine
SERVERS = """
server {{
    listen {address}:{port};
    server_name open.test;
    root {base}/www;
    location = /away {{ return 302 http://elsewhere.test/; }}
    location = /mute {{ return 444; }}
    location = /others {{ deny {address}; allow all; }}
    location = /kind {{ default_type text/x-note; }}
}}
"""


@pytest.fixture(scope="module")
def base() -> Iterator[Path]:
    # Where the worker can reach it.
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-reply-"))
    for folder in (base, base / "www", base / "logs"):
        folder.mkdir(exist_ok=True)
        folder.chmod(0o755)
    (base / "www/index.html").write_text("page")
    (base / "www/kind").write_text("note")
    (base / "nginx.conf").write_text(
        f"user www-data;\npid {base}/pid;\nerror_log {base}/log;\nevents {{}}\n"
        f"http {{\ninclude /etc/nginx/mime.types;\naccess_log {base}/access;\n"
        f"{SERVERS.format(address=ADDRESS, port=PORT, base=base)}}}\n"
    )
    yield base
    shutil.rmtree(base)


@pytest.fixture(scope="module")
def survey(base: Path) -> Iterator[Survey]:
    with nginx(base / "nginx.conf", ADDRESS, PORT):
        yield take_survey([EngineSpec("nginx", str(base / "nginx.conf"))])


def asked(survey: Survey, path: str, **more: str) -> AskedServer:
    url = f"http://open.test:{PORT}{path}"
    return ask_server(Scene(Follower(survey)), read_request(url, to=ADDRESS, **more), HERE)  # type: ignore[arg-type]


@pytest.mark.server
@pytest.mark.apart
@pytest.mark.parametrize(
    ("path", "status", "kind", "location"),
    [
        ("/", "200", "text/html", None),
        ("/kind", "200", "text/x-note", None),
        ("/none", "404", "text/html", None),
        ("/away", "302", "text/html", "http://elsewhere.test/"),
    ],
)
def test_what_comes_back_is_what_was_predicted(
    survey: Survey, path: str, status: str, kind: str, location: str | None
) -> None:
    seen = asked(survey, path)
    assert {row.what: row.observed for row in seen.rows} == {
        "status": status,
        "content_type": kind,
        **({"location": location} if location else {}),
    }
    assert seen.agrees
    assert not seen.trouble
    assert not seen.by_stand_in


@pytest.mark.server
@pytest.mark.apart
def test_it_is_predicted_for_whoever_asks_from_here(survey: Survey) -> None:
    # The kernel gives a connection to this address its usual sender.
    seen = asked(survey, "/others", source="203.0.113.9")
    assert seen.asked_from == "127.0.0.1"
    assert seen.agrees


@pytest.mark.server
@pytest.mark.apart
def test_no_answer_is_an_answer_too(survey: Survey) -> None:
    hung_up = asked(survey, "/mute")
    assert hung_up.trouble == "the server hung up without an answer"
    assert hung_up.agrees
    stopped = replace(survey, listeners=(Listener(ADDRESS, 8099, "nginx", 1),))
    question = read_request("http://open.test:8099/", to=ADDRESS)
    nobody = ask_server(Scene(Follower(stopped)), question, HERE)
    assert nobody.trouble == "the connection was refused"


@pytest.mark.server
@pytest.mark.apart
def test_what_changed_since_is_a_difference(survey: Survey, base: Path) -> None:
    (base / "www/index.html").chmod(0o600)
    try:
        seen = asked(survey, "/")
    finally:
        (base / "www/index.html").chmod(0o644)
    assert seen.agrees is False
    assert [(row.what, row.agrees) for row in seen.rows] == [
        ("status", False),
        ("content_type", True),
    ]


@pytest.mark.server
@pytest.mark.apart
def test_nobody_else_is_asked_and_nothing_is_changed(survey: Survey) -> None:
    scene = Scene(Follower(survey))
    with pytest.raises(RequestError, match="no web server of this machine listens"):
        ask_server(scene, read_request("http://open.test/", to="198.51.100.7"), HERE)
    other = read_request(f"http://open.test:{PORT + 1}/", to=ADDRESS)
    with pytest.raises(RequestError, match="no web server of this machine listens"):
        ask_server(scene, other, HERE)
    with pytest.raises(RequestError, match="they change nothing"):
        asked(survey, "/", method="POST")
    with pytest.raises(RequestError, match="taken on this machine alone"):
        ask_server(scene, read_request(f"http://open.test:{PORT}/", to=ADDRESS), "unknown")
    shell = replace(survey, listeners=(Listener(ADDRESS, PORT, "sshd", 1),))
    with pytest.raises(RequestError, match="no web server of this machine listens"):
        asked(shell, "/")
