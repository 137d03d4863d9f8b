"""Taking a survey of this machine: as root, and as somebody who may not read everything."""

from __future__ import annotations

import io
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from ecumen.audit import audit
from ecumen.audit.template import SOURCES
from ecumen.passage import Follower, read_request
from ecumen.rights import Subject
from ecumen.survey import Kind, read_survey, write_survey
from ecumen_cli.survey import survey as survey_command
from ecumen_machine import EngineSpec, take_survey
from ecumen_machine.ground import _account_gaps
from ecumen_machine.programs import running
from tests.kernel_test import as_subject
from tests.worlds.accounts import accounts
from tests.worlds.live import ask, httpd
from tests.worlds.plain import plain_head

pytestmark = pytest.mark.server

NOBODY = Subject("nobody", 65534, frozenset({65534}))
SITES = """\
<Directory {base}/home/*/public_html>
    Require all granted
</Directory>
UserDir public_html
<VirtualHost *:8085>
    ServerName one.test
    DocumentRoot {base}/www/one
</VirtualHost>
<VirtualHost *:8085>
    ServerName two.test
    DocumentRoot {base}/www/two
    CustomLog {base}/two.log "%h"
</VirtualHost>
"""


@pytest.fixture
def base() -> Iterator[Path]:
    base = Path("/srv/ecumen-probe")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir()
    try:
        yield base
    finally:
        shutil.rmtree(base, ignore_errors=True)


def lay_out(base: Path) -> Path:
    config = base / "httpd.conf"
    config.write_text(plain_head(base, "127.0.0.44", 8085) + SITES.format(base=base))
    for name in ("one", "two"):
        (base / "www" / name).mkdir(parents=True)
        (base / "www" / name / "index.html").write_text(name)
    return config


def test_a_closed_home_is_named_and_what_lies_behind_it(base: Path) -> None:
    """Two sites and a personal site whose home is closed; the server agrees at every step."""
    config = lay_out(base)
    with accounts(base):
        home = base / "home" / "ecw1"
        site = home / "public_html"
        site.mkdir(parents=True)
        (site / "index.html").write_text("mine")
        home.chmod(0o700)
        site.chmod(0o750)
        url = "http://two.test:8085/~ecw1/"
        row: dict[str, object] = {"url": url, "to": "127.0.0.44"}
        with httpd(config, "127.0.0.44", 8085):
            for closed in ((home, site), (site,), ()):
                survey = take_survey([EngineSpec("httpd", str(config))])
                found = Follower(survey).follow(read_request(url, to="127.0.0.44"))
                paths = [obstacle.evidence[0].path for obstacle in found.obstacles]
                assert paths == [str(path) for path in closed]
                assert found.status == ask(row).status
                assert found.log == f"{base}/two.log"
                if closed:
                    closed[0].chmod(0o755)
        assert found.status == 200


def test_a_log_without_a_folder_is_found_and_keeps_the_server_from_starting(base: Path) -> None:
    config = lay_out(base)
    config.write_text(config.read_text() + f"CustomLog {base}/gone/all.log combined\n")
    survey = take_survey([EngineSpec("httpd", str(config))], [str(base / "www")])
    found = {finding.id: finding for finding in audit(Follower(survey)).findings}
    assert found["log.unwritable"].subject == f"{base}/gone/all.log"
    command = ["apache2", "-f", str(config), "-k", "start", "-DFOREGROUND"]
    done = subprocess.run(command, capture_output=True, text=True, timeout=20, check=False)
    assert done.returncode != 0
    (base / "gone").mkdir()
    survey = take_survey([EngineSpec("httpd", str(config))], [str(base / "www")])
    assert "log.unwritable" not in {each.id for each in audit(Follower(survey)).findings}


def test_what_is_no_text_of_his_own_is_no_override_file(base: Path) -> None:
    """A link of that name leads only to what its owner may read."""
    config = lay_out(base)
    secret = base / "secret"
    secret.write_text("word of honour")
    secret.chmod(0o600)
    link = base / "www" / "one" / ".htaccess"
    link.symlink_to(secret)
    os.lchown(link, 65534, 65534)
    (base / "www" / "two" / ".htaccess").mkdir()
    made_up = base / "www" / "one" / "made-up"
    made_up.mkdir()
    (made_up / ".htaccess").symlink_to("/proc/self/status")
    plain = base / "www" / "two" / "sub"
    plain.mkdir()
    (plain / ".htaccess").write_text("Options -Indexes\n")
    survey = take_survey([EngineSpec("httpd", str(config))])
    assert str(plain / ".htaccess") in survey.texts
    assert not [path for path, text in survey.texts.items() if b"honour" in text]
    # Nor into what the kernel makes up.
    assert not [path for path in survey.texts if path.startswith("/proc")]
    assert not [each for each in survey.files if each.path.startswith("/proc/self")]
    entry = survey.files.get(str(base / "www" / "two" / ".htaccess"))
    assert entry is not None
    assert entry.kind is Kind.DIR


