"""The web application against whoever can reach it, uploads to it, or writes what it reads."""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import os
import random
import re
import shutil
import signal
import socket
import sqlite3
import ssl
import stat
import struct
import subprocess
import sys
import time
import urllib.parse
import urllib.request
import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, nullcontext, suppress
from dataclasses import dataclass, replace
from http.client import HTTPConnection, HTTPSConnection
from pathlib import Path
from typing import Any

import psutil
import pytest

from ecumen.errors import SurveyError
from ecumen.survey import Survey, read_survey, write_survey
from ecumen_machine import origin
from ecumen_machine.following import Folders, parts_of
from ecumen_machine.logdoor import OWN
from ecumen_web.account import AccountError, ServiceAccount, _give
from tests.application import ROOT, free_port
from tests.builders import server
from tests.hostile_survey_test import swapping

ENTRY = "from ecumen_cli.main import main; main()"
SITE = "<VirtualHost 192.0.2.10:80>\nServerName a.test\nDocumentRoot /srv/a\n{}</VirtualHost>\n"
PASSWORD = "correct horse battery"


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return tmp_path / "home"


def surroundings(home: Path, **more: str) -> dict[str, str]:
    return os.environ | {
        "ECUMEN_HOME": str(home), "ECUMEN_STATE": str(home.parent / "state"),
        "PYTHONPATH": str(ROOT / "src"), **more,
    }  # fmt: skip


def run(home: Path, *words: str, given: str = "", **more: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-c", ENTRY, *words], input=given, capture_output=True, text=True,
        check=False, timeout=120, env=surroundings(home, **more),
    )  # fmt: skip


