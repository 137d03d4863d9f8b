"""Plans that change what the real servers are told: tried out, reloaded, proven, taken back."""

from __future__ import annotations

import http.client
import os
import shutil
import socket
import subprocess
import sys
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from ecumen.audit.scene import Scene
from ecumen.founding.naming import naming
from ecumen.operations import Operation, Plan, PlanGround
from ecumen.operations.file import File
from ecumen.operations.link import Link
from ecumen.operations.reload import Reload
from ecumen.operations.remove import Remove
from ecumen.operations.running import Start, Stop
from ecumen.passage import Follower
from ecumen.rehearsal import rehearse
from ecumen_agent.applier import Applier, Outcome
from ecumen_agent.bounds import Bounds
from ecumen_agent.ledger import Ledger, State
from ecumen_machine import take_survey
from ecumen_machine.hands import MachineHands
from tests.apart import on_a_machine_of_its_own

pytestmark = pytest.mark.server


class Anything(Bounds):
    """What an administrator may have written by hand, too."""

    def check(self, operation: Operation) -> None: ...


def started(kind: str) -> Applier:
    """The installed engine, running as after its installation, and an applier beside it."""
    Path("/srv/first").mkdir()
    Path("/srv/choir").mkdir()
    Path("/srv/choir/index.html").write_text("choir")
    # Whatever this machine has switched on, the test's own sites alone.
    for folder in ("/etc/apache2/sites-enabled", "/etc/nginx/sites-enabled"):
        for link in Path(folder).iterdir():
            link.unlink()
    if kind == "httpd":
        Path("/etc/apache2/ports.conf").write_text("Listen 127.0.0.1:80\n")
        Path("/etc/apache2/sites-enabled/000.conf").write_text(httpd("first.test", "/srv/first"))
        subprocess.run(["sh", "-c", ". /etc/apache2/envvars; apache2"], check=True)
    else:
        Path("/etc/nginx/sites-enabled/first").write_text(nginx("first.test", "/srv/first"))
        subprocess.run(["nginx"], check=True)
    os.makedirs("/run/agent")
    hands = MachineHands()
    return Applier(Ledger("/run/agent/db"), hands, Anything(), "/run/agent")


def httpd(name: str, root: str, more: str = "") -> str:
    access = f"<Directory {root}>\nRequire all granted\n</Directory>"
    return (
        f"<VirtualHost 127.0.0.1:80>\nServerName {name}\nDocumentRoot {root}\n{access}\n{more}\n"
        "</VirtualHost>\n"
    )


def nginx(name: str, root: str, more: str = "") -> str:
    return f"server {{ listen 127.0.0.1:80; server_name {name}; root {root}; {more} }}\n"


TEXTS: dict[str, Callable[[str, str, str], str]] = {"httpd": httpd, "nginx": nginx}
FOLDERS = {"httpd": "/etc/apache2/sites-available", "nginx": "/etc/nginx/sites-available"}


def site(kind: str, one: Applier, text: str, *more: Operation) -> Outcome:
    """A site's file, enabled."""
    path = f"{FOLDERS[kind]}/choir.conf"
    link = f"{FOLDERS[kind].replace('available', 'enabled')}/choir.conf"
    plan = [File.of(one.hands, path, text.encode()), Link(link, "../sites-available/choir.conf")]
    operations = (*plan, *more, Reload(kind))
    return one.apply(Plan("a new site", PlanGround("here", 0), operations), "test")


def asked(name: str, port: int = 80) -> int | None:
    request = urllib.request.Request(f"http://127.0.0.1:{port}/", headers={"Host": name})
    try:
        with urllib.request.urlopen(request, timeout=5) as answer:
            return int(answer.status)
    except urllib.error.HTTPError as error:
        return error.code
    except OSError:
        return None


def master(kind: str) -> int:
    path = {"httpd": "/run/apache2/apache2.pid", "nginx": "/run/nginx.pid"}[kind]
    return int(Path(path).read_text())


