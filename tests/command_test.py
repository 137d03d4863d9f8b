"""The command line: what it prints, and its exit statuses."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import pytest
from click import Context

from ecumen.survey import EngineRecord, Survey, write_survey
from ecumen_cli.main import COMMANDS, ecumen
from tests.builders import server

CONFIG = """\
<VirtualHost 192.0.2.10:80>
ServerName choir.test
DocumentRoot /srv/choir
</VirtualHost>
"""


def run(*words: str, given: str = "", home: Path | None = None) -> subprocess.CompletedProcess[str]:
    environment = os.environ | ({"ECUMEN_HOME": str(home)} if home else {})
    code = "from ecumen_cli.main import main; main()"
    return subprocess.run(
        [sys.executable, "-c", code, *words],
        input=given,
        capture_output=True,
        text=True,
        env=environment | {"PYTHONPATH": str(Path(__file__).parents[1] / "src")},
        check=False,
    )


def saved(survey: Survey, path: Path) -> str:
    with path.open("wb") as stream:
        write_survey(survey, stream)
    return str(path)


@pytest.fixture
def survey_file(tmp_path: Path) -> str:
    files = ("0700 ines /srv/choir/", "0600 ines /srv/choir/index.html")
    return saved(server(CONFIG, files), tmp_path / "quay.survey")


def test_follow_tells_the_obstacles_one_behind_the_other(survey_file: str) -> None:
    done = run("follow", "--survey", survey_file, "--to", "192.0.2.10", "http://choir.test/")
    assert done.returncode == 0
    assert "403" in done.stdout
    assert "1. The web server may not pass through /srv/choir" in done.stdout
    assert "2. The web server may not read /srv/choir/index.html" in done.stdout
    assert done.stderr == ""


def test_follow_as_json_holds_what_the_contract_names(survey_file: str) -> None:
    done = run("follow", "--survey", survey_file, "--to", "192.0.2.10", "--json", "choir.test")
    answer = json.loads(done.stdout)
    assert {"decided", "status", "site", "file", "content_type", "location", "upstream", "log",
            "gates", "obstacles", "unsure_because"} <= set(answer)  # fmt: skip
    assert answer["site"] == {"engine": "httpd", "name": "choir.test", "declared_at": "/etc/c:12"}
    assert [gate["gate"] for gate in answer["gates"]] == (
        "name door seal site way rule ladder context serve record".split()
    )
    assert {"gate", "verdict", "reason", "evidence"} <= set(answer["gates"][0])


def test_a_batch_is_answered_line_by_line_in_its_order(survey_file: str) -> None:
    rows = [
        {"id": 7, "url": "http://choir.test/", "to": "192.0.2.10", "from": "127.0.0.1"},
        {"id": "x", "url": "http://192.0.2.10/no", "method": "HEAD", "host": "", "headers": {}},
        {"id": None, "url": "http://choir.test:81/", "to": "192.0.2.10:80", "sni": None},
        {"id": 9, "url": "http://[::1].:80/"},
        {"id": 10},
    ]
    given = "\n".join(json.dumps(row) for row in rows) + "\n"
    done = run("follow", "--survey", survey_file, "--batch", "-", "--brief", given=given)
    answers = [json.loads(line) for line in done.stdout.splitlines()]
    assert [answer["id"] for answer in answers] == [7, "x", None, 9, 10]
    assert [answer["status"] for answer in answers] == [403, 400, 403, None, None]
    assert [answer["decided"] for answer in answers] == [True, True, True, False, False]
    assert "cannot be understood" in answers[3]["unsure_because"][0]["reason"]
    assert "gates" not in answers[0]
    full = run("follow", "--survey", survey_file, "--batch", "-", given=given)
    assert "gates" in json.loads(full.stdout.splitlines()[0])


@pytest.mark.share(2)
@pytest.mark.parametrize(
    ("words", "given", "says"),
    [
        (("follow", "--survey", "/gone.survey", "x.test"), "", "/gone.survey: No such file"),
        (("follow", "--survey", "{bad}", "x.test"), "", "not a survey file"),
        (("follow", "--survey", "{good}"), "", "name at least one URL"),
        (("follow", "--survey", "{good}", "ftp://x.test/"), "", "only http and https"),
        (("follow", "--survey", "{good}", "--to", "here", "http://x.test/"), "", "is no address"),
        (("follow", "--survey", "{good}", "http://x.test:0/"), "", "cannot be understood"),
        (("follow", "--survey", "{good}", "--batch", "-"), "{\n", "line 1 of the batch"),
        (("follow", "--survey", "{good}", "--batch", "-"), '\n[1]\n', "line 2 of the batch"),
        (("survey", "--out", "/tmp/x", "--engine", "teapot:/etc/x"), "", "write httpd:FILE"),
        (("survey", "--out", "/tmp/x", "--engine", "httpd:/gone"), "", "no such configuration"),
        (("survey", "--out", "/tmp/x", "--scan", "/gone"), "", "no such folder"),
        (("load", "--as-root", "{bad}"), "", "not a survey file"),
        (("nonsense",), "", "No such command"),
    ],
)  # fmt: skip
def test_wrong_input_is_one_line_and_status_2(
    words: tuple[str, ...], given: str, says: str, survey_file: str, tmp_path: Path
) -> None:
    bad = tmp_path / "bad.survey"
    bad.write_text("no zip")
    filled = [word.format(good=survey_file, bad=bad) for word in words]
    done = run(*filled, given=given, home=tmp_path / "home")
    assert done.returncode == 2
    assert says in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1


def test_text_of_the_server_cannot_steer_the_terminal(tmp_path: Path) -> None:
    survey = server(CONFIG.replace("/srv/choir", '"/srv/\x1b[31mred"'), ("0644 ines /srv/choir/x",))
    path = saved(survey, tmp_path / "x.survey")
    done = run("follow", "--survey", path, "--to", "192.0.2.10", "http://choir.test/")
    assert "\x1b" not in done.stdout
    assert "\\x1b[31mred" in done.stdout


def test_an_engine_whose_configuration_is_missing_is_unsure_and_no_failure(tmp_path: Path) -> None:
    survey = replace(server(""), engines=(EngineRecord("nginx", "/etc/n", declared=True),))
    path = saved(survey, tmp_path / "x.survey")
    done = run("follow", "--survey", path, "--to", "192.0.2.10", "--json", "http://choir.test/")
    assert json.loads(done.stdout)["decided"] is False


def test_help_is_there_for_every_command() -> None:
    listed = run("--help").stdout
    for command in ("demo", "follow", "load", "serve", "survey"):
        assert command in listed
        assert run(command, "--help").returncode == 0


def test_reach_says_which_step_decides(survey_file: str) -> None:
    page = "/srv/choir/index.html"
    done = run("reach", "--survey", survey_file, "--as", "www-data", "--need", "r", page)
    assert done.returncode == 0
    assert done.stdout.startswith("no")
    assert "may not pass through /srv/choir" in done.stdout
    rows = [
        {"id": 1, "as": "ines", "need": "rw", "path": page},
        {"id": 2, "as": "otto", "need": "r", "path": page},
        {"id": 3, "as": "ines", "need": "r", "path": "/nowhere/x"},
        {"id": 4, "as": "nobody-here", "need": "r", "path": page},
        {"id": 5, "as": "ines", "need": "q", "path": page},
        {"id": 6, "as": "ines"},
        {"id": 7, "as": "1001", "need": "x", "path": "/srv/choir"},
        {"id": 8, "as": "ines", "need": "delete", "path": page},
        {"id": 9, "as": "otto", "need": "create", "path": "/srv/choir/new"},
    ]
    given = "".join(json.dumps(row) + "\n" for row in rows)
    done = run("reach", "--survey", survey_file, "--batch", "-", given=given)
    answers = [json.loads(line) for line in done.stdout.splitlines()]
    assert [answer["id"] for answer in answers] == list(range(1, 10))
    assert [answer["allowed"] for answer in answers] == [
        True, False, False, None, None, None, True, True, False,
    ]  # fmt: skip
    assert answers[1]["step"] == "/srv/choir"
    assert answers[0]["step"] == page
    assert all(answer["why"] for answer in answers)
    for words in (("--as", "ines"), ("--as", "x", "--need", "r", page), ("--batch", "-", page)):
        assert run("reach", "--survey", survey_file, *words).returncode == 2


def test_compare_says_what_changed(survey_file: str, tmp_path: Path) -> None:
    files = ("0755 ines /srv/choir/", "0644 ines /srv/choir/index.html")
    later = saved(server(CONFIG, files), tmp_path / "later.survey")
    done = run("compare", survey_file, later)
    assert done.returncode == 0
    assert "~ /srv/choir, mode: 0700 -> 0755" in done.stdout
    assert "choir.test (httpd), front page: 403" in done.stdout
    whole = json.loads(run("compare", survey_file, later, "--json").stdout)
    assert {change["aspect"] for change in whole["files"]["changes"]} == {"mode"}
    assert run("compare", survey_file, survey_file).stdout == "Nothing changed.\n"


def test_the_bare_command_says_what_it_can_do_in_whole_sentences() -> None:
    done = run()
    assert done.returncode == 0
    told = " ".join(done.stdout.split())
    for name in COMMANDS:
        command = ecumen.get_command(Context(ecumen), name)
        assert command is not None
        assert f"{name} {command.short_help}" in told
        assert command.short_help is not None
        assert command.short_help.endswith(".")
