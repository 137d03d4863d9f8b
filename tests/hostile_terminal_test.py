"""Names that would steer a terminal, in every field of a survey, through every command."""

from __future__ import annotations

import csv
import io
import os
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import pytest

from ecumen.survey import Account, ConfigCheck, Gap, Group, NameRecord, Survey, write_survey
from tests.application import ROOT
from tests.builders import server

EVIL = "\x1b[2J\x1b]0;x\x07\x9b31m\u202eevil\u2066\x7f"
FORMULA = "=HYPERLINK(0)"
CONFIG = (
    "<VirtualHost 192.0.2.10:80>\nServerName a.test\nServerAlias \"{0}\"\nDocumentRoot \"/srv/{0}\"\n"
    "CustomLog \"/var/log/{0}.log\" common\n<Location \"/{0}\">\nRequire local\n</Location>\n"
    "Redirect /old \"http://b.test/{0}\"\n</VirtualHost>\n<VirtualHost 192.0.2.10:80>\n"
    "ServerName \"{1}\"\nDocumentRoot /srv/none\n</VirtualHost>\nUnknown{0} \"{0}\"\n"
)  # fmt: skip


def evil_survey(taken_at: int = 0) -> Survey:
    files = (
        f"0777 otto /srv/{EVIL}/",
        f"0644 otto /srv/{EVIL}/{EVIL}.sql",
        f"0777 otto /srv/link -> /{EVIL}",
    )
    plain = server("", files)
    text = plain.texts["/etc/c"] + CONFIG.format(EVIL, FORMULA).encode()
    return replace(
        plain, host=f"h{EVIL}", taken_at=taken_at, taken_by=EVIL, texts={"/etc/c": text},
        accounts=(*plain.accounts, Account(EVIL, 4242, 4242, f"/home/{EVIL}", EVIL)),
        groups=(*plain.groups, Group(EVIL, 4242, (EVIL,))),
        names=(NameRecord(EVIL, ("192.0.2.10",)),), gaps=(Gap("text", f"/{EVIL}", EVIL),),
        kernel={**plain.kernel, EVIL: EVIL},
        engines=tuple(replace(e, check=ConfigCheck(False, f"AH1: Syntax error on line 1 of /etc/c: {EVIL}"))
                      for e in plain.engines),
    )  # fmt: skip


def run(*words: str, home: Path, given: bytes = b"") -> tuple[str, str, int]:
    done = subprocess.run(
        [sys.executable, "-c", "from ecumen_cli.main import main; main()", *words], input=given,
        capture_output=True, check=False, timeout=120,
        env=os.environ | {"ECUMEN_HOME": str(home), "PYTHONPATH": str(ROOT / "src"), "PYTHONIOENCODING": "utf-8",
                          "ECUMEN_STATE": str(home / "state")},
    )  # fmt: skip
    return (
        done.stdout.decode("utf-8", "surrogateescape"),
        done.stderr.decode("utf-8", "surrogateescape"),
        done.returncode,
    )


def harmless(text: str) -> bool:
    return all(char.isprintable() or char == "\n" for char in text)


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("terminal")
    for name, taken_at in (("one", 0), ("two", 100)):
        with (folder / f"{name}.survey").open("wb") as stream:
            write_survey(evil_survey(taken_at), stream)
    with (folder / "three.survey").open("wb") as stream:
        write_survey(server("", ("0644 otto /srv/x",)), stream)
    (folder / "log").write_bytes(
        f'192.0.2.1 - {EVIL} [02/Apr/2031:10:11:12 +0000] "GET /{EVIL} HTTP/1.1" 200 5 "{EVIL}" "{EVIL}"\n'.encode()
    )
    (folder / f"{EVIL}.survey").write_text("none")
    return folder


COMMANDS: dict[str, tuple[str, ...]] = {
    "follow": ("follow", "--survey", "{0}/one.survey", "http://a.test/", f"http://{FORMULA}/", "--to", "192.0.2.10"),
    "follow an odd address": ("follow", "--survey", "{0}/one.survey", f"http://{EVIL}/"),
    "follow, in JSON": ("follow", "--survey", "{0}/one.survey", "--json", f"http://a.test/{EVIL}", "--to", "192.0.2.10"),
    "audit": ("audit", "--survey", "{0}/one.survey"),
    "reach": ("reach", "--survey", "{0}/one.survey", "--as", EVIL, "--need", "r", f"/srv/{EVIL}/{EVIL}.sql"),
    "reach of nobody": ("reach", "--survey", "{0}/one.survey", "--as", f"x{EVIL}", "--need", "r", "/"),
    "label": ("label", "--survey", "{0}/one.survey", f"/{EVIL}"),
    "context": ("context", "--survey", "{0}/one.survey", "--batch", "-"),
    "compare": ("compare", "{0}/three.survey", "{0}/two.survey"),
    "tally": ("tally", "{0}/log"),
    "tally of nothing": ("tally", f"{{0}}/{EVIL}"),
    "load": ("load", "{0}/one.survey", "--as-root"),
    "load what is none": ("load", f"{{0}}/{EVIL}.survey", "--as-root"),
    "survey": ("survey", "--out", f"{{0}}/{EVIL}/x"),
    "survey an odd engine": ("survey", "--out", "{0}/x", "--engine", f"httpd:/{EVIL}"),
    "people": ("people", "close", EVIL, "--as-root"),
    "no command": (EVIL,),
    "no option": ("audit", f"--{EVIL}"),
}  # fmt: skip


@pytest.mark.share(2)
@pytest.mark.parametrize("name", COMMANDS)
def test_no_command_lets_a_name_steer_the_terminal(name: str, files: Path, tmp_path: Path) -> None:
    words = [word.replace("{0}", str(files)) for word in COMMANDS[name]]
    out, err, status = run(*words, home=tmp_path)
    assert status in (0, 2, 3), err
    assert "Traceback" not in err
    assert harmless(out), ascii(out)
    assert harmless(err), ascii(err)
    assert len(err.strip().splitlines()) <= 3, err


def test_no_cell_of_an_export_is_run_by_a_spreadsheet(files: Path, tmp_path: Path) -> None:
    out, _, _ = run("audit", "--survey", f"{files}/one.survey", "--format", "csv", home=tmp_path)
    rows = list(csv.reader(io.StringIO(out)))
    assert len(rows) > 3
    assert any("HYPERLINK" in cell for row in rows for cell in row)
    for row in rows:
        for cell in row:
            assert not cell.startswith(("=", "+", "-", "@", "\t", "\r")), cell


def test_gaps_of_a_survey_are_told_harmlessly(tmp_path: Path) -> None:
    base = tmp_path / "base"
    (base / "www").mkdir(parents=True)
    config = base / "nginx.conf"
    config.write_text(f"events {{}}\nhttp {{ include {base}/*.part; }}\n")
    (base / f"{EVIL}.part").write_bytes(b"ines:$6$abc$" + b"a" * 86 + b"\n")
    out, err, status = run(
        "survey", "--out", str(tmp_path / "x"), "--engine", f"nginx:{config}", home=tmp_path
    )
    assert status in (0, 3), err
    assert "password" in err
    assert harmless(out + err), ascii(err)