@dataclass
class Served:
    home: Path
    port: int
    process: subprocess.Popen[str]
    said: str
    cookies: dict[str, str]
    token: str = ""
    host: str = "127.0.0.1"

    def ask(
        self, method: str, path: str, body: object = None, headers: dict[str, str] | None = None
    ) -> tuple[int, Any]:
        link = HTTPConnection(self.host, self.port, timeout=30)
        sent = {"Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items())}
        data = body if isinstance(body, bytes) else None
        if body is not None and data is None:
            data, sent["Content-Type"] = json.dumps(body).encode(), "application/json"
        sent |= {"X-CSRFToken": self.token} if self.token else {}
        link.request(method, path, data, sent | (headers or {}))
        answer = link.getresponse()
        for value in answer.msg.get_all("Set-Cookie") or []:
            name, _, rest = value.partition("=")
            self.cookies[name] = rest.partition(";")[0]
        text = answer.read()
        link.close()
        try:
            found = json.loads(text)
        except ValueError:
            found = text.decode("utf-8", "replace")
        if isinstance(found, dict) and "token" in found:
            self.token = found["token"]
        return answer.status, found

    def sign_in(self, name: str, password: str) -> int:
        self.ask("GET", "/api/session")
        return self.ask("POST", "/api/session", {"name": name, "password": password})[0]

    def upload(self, data: bytes) -> tuple[int, Any]:
        body = b'--x\r\nContent-Disposition: form-data; name="file"; filename="x"\r\n\r\n' + data
        kind = {"Content-Type": "multipart/form-data; boundary=x"}
        return self.ask("POST", "/api/surveys", body + b"\r\n--x--\r\n", kind)

    def done(self, job: int, seconds: float = 60) -> dict[str, Any]:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            found = self.ask("GET", f"/api/jobs/{job}")[1]
            if found["state"] not in ("waiting", "running"):
                return dict(found)
            time.sleep(0.1)
        raise AssertionError(found)


@contextmanager
def served(home: Path, *words: str, python: str = sys.executable, **more: str) -> Iterator[Served]:
    port = free_port()
    as_root = ["--as-root"] if os.geteuid() == 0 and "--account" not in words else []
    process = subprocess.Popen(
        [python, "-c", ENTRY, "serve", "--port", str(port), *as_root, *words],
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        env=surroundings(home, PYTHONUNBUFFERED="1", **more),
    )  # fmt: skip
    said = ""
    try:
        assert process.stdout is not None
        for _ in range(400):
            if process.poll() is not None:
                raise AssertionError(said + process.stdout.read())
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                urllib.request.urlopen(f"http://127.0.0.1:{port}/api/session", timeout=5).close()
                break
            except OSError:
                time.sleep(0.05)
        os.set_blocking(process.stdout.fileno(), False)
        said = process.stdout.read() or ""
        yield Served(home, port, process, said, {})
    finally:
        process.terminate()
        process.communicate(timeout=20)


def first_password(application: Served) -> str:
    found = re.search(r"password: (\S+)", application.said)
    assert found is not None, application.said
    return found[1]


@contextmanager
def signed_in(home: Path, *words: str, **more: str) -> Iterator[Served]:
    with served(home, *words, **more) as application:
        given = first_password(application)
        assert application.sign_in("admin", given) == 200
        change = {"old": given, "new": PASSWORD}
        assert application.ask("POST", "/api/session/password", change)[0] == 200
        yield application


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    """One for all that leaves it as it was."""
    with signed_in(tmp_path_factory.mktemp("shared") / "home") as application:
        yield application


def packed(survey: Survey) -> bytes:
    stream = io.BytesIO()
    write_survey(survey, stream)
    return stream.getvalue()


# --- who signs in ---


@pytest.mark.attack
def test_the_first_password_is_told_once_and_a_job_is_not_forgotten(home: Path) -> None:
    with served(home) as application:
        password = first_password(application)
        assert application.sign_in("admin", password) == 200
        assert application.ask("GET", "/api/session")[1]["must_change"] is True
        assert application.ask("GET", "/api/surveys")[0] == 403
        for wrong in ({"old": "x", "new": PASSWORD}, {"old": password, "new": "short"},
                      {"old": password, "new": password}):  # fmt: skip
            assert application.ask("POST", "/api/session/password", wrong)[0] == 400
        other = replace(application, cookies={}, token="")
        assert other.sign_in("admin", password) == 200
        change = {"old": password, "new": PASSWORD}
        assert application.ask("POST", "/api/session/password", change)[0] == 200
        assert application.ask("GET", "/api/surveys")[0] == 200
        # The other session was begun with a password that is none any more.
        assert other.ask("GET", "/api/surveys")[0] == 403
        job = application.upload(packed(server(SITE.format(""))))[1]
        application.done(job["id"])
    # As if the server had ended between writing the job down and putting it on the queue.
    database = sqlite3.connect(home / "ecumen.sqlite3")
    with database:
        database.execute("UPDATE store_jobrecord SET state='waiting', doing='waiting'")
    database.close()
    with served(home) as again:
        assert "password" not in again.said
        assert again.sign_in("admin", PASSWORD) == 200
        assert again.done(job["id"])["state"] == "done"


@pytest.mark.attack
def test_people_come_get_passwords_and_go(shared: Served) -> None:
    as_root = ["--as-root"] if os.geteuid() == 0 else []
    home = shared.home
    made = run(home, "people", "add", "ines", *as_root)
    password = made.stdout.strip()
    assert (made.returncode, len(password) >= 12) == (0, True)
    application = replace(shared, cookies={}, token="")
    assert application.sign_in("ines", password) == 200
    application.ask("POST", "/api/session/password", {"old": password, "new": PASSWORD})
    assert application.ask("GET", "/api/surveys")[0] == 200
    given = run(home, "people", "password", "ines", "--from-input", *as_root, given="x" * 9 + "\n")
    assert given.returncode == 0, given.stderr
    assert application.ask("GET", "/api/surveys")[0] == 403
    assert application.sign_in("ines", "x" * 9) == 200
    assert run(home, "people", "close", "ines", *as_root).returncode == 0
    assert application.ask("GET", "/api/session")[1]["signed_in"] is False
    assert application.sign_in("ines", "x" * 9) == 400


# --- what is sent ---


@pytest.mark.attack
def test_half_sent_requests_hold_nobody_up(shared: Served) -> None:
    """150 half headers and 40 half bodies; then a new client."""
    with nullcontext(replace(shared, cookies={}, token="")) as application:
        held = [socket.create_connection(("127.0.0.1", application.port)) for _ in range(190)]
        for number, link in enumerate(held):
            if number < 150:
                link.sendall(b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX-A: ")
            else:
                link.sendall(b"POST /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\n"
                             b"Content-Length: 1000\r\n\r\nabc")  # fmt: skip
        began = time.monotonic()
        assert application.ask("GET", "/api/session")[0] == 200
        assert time.monotonic() - began < 2
        time.sleep(14)
        closed = 0
        for link in held:
            link.setblocking(False)
            try:
                closed += link.recv(65536) is not None
            except (BlockingIOError, ConnectionError):
                continue
        assert closed > 150
        for link in held:
            link.close()


@pytest.mark.attack
def test_a_large_body_is_refused_before_it_is_read(shared: Served) -> None:
    with nullcontext(replace(shared, cookies={}, token="")) as application:
        for path, cookie in (("/api/session", ""), ("/api/surveys", ""),
                             ("/api/surveys", "Cookie: ecumen_upload=x:y:z\r\n")):  # fmt: skip
            with socket.create_connection(("127.0.0.1", application.port)) as link:
                link.sendall(
                    f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1\r\n{cookie}"
                    "Content-Length: 314572800\r\n\r\n".encode()
                )
                sent = 0
                link.settimeout(10)
                try:
                    while sent < 20 << 20:
                        sent += link.send(bytes(1 << 16))
                except (ConnectionError, TimeoutError):
                    pass
                assert b" 413 " in link.recv(4096) or sent < 20 << 20
                assert sent < 20 << 20
        chunked = socket.create_connection(("127.0.0.1", application.port))
        chunked.sendall(
            b"POST /api/session HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n"
        )
        sent = 0
        with suppress(OSError):
            chunked.settimeout(10)
            while sent < 64 << 20:
                chunked.sendall(b"10000\r\n" + bytes(1 << 16) + b"\r\n")
                sent += 1 << 16
        chunked.close()
        assert sent < 64 << 20


@pytest.mark.attack
def test_an_answer_to_head_has_no_body(shared: Served) -> None:
    """On a connection that is kept, what comes next is the next answer."""
    with socket.create_connection(("127.0.0.1", shared.port)) as link:
        then = b"GET /api/session HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"
        for path in (b"/", b"/api/session", b"/nothing", b"/api/surveys"):
            link.sendall(b"HEAD " + path + b" HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n" + then)
            data = b""
            link.settimeout(5)
            while data.count(b"HTTP/1.1 ") < 2 or not data.endswith(b"}"):
                data += link.recv(65536)
            rest = data.partition(b"\r\n\r\n")[2]
            assert rest.startswith(b"HTTP/1.1 200 OK"), (path, data[:300])


HOSTILE_PATHS = (
    "/api/surveys/²/sites", "/api/surveys/9999999999999999999/sites", "/api/surveys/latest/changes?since=²",
    "/api/surveys/latest/logs/9999999999999999999/rejected", "/api/jobs/9999999999999999999",
    "/api/surveys/latest/passage?url=http://[::1", "/api/surveys/latest/passage?url=http://a.test:99999/",
    "/api/surveys/latest/logs/figures?begin=-1099511627776&end=1099511627776",
    "/api/surveys/latest/logs/lines?begin=0&end=1099511627776&words=%00", "/api/surveys/latest/who?path=%00",
    "/api/surveys/latest/roots?within=/../..&q=%ff", "/api/surveys/latest/site?at=%00", "/%00", "/%ff",
    "/api/surveys/%00/sites", "/api/surveys/latest/findings/%00",
)  # fmt: skip


@pytest.mark.attack
def test_odd_questions_are_answered_in_one_line(shared: Served) -> None:
    with nullcontext(shared) as application:
        status, job = application.upload(packed(server(SITE.format(""))))
        assert status == 202
        assert application.done(job["id"])["state"] == "done"
        for path in HOSTILE_PATHS:
            status, found = application.ask("GET", urllib.parse.quote(path, safe="/?&=%[]:+"))
            assert status < 500, (path, found)
        deep = b"[" * 100_000 + b"]" * 100_000
        kind = {"Content-Type": "application/json"}
        for path in ("/api/session", "/api/surveys/latest/reply", "/api/session/password"):
            assert application.ask("POST", path, deep, kind)[0] in (400, 403), path
        anonymous = replace(application, cookies={}, token="")
        assert anonymous.ask("POST", "/api/session", deep, kind)[0] in (400, 403)


# --- surveys ---


def bad_surveys() -> Iterator[tuple[str, bytes]]:
    """Traps, and whole ones with something that cannot be."""
    good = packed(server(SITE.format("")))

    def with_part(name: str, data: bytes) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(good)) as old, zipfile.ZipFile(out, "w", 8) as new:
            for info in old.infolist():
                if info.filename != name:
                    new.writestr(info.filename, old.read(info))
            new.writestr(name, data)
        return out.getvalue()

    with zipfile.ZipFile(io.BytesIO(good)) as archive:
        head = json.loads(archive.read("survey.json"))
    yield "table", with_part("files/names", bytes(200 << 20))
    yield "names", with_part("names.json", b"[" + b" " * (100 << 20) + b"]")
    yield "text of 100 MB", with_part("text/etc/x", bytes(100 << 20))
    yield "late", with_part("survey.json", json.dumps(head | {"taken_at": 10**20}).encode())
    yield (
        "no address",
        with_part("names.json", b'[{"name": "a.test", "addresses": ["not an address"]}]'),
    )
    yield "brackets", with_part("names.json", b"[" * 100_000)
    yield "empty", b""


def test_traps_are_refused_in_one_line_and_little_time(home: Path) -> None:
    for name, data in bad_surveys():
        began = time.process_time()
        with pytest.raises(SurveyError) as refused:
            read_survey(io.BytesIO(data))
        assert time.process_time() - began < 3, name
        assert len(str(refused.value)) < 600, name


def test_damaged_archives_are_refused(seed: int) -> None:
    rng = random.Random(seed)
    good = packed(server(SITE.format("")))
    for _ in range(600):
        bad = bytearray(good)
        for _ in range(rng.choice([1, 1, 2, 8, 40])):
            bad[rng.randrange(len(bad))] = rng.randrange(256)
        if rng.random() < 0.2:
            bad = bad[: rng.randrange(len(bad))]
        try:
            read_survey(io.BytesIO(bytes(bad)))
        except SurveyError:
            continue


@pytest.mark.attack
def test_an_uploaded_survey_reaches_nothing_of_the_live_machine(
    shared: Served, tmp_path: Path
) -> None:
    """One that names this host, and logs and addresses of it."""
    secret = tmp_path / "secret.log"
    secret.write_text("word of honour\n")
    with socket.create_server(("127.0.0.1", 0)) as listening:
        port = listening.getsockname()[1]
        config = SITE.format(f"CustomLog {secret} common\n").replace("192.0.2.10:80", f"*:{port}")
        survey = server(config)
        text = survey.texts["/etc/c"].replace(b"Listen 192.0.2.10:80", f"Listen {port}".encode())
        survey = replace(
            survey, host=socket.gethostname(), texts={"/etc/c": text}, addresses=("127.0.0.1",),
            logs=(str(secret),),
        )  # fmt: skip
        for data in (packed(survey), packed(survey) + b"ecumen-origin:" + b"0" * 64):
            status, job = shared.upload(data)
            assert status == 202
            loaded = shared.done(job["id"])
            assert loaded["state"] == "done"
            listed = {each["id"]: each for each in shared.ask("GET", "/api/surveys")[1]}
            assert listed[loaded["survey"]]["origin"] == "unknown"
            place = f"/api/surveys/{loaded['survey']}"
            logs = shared.ask("POST", f"{place}/logs")[1]
            shared.done(logs["id"])
            told = shared.ask("GET", f"{place}/logs")[1]["logs"]
            assert (told["here"], told["lines"]) == (False, 0)
            question = {"url": f"http://a.test:{port}/", "to": "127.0.0.1"}
            status, found = shared.ask("POST", f"{place}/reply", question)
            assert (status, "on this machine alone" in found["detail"]) == (400, True)
        listening.settimeout(0.2)
        with pytest.raises(TimeoutError):
            listening.accept()


def answering(application: Served) -> list[psutil.Process]:
    """The processes that work answers out."""
    found = []
    for each in psutil.Process(application.process.pid).children():
        with suppress(psutil.ZombieProcess):
            found += [each] if "ecumen_web.answering" in each.cmdline() else []
    return found


def test_an_answer_that_takes_too_long_costs_itself_alone(home: Path) -> None:
    with signed_in(home, ECUMEN_ANSWER_WITHIN="2") as application:
        job = application.upload(packed(server(SITE.format(""))))[1]
        assert application.done(job["id"])["state"] == "done"
        # A job follows that reads its logs: what it writes down has answers worked out anew.
        time.sleep(1)
        logs = application.ask("POST", "/api/surveys/latest/logs")[1]
        assert application.done(logs["id"])["state"] == "done"
        question = "/api/surveys/latest/passage?url=http://a.test/"
        status, kept = application.ask("GET", question)
        assert status == 200
        for each in answering(application):
            each.suspend()
        other, fresh = replace(application), f"{question}else"
        with ThreadPoolExecutor() as pool:
            asked = [pool.submit(replace(application).ask, "GET", fresh) for _ in range(2)]
            time.sleep(0.5)
            # What is known, and what needs no survey, is answered meanwhile.
            began = time.monotonic()
            assert other.ask("GET", question) == (200, kept)
            assert other.ask("GET", "/api/session")[0] == 200
            assert time.monotonic() - began < 1
            answers = sorted((each.result() for each in asked), key=lambda answer: answer[0])
            # The other one had a process of its own.
            assert [status for status, _ in answers] == [200, 503]
            assert answers[1][1] == {"detail": "Given up: this takes longer than 2 s."}
        assert application.ask("GET", fresh)[0] == 200
        # So it is with one that ends in the middle, for its memory or otherwise.
        for each in answering(application):
            each.suspend()
        with ThreadPoolExecutor() as pool:
            lost = pool.submit(application.ask, "GET", f"{fresh}more")
            time.sleep(0.5)
            for each in answering(application):
                each.kill()
            status, told = lost.result()
            assert (status, "more than its share" in told["detail"]) == (503, True)
        # One that ended while it had nothing to do costs nobody anything.
        assert [application.ask("GET", f"{fresh}{n}")[0] for n in range(4)] == [200] * 4
        left = {each.pid for each in answering(application)}
        assert left
    assert not any(psutil.pid_exists(pid) for pid in left)


def test_a_survey_proves_its_origin_and_any_change_undoes_that(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    monkeypatch.setenv("ECUMEN_STATE", str(tmp_path / "state"))
    file = tmp_path / "x.survey"
    file.write_bytes(packed(server(SITE.format(""))))
    key = origin.key(make=True)
    assert key is not None
    assert key == origin.key(make=True)
    with file.open("r+b") as stream:
        assert not origin.is_proven(stream, key)
        origin.seal(stream, key)
        assert origin.is_proven(stream, key)
        assert not origin.is_proven(stream, bytes(32))
        stream.seek(0)
        read_survey(stream)
    whole = file.read_bytes()
    rng = random.Random(seed)
    for _ in range(300):
        bad = bytearray(whole)
        bad[rng.randrange(len(bad))] ^= 1 << rng.randrange(8)
        assert not origin.is_proven(io.BytesIO(bytes(bad)), key)
    assert not origin.is_proven(io.BytesIO(whole + b"x"), key)
    (tmp_path / "state" / "origin.key").chmod(0o644)
    assert origin.key() is None


@pytest.mark.attack
def test_cancelling_a_repeated_load_leaves_the_survey_that_was_there(shared: Served) -> None:
    survey = server(SITE.format(""))
    many = "".join(SITE.format("").replace("a.test", f"s{n}.test") for n in range(1500))
    data = packed(replace(survey, texts={"/etc/c": survey.texts["/etc/c"] + many.encode()}))
    loaded = shared.done(shared.upload(data)[1]["id"])
    assert loaded["state"] == "done"
    place = f"/api/surveys/{loaded['survey']}"
    again = shared.upload(data)[1]
    shared.ask("DELETE", f"/api/jobs/{again['id']}")
    assert shared.done(again["id"])["state"] in ("cancelled", "done")
    assert shared.ask("GET", f"{place}/sites")[0] == 200
    name = f"{hashlib.sha256(data).hexdigest()}.survey"
    (shared.home / "surveys" / name).unlink()
    listed = {each["id"]: each for each in shared.ask("GET", "/api/surveys")[1]}
    assert listed[loaded["survey"]]["missing"] is True
    for asked in ("sites", "findings", "bindings", "roots", "users", "contexts", "logs",
                  "passage?url=http://a.test/"):  # fmt: skip
        status, found = shared.ask("GET", f"{place}/{asked}")
        assert status < 500, (asked, found)
    assert shared.ask("DELETE", place)[0] == 204
    assert loaded["survey"] not in {each["id"] for each in shared.ask("GET", "/api/surveys")[1]}


# --- the home ---


def test_an_existing_home_is_made_private_at_every_start(home: Path) -> None:
    home.mkdir(mode=0o755)
    (home / "surveys").mkdir(mode=0o755)
    (home / "ecumen.sqlite3").touch(mode=0o644)
    home.chmod(0o755)
    as_root = ["--as-root"] if os.geteuid() == 0 else []
    assert run(home, "people", "add", "ines", *as_root).returncode == 0
    for path in (home, *home.rglob("*")):
        assert stat.S_IMODE(path.stat().st_mode) & 0o077 == 0, path


@pytest.mark.attack
def test_a_second_server_on_one_home_says_who_has_it(shared: Served) -> None:
    as_root = ["--as-root"] if os.geteuid() == 0 else []
    second = run(shared.home, "serve", "--port", str(free_port()), *as_root)
    assert second.returncode == 2
    assert f"process {shared.process.pid}" in second.stderr
    assert len(second.stderr.strip().splitlines()) == 1


@pytest.mark.server
def test_a_home_that_cannot_be_written_to_is_one_line(tmp_path: Path) -> None:
    home = tmp_path / "home"
    home.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "ro", "none", str(home)], check=True)
    try:
        for words in (("serve",), ("people", "add", "x"), ("load", str(home / "none"))):
            done = run(home, *words, "--as-root")
            assert done.returncode == 2, done.stderr
            assert len(done.stderr.strip().splitlines()) == 1, done.stderr
    finally:
        subprocess.run(["umount", str(home)], check=True)