def everything() -> dict[str, object]:
    """The trees of configuration and of logs, as anybody finds them."""
    found: dict[str, object] = {}
    for top in ("/etc/apache2", "/etc/nginx", "/srv"):
        for path in sorted(Path(top).rglob("*")):
            info = path.lstat()
            held = os.readlink(path) if path.is_symlink() else None
            content = path.read_bytes() if held is None and path.is_file() else held
            found[str(path)] = info.st_mode, info.st_uid, info.st_gid, content
    # What lies aside, and what other tests lay out meanwhile.
    others = ("/.ecumen-aside", "/srv/ecumen-")
    return {key: value for key, value in found.items() if not any(x in key for x in others)}


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
@on_a_machine_of_its_own
def test_a_site_is_made_answers_at_once_and_goes_again(kind: str) -> None:
    one = started(kind)
    before, pid = everything(), master(kind)
    assert asked("choir.test") != 200
    outcome = site(kind, one, TEXTS[kind]("choir.test", "/srv/choir", ""))
    assert outcome.state is State.DONE, outcome
    # Not one answer of the workers of before.
    assert [asked("choir.test") for _ in range(200)] == [200] * 200
    assert master(kind) == pid
    assert one.undo(outcome.entry).state is State.UNDONE
    assert everything() == before
    assert {asked("choir.test") for _ in range(50)} != {200}
    assert master(kind) == pid