def test_a_survey_reads_no_contents_and_notes_where_links_lead(base: Path) -> None:
    config = lay_out(base)
    (base / "www/one/secret.php").write_text("password = 'x'")
    (base / "www/one/away").symlink_to("/etc")
    survey = take_survey([EngineSpec("httpd", str(config))], [str(base / "www")])
    stream = io.BytesIO()
    write_survey(survey, stream)
    made_by = {path for path in SOURCES if Path(path).exists()}
    rotated = {path for path in survey.texts if path.startswith("/etc/logrotate.")}
    assert set(survey.texts) == {str(config), "/etc/mime.types"} | made_by | rotated
    link = survey.files.get(str(base / "www/one/away"))
    assert link is not None
    assert (link.kind, link.target) == (Kind.LINK, "/etc")
    assert survey.files.get(str(base / "www/one/away/passwd")) is None
    beyond = survey.files.get("/etc/passwd")
    assert beyond is not None
    assert beyond.kind is Kind.FILE
    stream.seek(0)
    assert list(read_survey(stream).files) == list(survey.files)


def test_what_may_not_be_read_is_a_gap_and_status_3(base: Path, tmp_path: Path) -> None:
    config = lay_out(base)
    os.chown(base / "www/two", 33, 33)
    (base / "www/two").chmod(0o700)
    tmp_path.chmod(0o777)
    for parent in (tmp_path.parent, tmp_path.parent.parent):
        parent.chmod(0o755)
    out = tmp_path / "x.survey"

    def survey_as_nobody() -> int:
        words = ["--out", str(out), "--engine", f"httpd:{config}"]
        return int(survey_command.main(words, standalone_mode=False))

    # What is imported only when it is needed may lie where nobody else may look.
    survey_as_nobody()
    out.unlink()
    assert as_subject(NOBODY, survey_as_nobody) == 3
    with out.open("rb") as stream:
        taken = read_survey(stream)
    assert (f"{base}/www/two", "Permission denied") in [(gap.path, gap.why) for gap in taken.gaps]
    found = Follower(taken).follow(read_request("http://two.test:8085/x", to="127.0.0.44"))
    assert not found.decided
    assert f"{base}/www/two" in found.unsure_because[0].reason


def test_listeners_come_from_the_kernel_and_names_from_the_hosts_file(base: Path) -> None:
    config = lay_out(base)
    with socket.create_server(("127.0.0.45", 0)) as listening:
        port = listening.getsockname()[1]
        survey = take_survey([EngineSpec("httpd", str(config))])
    found = [(x.address, x.port, x.pid) for x in survey.listeners]
    assert ("127.0.0.45", port, os.getpid()) in found
    assert survey.name_by_text["localhost"].source == "hosts"
    assert survey.host == socket.gethostname()


@pytest.mark.alone
def test_a_running_server_is_surveyed_with_its_sockets_and_its_last_reload(base: Path) -> None:
    if running("/usr/sbin/apache2") is not None:
        pytest.skip("another server of this kind is running on this machine")
    config = lay_out(base)
    before = int(time.time())
    with httpd(config, "127.0.0.44", 8085):
        survey = take_survey()
        record = next(engine for engine in survey.engines if engine.kind == "httpd")
        assert (record.config, record.running, record.declared) == (str(config), True, False)
        assert record.loaded_at is not None
        assert before - 1 <= record.loaded_at <= time.time()
        found = Follower(survey).follow(read_request("http://one.test:8085/", to="127.0.0.44"))
        assert (found.decided, found.status) == (True, 200)
        assert "apache2 listens on 127.0.0.44, port 8085" in found.gates[1].reason
        time.sleep(1.1)
        os.kill(int((base / "pid").read_text()), signal.SIGUSR1)
        time.sleep(1.5)
        again = next(engine for engine in take_survey().engines if engine.kind == "httpd")
        assert again.loaded_at is not None
        assert again.loaded_at > record.loaded_at
    stopped = take_survey()
    record = next(engine for engine in stopped.engines if engine.kind == "httpd")
    assert record.running is False


def test_accounts_that_cannot_be_listed_are_a_gap(tmp_path: Path) -> None:
    table = tmp_path / "nsswitch.conf"
    table.write_text("group: files ldap\npasswd:  files systemd [NOTFOUND=return] # sss\n")
    assert _account_gaps(str(table)) == []
    table.write_text("passwd: files sss\n")
    assert "sss" in _account_gaps(str(table))[0].why


@pytest.mark.alone
def test_the_installed_server_is_found() -> None:
    survey = take_survey()
    record = next(engine for engine in survey.engines if engine.kind == "httpd")
    said = subprocess.run(["/usr/sbin/apache2", "-v"], capture_output=True, text=True, check=True)
    assert f"/{record.version} " in said.stdout
    assert record.config in survey.texts
    assert "core.c" in record.built_in
    assert record.environment is not None
    assert record.environment["APACHE_RUN_USER"] == "www-data"


def test_a_configuration_that_would_not_load_is_said_at_once(
    base: Path, tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    config = lay_out(base)
    config.write_text(config.read_text() + "<VirtualHost *:81>\nDocumentRoot /srv\n")
    words = ["--engine", f"httpd:{config}", "--out", str(tmp_path / "out.survey")]
    assert survey_command.main(words, standalone_mode=False) == 3
    assert "<VirtualHost> was not closed" in capfd.readouterr().err
    with (tmp_path / "out.survey").open("rb") as stream:
        gaps = read_survey(stream).gaps
    assert [gap.what for gap in gaps] == ["configuration"]