@pytest.mark.attack
@pytest.mark.server
def test_a_full_disk_leaves_the_records_whole(tmp_path: Path, seed: int) -> None:
    """A file system of few pages, filled up to here and there."""
    home = tmp_path / "home"
    home.mkdir()
    survey = server(SITE.format(""))
    many = "".join(SITE.format("").replace("a.test", f"s{n}.test") for n in range(300))
    file = tmp_path / "x.survey"
    file.write_bytes(
        packed(replace(survey, texts={"/etc/c": survey.texts["/etc/c"] + many.encode()}))
    )
    rng = random.Random(seed)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=3m", "none", str(home)], check=True)
    try:
        assert run(home, "people", "add", "x", "--as-root").returncode == 0
        failed = 0
        for _ in range(4):
            free = os.statvfs(home).f_bavail * os.statvfs(home).f_frsize
            filler = home / "filler"
            filler.write_bytes(bytes(max(0, free - rng.randrange(0, 1 << 20))))
            done = run(home, "load", str(file), "--as-root")
            failed += done.returncode != 0
            assert done.returncode in (0, 2), done.stderr
            assert len(done.stderr.strip().splitlines()) <= 2, done.stderr
            filler.unlink()
            left = [p.name for p in (home / "surveys").iterdir()]
            database = sqlite3.connect(home / "ecumen.sqlite3")
            assert database.execute("PRAGMA integrity_check").fetchone() == ("ok",)
            (records,) = database.execute("SELECT count(*) FROM store_surveyrecord").fetchone()
            (sites,) = database.execute("SELECT count(*) FROM store_siterecord").fetchone()
            database.close()
            assert (records, sites) in ((0, 0), (1, 301))
            assert len(left) == records, left
        assert failed > 0
    finally:
        subprocess.run(["umount", str(home)], check=True)