# What an engine's own check passes, or half of it, and what it would die of.
BROKEN = {
    "httpd": (
        "NoSuchThing on", "ErrorLog /var/log", 'ErrorLog "|/no/such/program"', "<Directory /x>",
        "SSLEngine on", "SSLEngine on\nSSLCertificateFile /etc/hosts",
        "SSLEngine on\nSSLCertificateFile /srv/one.pem\nSSLCertificateKeyFile /srv/other.key",
        "ErrorLog /var/log/none/x", "</VirtualHost>\nListen 127.0.0.1:99\n<VirtualHost *:99>",
        "</VirtualHost>\nListen 192.0.2.1:81\n<VirtualHost *:81>",
    ),
    "nginx": (
        "no_such_thing on;", "error_log /var/log;", "listen 127.0.0.1:99;", "location / {",
        "listen 192.0.2.1:81;", "listen 443 ssl; ssl_certificate /etc/hosts;",
        "listen 443 ssl; ssl_certificate /srv/one.pem; ssl_certificate_key /srv/other.key;",
        "access_log /var/log/none/x;",
    ),
}  # fmt: skip


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
@on_a_machine_of_its_own
def test_what_it_would_die_of_is_refused_before_the_disk_is_touched(kind: str) -> None:
    for name in ("one", "other"):
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=a.test",
             "-keyout", f"/srv/{name}.key", "-out", f"/srv/{name}.pem"],
            check=True, capture_output=True,
        )  # fmt: skip
    if kind == "httpd":
        for part in ("ssl.load", "ssl.conf", "socache_shmcb.load"):
            link = Path(f"/etc/apache2/mods-enabled/{part}")
            if not link.is_symlink():
                link.symlink_to(f"../mods-available/{part}")
    one = started(kind)
    with socket.socket() as held:
        held.bind(("127.0.0.1", 99))
        held.listen()
        before, pid = everything(), master(kind)
        logs = sorted(map(str, Path("/var/log").rglob("*")))
        for line in BROKEN[kind]:
            outcome = site(kind, one, TEXTS[kind]("choir.test", "/srv/choir", line))
            assert outcome.state is State.REFUSED, (line, outcome)
            assert "Nothing was done" in outcome.said
            assert everything() == before, line
            assert sorted(map(str, Path("/var/log").rglob("*"))) == logs, line
    assert master(kind) == pid
    assert Path(f"/proc/{pid}").exists()


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
@on_a_machine_of_its_own
def test_what_fails_at_the_reload_alone_is_taken_back(kind: str) -> None:
    """As where somebody takes away what the trial still found."""
    one = started(kind)
    before = everything()
    Path("/var/log/gone").mkdir()
    line = {"httpd": "ErrorLog /var/log/gone/x", "nginx": "error_log /var/log/gone/x;"}[kind]

    def vanish(doing: str, done: int, total: int) -> None:
        if "read its configuration" in doing:
            shutil.rmtree("/var/log/gone")

    path = f"{FOLDERS[kind].replace('available', 'enabled')}/choir.conf"
    text = TEXTS[kind]("choir.test", "/srv/choir", line)
    plan = Plan("x", PlanGround("here", 0), (File.of(one.hands, path, text.encode()), Reload(kind)))
    pid = master(kind)
    outcome = one.apply(plan, "test", vanish)
    assert outcome.state is State.TAKEN_BACK, outcome
    assert everything() == before
    assert Path(f"/proc/{pid}").exists()
    assert asked("first.test") is not None


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
@on_a_machine_of_its_own
def test_a_site_moves_to_another_port_and_its_engine_stops_and_starts(kind: str) -> None:
    """What is rehearsed comes of it, where nothing listened when the survey was taken, too."""
    one = started(kind)
    Path("/etc/hosts").write_text("127.0.0.1 localhost first.test choir.test\n")
    text = TEXTS[kind]("choir.test", "/srv/choir", "")
    assert site(kind, one, text).state is State.DONE
    path = f"{FOLDERS[kind]}/choir.conf"
    moved = File.of(one.hands, path, text.replace(":80", ":8081").encode())
    ports = "/etc/apache2/ports.conf"
    listen = b"Listen 127.0.0.1:80\nListen 127.0.0.1:8081\n"
    more = [File.of(one.hands, ports, listen)] if kind == "httpd" else []
    plans = {
        "closes opens": (moved, *more, Reload(kind)),
        "closes": (Stop(kind),),
        "opens": (Start(kind),),
    }
    entries = []
    for fates, operations in plans.items():
        found = rehearse(Scene(Follower(take_survey([]))), operations)
        told = [each for each in found.addresses if "choir" in each.of]
        assert sorted({each.fate.value for each in told}) == fates.split(), found
        plan = Plan("x", PlanGround("here", 0), operations)
        if "opens" in fates:
            assert ("http://choir.test:8081/", "127.0.0.1") in found.trial
            # Somebody has rehearsed what it does not serve.
            wrong = (*found.trial, ("http://choir.test:8081/none", "127.0.0.1"))
            before = everything()
            outcome = one.apply(plan, "test", pages=wrong)
            assert outcome.state is State.REFUSED, outcome
            assert "http://choir.test:8081/none comes with 404" in outcome.said
            assert everything() == before
        outcome = one.apply(plan, "test", pages=found.trial)
        assert outcome.state is State.DONE, outcome
        entries.append(outcome.entry)
        for each in found.addresses:
            port = urlsplit(each.url).port or 80
            assert asked(urlsplit(each.url).hostname or "", port) == each.after.status, each
    assert asked("choir.test", 8081) == 200
    again = one.apply(Plan("x", PlanGround("here", 0), (Start(kind),)), "test")
    assert again.entry == 0
    for entry, answers in zip(reversed(entries), (False, True, True), strict=True):
        assert one.undo(entry).state is State.UNDONE
        assert (asked("first.test") is not None) is answers
    assert asked("choir.test") == 200


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
@on_a_machine_of_its_own
def test_a_site_that_somebody_wrote_is_called_otherwise_and_its_old_name_leads_over(
    kind: str,
) -> None:
    one = started(kind)
    names = "choir.test chorale.test singers.test"
    Path("/etc/hosts").write_text(f"127.0.0.1 localhost first.test {names}\n")
    assert site(kind, one, TEXTS[kind]("choir.test", "/srv/choir", "")).state is State.DONE
    before = everything()
    scene = Scene(Follower(take_survey([])))
    (choir,) = [each for each in scene.sites if each.name == "choir.test"]
    with pytest.raises(LookupError, match="claimed by first"):
        naming(scene, choir, ["first.test"], leads_over=False)
    found = naming(scene, choir, ["chorale.test", "singers.test"], leads_over=True)
    told = rehearse(scene, found.operations)
    outcome = one.apply(Plan("x", PlanGround("here", 0), found.operations), "t", pages=told.trial)
    assert outcome.state is State.DONE, outcome
    assert [sent("choir.test"), sent("chorale.test"), sent("singers.test")] == [
        (301, "http://chorale.test/a?b=1"), (404, None), (404, None),
    ]  # fmt: skip
    assert (asked("chorale.test"), asked("singers.test")) == (200, 200)
    assert one.undo(outcome.entry).state is State.UNDONE
    assert everything() == before


def sent(name: str) -> tuple[int, str | None]:
    """The status, and where one is sent."""
    connection = http.client.HTTPConnection("127.0.0.1", 80, timeout=5)
    connection.request("GET", "/a?b=1", headers={"Host": name})
    answer = connection.getresponse()
    return answer.status, answer.headers.get("Location")