# --- logs ---


def test_a_log_is_never_read_out_of_its_folder(tries: int) -> None:
    """Links, second names, and a folder that is swapped: 0 of all tries."""
    if os.geteuid() != 0:
        pytest.skip("needs root")
    base = Path("/srv/ecumen-logs")
    shutil.rmtree(base, ignore_errors=True)
    folder, secret = base / "logs", base / "secret"
    folder.mkdir(parents=True)
    secret.mkdir(mode=0o700)
    (secret / "access.log").write_text("word of honour\n")
    (folder / "access.log").write_text("own\n")
    try:
        os.chown(folder, 65534, 65534)
        os.chown(folder / "access.log", 65534, 65534)
        (folder / "access.log.1").symlink_to("/etc/shadow")
        (folder / "access.log.2").symlink_to(secret / "access.log")
        (folder / "access.log.3").symlink_to("access.log")
        hard = folder / "access.log.4"
        (base / "other").write_text("word of honour\n")
        (base / "other").chmod(0o600)
        os.link(base / "other", hard)
        os.mkfifo(folder / "access.log.5")
        for name in ("access.log.1", "access.log.2", "access.log.3"):
            os.lchown(folder / name, 65534, 65534)
        files, unread = Folders(()).files_of(str(folder / "access.log"))
        assert files == [str(folder / "access.log")]
        assert len(unread) == 5
        assert parts_of([str(folder / f"access.log.{n}") for n in range(1, 6)], []) == []
        # What root's own links lead to is root's affair.
        (base / "link").symlink_to(folder)
        assert Folders(()).files_of(str(base / "link" / "access.log"))[0]
        other = folder.parent / "swap"
        other.symlink_to(secret)
        os.chown(base, 65534, 65534)
        os.lchown(other, 65534, 65534)
        leaked = seen = 0
        with swapping(folder, other):
            for _ in range(tries):
                try:
                    handle = OWN.open(str(folder / "access.log"))
                except OSError:
                    continue
                seen += 1
                leaked += os.pread(handle, 4, 0) != b"own\n"
                os.close(handle)
        assert leaked == 0
        assert seen > tries / 100
    finally:
        shutil.rmtree(base)


LINE = '192.0.2.{} - - [02/Apr/2031:10:{:02}:{:02} +0000] "GET /{} HTTP/1.1" 200 5\n'


@pytest.mark.attack
@pytest.mark.server
def test_kills_count_no_line_twice_and_lose_none(tmp_path: Path, seed: int, kills: int) -> None:
    """The reader is killed at random, and goes on; so is one with a second one beside it."""
    home = tmp_path / "home"
    log = tmp_path / "a.log"
    some = "".join(LINE.format(n % 250, n // 1000 % 60, n % 60, n % 90) for n in range(60_000))
    log.write_text(some)
    config = SITE.format(f"CustomLog {log} common\n")
    file = tmp_path / "x.survey"
    file.write_bytes(packed(replace(server(config), logs=(str(log),))))
    state = {"ECUMEN_STATE": str(tmp_path / "state")}
    os.environ |= state
    try:
        with file.open("r+b") as stream:
            key = origin.key(make=True)
            assert key is not None
            origin.seal(stream, key)
        done = run(home, "load", str(file), "--as-root", **state)
        assert done.returncode == 0, done.stderr
        database = sqlite3.connect(home / "ecumen.sqlite3", timeout=20)
        rng = random.Random(seed)
        reader = [sys.executable, "-m", "ecumen_web.worker", "{}"]
        rounds = within = 0
        code = (
            "import ecumen_machine.logreader as l; l.AT_ONCE = 700; "
            "import sys, runpy; sys.argv = sys.argv[1:]; "
            "runpy.run_module('ecumen_web.worker', run_name='__main__')"
        )
        while rounds < kills:
            numbers = []
            with database:
                for _ in range(2):
                    made = database.execute(
                        "INSERT INTO store_jobrecord (state, doing, done, total, error, kind, file,"
                        " asked_at, cancel, survey_id) SELECT 'running', '', 0, 0, '', 'logs', file,"
                        " '2031-01-01', 0, id FROM store_surveyrecord"
                    )
                    numbers.append(str(made.lastrowid))
            running = [
                subprocess.Popen(
                    [sys.executable, "-c", code, *(w.format(number) for w in reader[2:])],
                    env=surroundings(home, **state), stderr=subprocess.DEVNULL,
                )
                for number in numbers
            ]  # fmt: skip
            before = _offset(database)
            until = time.monotonic() + 8
            while _offset(database) == before and time.monotonic() < until:
                time.sleep(0.01)
            time.sleep(rng.uniform(0, 0.2))
            for process in running:
                process.send_signal(signal.SIGKILL)
                process.wait()
            rounds += 2
            offset = _offset(database)
            within += before < offset < log.stat().st_size
            (counted,) = database.execute("SELECT coalesce(sum(requests), 0) FROM store_hoursum s "
                "JOIN store_logsite l ON l.id = s.site_id WHERE l.key = '' AND dim = 0").fetchone()  # fmt: skip
            assert counted == log.read_bytes()[:offset].count(b"\n")
            if offset >= log.stat().st_size:
                with log.open("a") as stream:
                    stream.write(some)
        number = database.execute("SELECT max(id) FROM store_jobrecord").fetchone()[0]
        with database:
            database.execute("UPDATE store_jobrecord SET state='running' WHERE id=?", (number,))
        subprocess.run(
            [sys.executable, "-m", "ecumen_web.worker", str(number)], check=True,
            env=surroundings(home, **state),
        )  # fmt: skip
        (whole,) = database.execute("SELECT lines FROM store_logsource").fetchone()
        (counted,) = database.execute("SELECT sum(requests) FROM store_hoursum s JOIN "
            "store_logsite l ON l.id = s.site_id WHERE l.key = '' AND dim = 0").fetchone()  # fmt: skip
        database.close()
        assert whole == counted == log.read_bytes().count(b"\n")
        # They were ended while they read, and not before.
        assert within >= rounds // 8
        print(f"{rounds} kills, {within} of them in the middle of {whole} lines")
    finally:
        os.environ.pop("ECUMEN_STATE", None)


def _offset(database: sqlite3.Connection) -> int:
    found = database.execute("SELECT coalesce(max(offset), 0) FROM store_logfile").fetchone()
    return int(found[0])


def test_thousands_of_members_take_no_longer_than_their_bytes(tmp_path: Path) -> None:
    from ecumen_machine.logfiles import tally_of

    log = tmp_path / "a.log.gz"
    member = gzip.compress(LINE.format(1, 1, 1, "x").encode())
    log.write_bytes(member * 50_000)
    began = time.process_time()
    assert tally_of([str(log)], ("common",)).as_dict(1)["lines"] == 50_000
    assert time.process_time() - began < 15


# --- in front, and beside ---


@pytest.mark.attack
@pytest.mark.server
def test_behind_a_proxy_that_speaks_tls(home: Path, shared: Served, tmp_path: Path) -> None:
    """A real one in front: signing in works, cookies are for TLS alone, others' words are not
    believed."""
    made = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=ecumen.test",
            "-keyout", str(tmp_path / "key"), "-out", str(tmp_path / "cert")]  # fmt: skip
    subprocess.run(made, check=True, capture_output=True)
    front = free_port()
    more = {"ECUMEN_HTTPS": "1", "ECUMEN_HOSTS": "ecumen.test"}
    with served(home, **more) as application:
        config = tmp_path / "nginx.conf"
        config.write_text(
            f"pid {tmp_path}/pid;\nerror_log {tmp_path}/log;\nevents {{ }}\nhttp {{\naccess_log off;\n"
            f"server {{ listen 127.0.0.1:{front} ssl; ssl_certificate {tmp_path}/cert;\n"
            f"ssl_certificate_key {tmp_path}/key;\nlocation / {{\n"
            f"proxy_pass http://127.0.0.1:{application.port};\nproxy_set_header Host $host:{front};\n"
            "proxy_set_header X-Forwarded-Proto https;\n"
            "proxy_set_header X-Forwarded-For $remote_addr; }}\n}\n}\n".replace("}}\n", "}\n")
        )
        proxy = subprocess.Popen(["nginx", "-c", str(config), "-g", "daemon off; user root;"])
        try:
            time.sleep(1)
            context = ssl._create_unverified_context()
            cookies: dict[str, str] = {}
            token, said = "", {}

            def ask(method: str, path: str, body: object = None) -> int:
                nonlocal token, said
                link = HTTPSConnection("127.0.0.1", front, context=context, timeout=20)
                headers = {
                    "Host": f"ecumen.test:{front}", "Origin": f"https://ecumen.test:{front}",
                    "Referer": f"https://ecumen.test:{front}/", "X-CSRFToken": token,
                    "Content-Type": "application/json",
                    "Cookie": "; ".join(f"{k}={v}" for k, v in cookies.items()),
                }  # fmt: skip
                link.request(method, path, json.dumps(body) if body else None, headers)
                answer = link.getresponse()
                for value in answer.msg.get_all("Set-Cookie") or []:
                    assert {"Secure", "HttpOnly"} <= set(value.split("; ")), value
                    name, _, rest = value.partition("=")
                    cookies[name] = rest.partition(";")[0]
                assert answer.headers["Strict-Transport-Security"]
                said = json.loads(answer.read() or b"{}")
                token = said.get("token", token)
                link.close()
                return answer.status

            assert ask("GET", "/api/session") == 200
            given = {"name": "admin", "password": first_password(application)}
            assert ask("POST", "/api/session", given) == 200, said
            assert said["signed_in"] is True
        finally:
            proxy.terminate()
            proxy.wait()
    # Without a proxy that is trusted, who says so says it in vain.
    link = HTTPConnection("127.0.0.1", shared.port, timeout=20)
    link.request("GET", "/api/session", headers={"X-Forwarded-Proto": "https"})
    assert link.getresponse().headers["Strict-Transport-Security"] is None
    link.close()


@pytest.mark.server
def test_started_as_root_it_is_another_account_and_reads_logs_by_handles(tmp_path: Path) -> None:
    """With the interpreter of the system, which every account may use."""
    python = "/usr/bin/python3"
    version = subprocess.run([python, "-c", "import sys; print(sys.version_info[:2])"],
                             capture_output=True, text=True, check=False).stdout  # fmt: skip
    if version.strip() != str(sys.version_info[:2]):
        pytest.skip("the system's interpreter is another one")
    base = Path("/srv/ecumen-rootless")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir()
    name = "ecumenweb"
    subprocess.run(["userdel", name], check=False, capture_output=True)
    subprocess.run(["useradd", "--system", "--no-create-home", name], check=True)
    packages = next(path for path in sys.path if path.endswith("site-packages"))
    more = {
        "PYTHONPATH": f"{ROOT}/src:{packages}", "ECUMEN_STATE": str(base / "state"),
        "ECUMEN_HOME": str(base / "home"),
    }  # fmt: skip
    log = base / "a.log"
    log.write_text("".join(LINE.format(1, 1, n, "x") for n in range(50)))
    log.chmod(0o600)
    other = base / "b.log"
    other.write_text("word of honour")
    other.chmod(0o600)
    try:
        config = SITE.format(f"CustomLog {log} common\n")
        file = base / "x.survey"
        file.write_bytes(packed(replace(server(config), logs=(str(log),))))
        os.environ["ECUMEN_STATE"] = str(base / "state")
        with file.open("r+b") as stream:
            key = origin.key(make=True)
            assert key is not None
            origin.seal(stream, key)
        loaded = subprocess.run(
            [python, "-c", ENTRY, "load", str(file), "--account", name], capture_output=True,
            text=True, check=False, env=os.environ | more, cwd="/",
        )  # fmt: skip
        assert loaded.returncode == 0, loaded.stderr
        assert {p.owner() for p in (base / "home").rglob("*")} == {name}
        with served(base / "home", "--account", name, python=python, **more) as application:
            status = Path(f"/proc/{application.process.pid}/status").read_text()
            uid = str((base / "home").stat().st_uid)
            assert f"Uid:\t{uid}\t{uid}\t{uid}\t{uid}" in status
            assert "NoNewPrivs:\t1" in status
            given = first_password(application)
            assert application.sign_in("admin", given) == 200
            application.ask("POST", "/api/session/password", {"old": given, "new": PASSWORD})
            assert application.ask("GET", "/api/surveys")[1][0]["origin"] == "here"
            job = application.ask("POST", "/api/surveys/latest/logs")[1]
            assert application.done(job["id"])["state"] == "done"
            told = application.ask("GET", "/api/surveys/latest/logs")[1]["logs"]
            assert (told["here"], told["lines"]) == (True, 50), told["sources"]
    finally:
        os.environ.pop("ECUMEN_STATE", None)
        shutil.rmtree(base)
        subprocess.run(["userdel", name], check=False, capture_output=True)


def test_the_keeper_hands_out_no_more_than_logs_of_proven_surveys(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from ecumen_machine import keeper

    monkeypatch.setenv("ECUMEN_STATE", str(tmp_path / "state"))
    key = origin.key(make=True)
    assert key is not None
    log, other = tmp_path / "a.log", tmp_path / "b.log"
    for path in (log, tmp_path / "a.log.1", other):
        path.write_text(path.name)
    file = tmp_path / "x.survey"
    file.write_bytes(packed(replace(server(SITE.format("")), logs=(str(log), "/etc/shadow"))))
    door = keeper.start()
    with file.open("r+b") as stream:
        assert not door.is_proven(stream.fileno())
        with pytest.raises(OSError, match="no survey of this machine"):
            door.open(str(log))
        origin.seal(stream, key)
        assert door.is_proven(stream.fileno())
    for path, text in ((log, b"a.log"), (tmp_path / "a.log.1", b"a.log.1")):
        handle = door.open(str(path))
        assert os.pread(handle, 20, 0) == text
        with pytest.raises(OSError, match="Bad file"):
            os.write(handle, b"x")
        os.close(handle)
    assert door.names(str(tmp_path)) == ["a.log", "a.log.1"]
    for path in (other, tmp_path / "x.survey", Path("/etc/shadow"), Path("/etc/passwd")):
        with pytest.raises(OSError, match=r"no survey|password file"):
            door.open(str(path))
    with pytest.raises(OSError, match="no log"):
        door.names("/usr")
    assert door.names("/etc") == ["shadow"]
    # What is no question is answered all the same, and the next one too.
    for question in ({}, {"what": "rm"}, {"what": "open"}, {"what": "proven"}):
        with pytest.raises(OSError, match="no question"):
            door._ask(question)
    with door.another() as link:
        os.close(keeper.KeeperDoor(link).open(str(log)))
    door.close()


def test_what_is_packed_is_laid_out_as_it_is_read() -> None:
    """The comment that proves an origin keeps the archive one that any unzip opens."""
    data = packed(server(SITE.format("")))
    stream = io.BytesIO(data)
    origin.seal(stream, bytes(32))
    with zipfile.ZipFile(stream) as archive:
        assert archive.testzip() is None
        assert archive.comment.startswith(b"ecumen-origin:")
    assert struct.unpack("<H", stream.getvalue()[-len(archive.comment) - 2 :][:2])[0] == len(
        archive.comment
    )


def test_a_home_of_the_account_is_not_touched_by_root(tmp_path: Path) -> None:
    """What the account can swap for a link, root would give away."""
    if os.geteuid() != 0:
        pytest.skip("needs root")
    to = ServiceAccount("x", 65534, 65534)
    roots = tmp_path / "roots"
    roots.mkdir()
    (roots / "secret").write_text("root's")
    home = tmp_path / "home"
    home.mkdir(mode=0o700)
    (home / "surveys").symlink_to(roots)
    (home / "left").write_text("by root, once")
    os.chown(home, to.uid, to.gid)
    _give(home, to)
    assert {p.stat().st_uid for p in (roots, roots / "secret", home / "left")} == {0}
    # One that is root's is given whole, and what its links lead to is not.
    os.chown(home, 0, 0)
    home.chmod(0o755)
    _give(home, to)
    assert (home.stat().st_uid, (home / "left").stat().st_uid) == (to.uid, to.uid)
    assert stat.S_IMODE(home.stat().st_mode) == 0o700
    assert {p.stat().st_uid for p in (roots, roots / "secret")} == {0}
    loose = tmp_path / "loose"
    loose.mkdir()
    os.chown(loose, 65533, 65533)
    with pytest.raises(AccountError, match="in its place"):
        _give(loose / "home", to)