@on_a_machine_of_its_own
def test_a_site_is_closed_by_taking_its_link_away() -> None:
    one = started("nginx")
    assert site("nginx", one, nginx("choir.test", "/srv/choir")).state is State.DONE
    link = "/etc/nginx/sites-enabled/choir.conf"
    plan = Plan("close", PlanGround("here", 0), (Remove.of(one.hands, link), Reload("nginx")))
    assert one.apply(plan, "test").state is State.DONE
    assert asked("choir.test") != 200
    again = one.apply(plan, "test")
    assert (again.entry, again.state) == (0, State.DONE)


@on_a_machine_of_its_own
def test_what_closes_a_site_is_done_only_when_it_is_named(tmp_path: Path) -> None:
    """From the command line, with an agent that takes its own surveys."""
    started("nginx").ledger.close()
    Path("/etc/hosts").write_text("127.0.0.1 localhost first.test choir.test\n")
    run = "from ecumen_cli.main import main; main()"
    environment = {**os.environ, "ECUMEN_AGENT": "/run/agent/sock"}

    def ecumen(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-c", run, *words], capture_output=True, text=True, env=environment
        )

    def plan(*operations: Operation) -> str:
        path = tmp_path / "plan.json"
        path.write_text(Plan("a plan", PlanGround("here", 0), operations).write())
        return str(path)

    words = ["agent", "--socket", "/run/agent/sock", "--state", "/run/state"]
    agent = subprocess.Popen([sys.executable, "-c", run, *words], stderr=subprocess.PIPE, text=True)
    assert agent.stderr is not None
    while "listens" not in agent.stderr.readline():
        pass
    hands = MachineHands()
    path, link = f"{FOLDERS['nginx']}/choir", "/etc/nginx/sites-enabled/choir"
    text = nginx("choir.test", "/srv/choir").encode()
    made = plan(File.of(hands, path, text), Link(link, path), Reload("nginx"))
    first = ecumen("apply", made, "--who", "ines")
    assert first.returncode == 0, first.stdout + first.stderr
    assert asked("choir.test") == 200
    again = ecumen("apply", made)
    assert (again.returncode, "All of it is done already" in again.stdout) == (0, True), again
    closing = plan(Remove.of(hands, link), Reload("nginx"))
    refused = ecumen("apply", closing)
    assert refused.returncode == 2, refused
    assert "choir.test" in refused.stderr
    assert asked("choir.test") == 200
    closed = ecumen("apply", closing, "--although", "choir.test")
    assert closed.returncode == 0, closed
    assert asked("choir.test") != 200
    back = ecumen("undo", "2")
    assert back.returncode == 0, back
    assert asked("choir.test") == 200
    told = ecumen("ledger").stdout
    assert "undone" in told
    assert "by ines (account 0)" in told


@pytest.mark.parametrize("systemd", [True, False])
@on_a_machine_of_its_own
def test_the_service_is_installed_twice_as_once_and_goes_again(systemd: bool) -> None:
    """With what stands in for systemd, as it does not run here."""
    os.makedirs("/run/tools")
    tool = Path("/run/tools/systemctl")
    tool.write_text('#!/bin/sh\necho "$@" >> /run/told\n')
    tool.chmod(0o755)
    if systemd:
        os.makedirs("/run/systemd/system")
    environment = {**os.environ, "PATH": f"/run/tools:{os.environ['PATH']}"}

    def ecumen(*words: str) -> str:
        run = "from ecumen_cli.main import main; main()"
        done = subprocess.run(
            [sys.executable, "-c", run, "install-service", *words],
            capture_output=True, text=True, env=environment,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        return done.stdout

    first = ecumen()
    assert "the account ecumen" in first
    units = sorted(Path("/etc/systemd/system").glob("ecumen*"))
    if not systemd:
        assert "agent --account ecumen" in first
        assert not units
        return
    assert len(units) == 3
    held = [unit.read_text() for unit in units]
    second = ecumen()
    assert second.count("is as it should be") == 3
    assert [unit.read_text() for unit in units] == held
    if shutil.which("systemd-analyze"):
        done = subprocess.run(
            ["systemd-analyze", "verify", *map(str, units)], capture_output=True, text=True
        )
        assert not [line for line in done.stderr.splitlines() if "ecumen" in line], done.stderr
    assert ecumen("--remove").count("removed") == 3
    assert not list(Path("/etc/systemd/system").glob("ecumen*"))
    assert "is not there" in ecumen("--remove")
