"""The logs as the application keeps them: read in pieces or at once, every number is the truth."""

from __future__ import annotations

import gzip
import json
import random
import signal
import socket
import subprocess
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth import get_user_model
from django.core.cache import cache
from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext
from mmdb_writer import MMDBWriter
from netaddr import IPSet

from ecumen.survey import Survey, write_survey
from ecumen_machine.probe import EngineSpec, take_survey
from ecumen_web import queue
from ecumen_web.api.logs import shortened
from ecumen_web.reading import lines as reading
from ecumen_web.screens import countries, failures, figures
from ecumen_web.screens.rawlines import raw_lines
from ecumen_web.store.models import (
    CauseRecord,
    DaySum,
    HourSum,
    LogSource,
    RejectedLine,
    SurveyRecord,
    VisitRecord,
)
from ecumen_web.surveys import loading
from tests.builders import server
from tests.tally_test import ground
from tests.worlds.live import httpd, nginx
from tests.worlds.plain import plain_head

pytestmark = pytest.mark.django_db
HERE = socket.gethostname()
AT = 1_933_000_000 - 1_933_000_000 % 86_400
ADDRESS, PORT = "127.0.0.71", 8093


@pytest.fixture(autouse=True)
def home(settings: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    settings.SURVEYS = tmp_path
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    cache.clear()
    loading.scene_of.cache_clear()
    monkeypatch.setattr(queue.queue, "immediate", True)


def kept(survey: Survey, folder: Path) -> SurveyRecord:
    file = folder / "given.survey"
    with file.open("w+b") as stream:
        write_survey(survey, stream)
        stream.seek(0)
        here = SurveyRecord.Origin.HERE
        return loading.load_kept(loading.keep_file(stream), lambda *step: None, here)


def line(at: int, client: str, path: str, status: int, size: int, agent: str) -> str:
    stamp = datetime.fromtimestamp(at, UTC).strftime("%d/%b/%Y:%H:%M:%S +0000")
    return f'{client} - - [{stamp}] "GET {path} HTTP/1.1" {status} {size} "-" "{agent}"\n'


def small(log: Path) -> Survey:
    form = '"%h %l %u %t \\"%r\\" %>s %b \\"%{Referer}i\\" \\"%{User-Agent}i\\""'
    config = (
        f"<VirtualHost 192.0.2.10:80>\nServerName a.test\nDocumentRoot /srv/a\n"
        f"CustomLog {log} {form}\n</VirtualHost>\n<Directory /srv>\nRequire all granted\n</Directory>\n"
    )
    files = ("0755 root /srv/a/", "0644 root /srv/a/index.html", "0600 root /srv/a/shut.html")
    return replace(server(config, files), host=HERE)


Truth = list[tuple[int, str, str, int, int, str]]


def made(rng: random.Random, count: int) -> Truth:
    """Requests of three days, in the order in which they came."""
    moments = sorted(AT + rng.randrange(3 * 86_400) for _ in range(count))
    return [
        (at, f"192.0.2.{rng.randrange(1, 9)}", rng.choice(["/", "/x.html", "/shut.html", "/none", "/s.css"]),
         0, rng.randrange(9000), rng.choice(["Skerry/1 (Desk)", "LampBot/1"]))
        for at in moments
    ]  # fmt: skip


STATUS = {"/": 200, "/x.html": 200, "/shut.html": 403, "/none": 404, "/s.css": 304}


def written(truth: Truth) -> list[str]:
    return [
        line(at, who, path, STATUS[path], size, agent) for at, who, path, _, size, agent in truth
    ]


def test_in_pieces_over_rotations_as_at_once(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    truth = made(rng, 900)
    lines = written(truth)
    log = tmp_path / "a.log"
    record = kept(small(log), tmp_path)
    steps = sorted(rng.sample(range(1, 900), 7))
    for number, (low, high) in enumerate(zip([0, *steps], [*steps, 900], strict=True)):
        data = "".join(lines[low:high]).encode()
        with log.open("ab") as stream:
            # A line that is not whole yet waits for its end.
            stream.write(data[:-9])
            stream.flush()
            reading.read_logs(record)
            stream.write(data[-9:])
        reading.read_logs(record)
        if number == 2:
            log.rename(tmp_path / "a.log.1")
        if number == 4:
            (tmp_path / "a.log.2.gz").write_bytes(
                gzip.compress((tmp_path / "a.log.1").read_bytes())
            )
            (tmp_path / "a.log.1").unlink()
            (tmp_path / "a.log.1").write_bytes(log.read_bytes())
            log.write_bytes(b"")
    in_pieces = everything()
    assert reading.read_logs(record) == 0
    assert everything() == in_pieces
    source = LogSource.objects.get(kind="access")
    assert (source.lines, source.rejected) == (900, 0)
    for model in (HourSum, DaySum, VisitRecord):
        model.objects.all().delete()
    LogSource.objects.all().delete()
    assert reading.read_logs(record) == 900
    for once, before in zip(everything(), in_pieces, strict=True):
        assert set(once) ^ set(before) == set()
    check_figures(truth, rng)


def everything() -> list[Any]:
    fields = (
        "site",
        "dim",
        "at",
        "key__text",
        "status",
        "automatic",
        "requests",
        "size",
        "first",
        "last",
    )
    visits = (
        "site",
        "client__text",
        "agent__text",
        "begin",
        "end",
        "requests",
        "pages",
        "entry__text",
        "exit__text",
    )
    return [
        sorted(map(str, HourSum.objects.values_list(*fields))),
        sorted(map(str, DaySum.objects.values_list(*fields))),
        sorted(map(str, VisitRecord.objects.values_list(*visits))),
    ]


def check_figures(truth: Truth, rng: random.Random) -> None:
    """Ranges of whole days and of pieces, with and without a filter, against counting."""
    key = next(
        each for each in HourSum.objects.values_list("site__key", flat=True).distinct() if each
    )
    for _ in range(25):
        begin, end = sorted(AT + rng.randrange(73) * 3600 for _ in range(2))
        site = rng.choice(["", key])
        classes = rng.choice([(), (400, 500), (200,)])
        who = rng.choice(["everybody", "people", "automatic"])
        rows = [
            row for row in truth
            if begin <= row[0] < end
            and (not classes or STATUS[row[2]] // 100 * 100 in classes)
            and (who == "everybody" or (row[5] == "LampBot/1") == (who == "automatic"))
        ]  # fmt: skip
        found = figures.figures(figures.Selection(HERE, begin, end, site, classes, who))
        assert found.totals.requests == len(rows)
        assert found.totals.size == sum(row[4] for row in rows)
        assert found.totals.clients == len({row[1] for row in rows})
        assert found.totals.failed == sum(STATUS[row[2]] >= 400 for row in rows)
        assert sum(sum(band.classes) for band in found.bands) == len(rows)
        assert sum(found.by_hour) == sum(found.by_weekday) == len(rows)
        assert found.totals.pages == sum(row[2] in ("/", "/x.html") for row in rows)
        if site and rows:
            assert {r.text: r.requests for r in found.lists["clients"]} == Counter(
                r[1] for r in rows
            )
            programs = {r.text: r.requests for r in found.lists["agents"]}
            assert programs == Counter(row[5].partition("/")[0] for row in rows)


def test_failures_lead_to_their_gates_findings_and_tolls(tmp_path: Path) -> None:
    log = tmp_path / "a.log"
    log.write_text(
        "".join(line(AT + n * 600, f"192.0.2.{n % 3}", "/shut.html", 403, 9, "x") for n in range(6))
        + line(AT, "192.0.2.9", "/none", 404, 9, "x")
        + line(AT, "192.0.2.9", "/index.html", 500, 9, "x")
        + "nonsense\n"
    )
    record = kept(small(log), tmp_path)
    reading.read_logs(record)
    found = failures.failures(record, figures.Selection(HERE, AT, AT + 86_400))
    told = {(g.status, g.standing, g.gate): (g.requests, g.visitors) for g in found.groups}
    assert told == {
        (403, "explained", "ladder"): (6, 3),
        (404, "explained", "serve"): (1, 1),
        (500, "differs", ""): (1, 1),
    }
    assert (found.failed, found.explained) == (8, 7)
    shut = found.groups[0]
    assert (shut.places[0].path, shut.first, shut.last) == ("/srv/a/shut.html", AT, AT + 3000)
    early = failures.failures(record, figures.Selection(HERE, AT, AT + 3600, classes=(500,)))
    assert [(g.status, g.now) for g in early.groups] == [(500, 200)]
    (rejected,) = RejectedLine.objects.all()
    assert (bytes(rejected.text), rejected.why.startswith("not of the form")) == (b"nonsense", True)
    assert CauseRecord.objects.filter(survey=record).count() == 3


def test_another_template_or_a_second_one_reads_no_line_again(tmp_path: Path) -> None:
    log = tmp_path / "a.log"
    log.write_text(line(AT, "192.0.2.1", "/", 200, 9, "x"))
    record = kept(small(log), tmp_path)
    assert reading.read_logs(record) == 1
    survey = small(log)
    config = survey.texts["/etc/c"].replace(b"%b", b"%O")
    changed = replace(survey, texts={**survey.texts, "/etc/c": config}, taken_at=9)
    later = kept(changed, tmp_path)
    assert reading.read_logs(later) == 0
    # Two sites that write one log, each in its own form.
    second = config + config.replace(b"a.test", b"b.test").replace(b"%h %l", b"%v %h %l")
    both = kept(replace(changed, texts={**survey.texts, "/etc/c": second}, taken_at=10), tmp_path)
    with log.open("a") as stream:
        stream.write(line(AT + 9, "192.0.2.2", "/", 200, 9, "x"))
        stream.write("b.test " + line(AT + 9, "192.0.2.3", "/", 200, 9, "x"))
    assert reading.read_logs(both) == 2
    assert figures.figures(figures.Selection(HERE, AT, AT + 3600)).totals.requests == 3
    source = LogSource.objects.get(kind="access")
    assert (source.lines, source.rejected) == (3, 0)


def test_a_file_that_is_gone_is_passed_over(tmp_path: Path) -> None:
    log = tmp_path / "a.log"
    old = tmp_path / "a.log.1.gz"
    old.write_bytes(gzip.compress(line(AT, "192.0.2.1", "/old", 200, 9, "x").encode()))
    log.write_text(line(AT + 60, "192.0.2.1", "/new", 200, 9, "x"))
    record = kept(small(log), tmp_path)
    reading.read_logs(record)
    asked = figures.Selection(HERE, AT, AT + 3600)
    assert [each.target for each in raw_lines(record, asked, "", 9).lines] == ["/new", "/old"]
    old.unlink()
    assert [each.target for each in raw_lines(record, asked, "", 9).lines] == ["/new"]


def test_what_fails_and_what_is_asked_most_on_the_last_day_is_where_to_start(
    tmp_path: Path,
) -> None:
    log = tmp_path / "a.log"
    asked = [("/index.html", 200)] * 3 + [("/", 304)] * 2 + [("/", 200)] * 5
    asked += [("/shut.html", 403)] * 4 + [("/shut.html", 404), ("*", 400), ("/none", 404)]
    day_before = [line(AT - 2 * 86_400, "192.0.2.1", "/old", 200, 9, "x")] * 99
    lines = [line(AT, "192.0.2.1", path, status, 9, "x") for path, status in asked]
    log.write_text("".join([*day_before, *lines]))
    record = kept(small(log), tmp_path)
    admin = Client()
    admin.force_login(get_user_model().objects.create_user(username="ines", password="x"))
    address = f"/api/surveys/{record.pk}/starts"
    assert admin.get(address).json() == {"asked": [], "failing": [], "begin": None, "end": None}
    reading.read_logs(record)
    found = admin.get(address).json()

    def told(part: str) -> list[tuple[str, int, int]]:
        return [(each["url"], each["status"], each["requests"]) for each in found[part]]

    # A page has the status that most of its requests got.
    assert told("asked") == [("http://a.test/", 200, 7), ("http://a.test/index.html", 200, 3)]
    assert told("failing") == [("http://a.test/shut.html", 403, 5), ("http://a.test/none", 404, 1)]
    assert found["end"] - found["begin"] == 86_400


@pytest.mark.parametrize("patience", [-1.0, 60.0])
def test_page_by_page_every_line_comes_once_the_last_first(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, patience: float, seed: int
) -> None:
    """Over hours that are full, and stretches of days with nothing, in three logs."""
    rng = random.Random(seed)
    monkeypatch.setattr("ecumen_web.screens.rawlines.PATIENCE", patience)
    survey = many(3, tmp_path)
    hours = sorted({rng.randrange(4) for _ in range(4)} | {rng.randrange(2000) for _ in range(12)})
    written_down = []
    for number in range(3):
        moments = sorted(AT + 3600 * rng.choice(hours) + rng.randrange(3600) for _ in range(60))
        lines = [(at, f"/{number}-{each}") for each, at in enumerate(moments)]
        text = "".join(line(at, "192.0.2.1", path, 200, 9, "x") for at, path in lines)
        (tmp_path / f"{number}.log").write_text(text)
        written_down += lines
    record = kept(survey, tmp_path)
    assert reading.read_logs(record) == 180
    end: int | None = AT + 3600 * 2000
    seen: list[tuple[int, str]] = []
    for _ in range(200):
        assert end is not None
        page = raw_lines(record, figures.Selection(HERE, AT, end), "", 1000)
        seen += [(each.at, each.target) for each in page.lines]
        end = page.searched_to
        if end is None:
            break
    assert sorted(seen) == sorted(written_down)
    assert [at for at, _ in seen] == sorted((at for at, _ in seen), reverse=True)


def many(count: int, folder: Path) -> Survey:
    """Sites that write a log each, with one line in it."""
    first = small(folder / "0.log")
    block, rest = first.texts["/etc/c"].split(b"<Directory", 1)
    blocks = [
        block.replace(b"a.test", b"s%d.test" % n).replace(b"0.log", b"%d.log" % n)
        for n in range(count)
    ]
    for number in range(count):
        (folder / f"{number}.log").write_text(line(AT, "192.0.2.1", "/none", 404, 9, "x"))
    return replace(first, texts={**first.texts, "/etc/c": b"".join([*blocks, b"<Directory", rest])})


def test_nothing_is_asked_of_the_records_for_each_site(tmp_path: Path) -> None:
    admin = Client()
    admin.force_login(get_user_model().objects.create_user(username="ines", password="x"))
    asked = {"begin": AT, "end": AT + 3600}

    def questions(record: SurveyRecord) -> dict[str, int]:
        """How many each screen asks, and a look at logs that hold nothing new."""
        found: dict[str, int] = {}
        for place in ("sites", "findings", "bindings", "roots", "users", "contexts", "neighbours",
                      "starts", "logs", "logs/figures", "logs/failures", "logs/lines"):  # fmt: skip
            with CaptureQueriesContext(connection) as seen:
                answer = admin.get(f"/api/surveys/{record.pk}/{place}", asked)
            assert answer.status_code == 200, answer.content
            found[place] = len(seen)
        with CaptureQueriesContext(connection) as seen:
            assert reading.read_logs(record) == 0
        return found | {"reading": len(seen)}

    # By the first one a session knows more.
    admin.get("/api/surveys")
    few = kept(many(3, tmp_path), tmp_path)
    assert reading.read_logs(few) == 3
    first = questions(few)
    lots = kept(many(40, tmp_path), tmp_path)
    # What was read is known by its file.
    assert reading.read_logs(lots) == 37
    assert questions(lots) == first
    state = admin.get(f"/api/surveys/{lots.pk}/logs").json()["logs"]
    assert (state["count"], state["lines"], len(state["owners"])) == (40, 40, 40)


def test_the_api_shortens_addresses_and_finds_lines(tmp_path: Path) -> None:
    log = tmp_path / "a.log"
    log.write_text(
        "".join(line(AT + n, "192.0.2.77", f"/p{n}", 404, 9, "Tide <b>") for n in range(300))
    )
    record = kept(small(log), tmp_path)
    admin = Client()
    admin.force_login(get_user_model().objects.create_user(username="ines", password="x"))
    path = f"/api/surveys/{record.pk}/logs"
    assert admin.post(path).status_code == 202
    state = admin.get(path).json()
    assert (state["job"]["state"], state["logs"]["here"]) == ("done", True)
    (owner,) = state["logs"]["owners"]
    asked = {"begin": AT, "end": AT + 3600, "site": owner["key"]}
    found = admin.get(f"{path}/lines", {**asked, "words": "/P29 tide"}).json()
    assert [row["target"] for row in found["lines"]] == [f"/p{n}" for n in range(299, 289, -1)] + [
        "/p29"
    ]
    assert {row["client"] for row in found["lines"]} == {"192.0.2.0/24"}
    assert "192.0.2.77" not in json.dumps(found)
    assert found["lines"][0]["url"] == "http://a.test/p299"
    some = admin.get(f"{path}/lines", {**asked, "limit": 5}).json()
    assert (len(some["lines"]), some["searched_to"]) == (5, AT + 295)
    figure = admin.get(f"{path}/figures", asked).json()
    assert figure["lists"]["clients"] == [
        {"text": "192.0.2.0/24", "requests": 300, "size": 2700, "longest": None}
    ]
    assert admin.get(f"{path}/figures", {**asked, "whole": True}).status_code == 403
    assert admin.get(f"{path}/failures", asked).json()["failed"] == 300
    assert admin.get(f"{path}/figures", {"begin": 1}).json() == {
        "detail": "end: This field is required."
    }
    assert Client().get(path).status_code == 403


def test_countries_are_told_where_there_is_a_database_of_them(
    tmp_path: Path, settings: Any
) -> None:
    writer = MMDBWriter(4, "Countries")
    names = {"country": {"iso_code": "XA", "names": {"en": "Alder Islands"}}}
    writer.insert_network(IPSet(["192.0.2.0/24"]), names)
    writer.insert_network(IPSet(["198.51.100.0/24"]), {"country_code": "XB"})
    path = tmp_path / "countries.mmdb"
    writer.to_db_file(str(path))
    log = tmp_path / "a.log"
    clients = ["192.0.2.1", "192.0.2.9", "198.51.100.4", "203.0.113.7", "a-name.test"]
    log.write_text("".join(line(AT + n, clients[n % 5], "/", 200, 9, "x") for n in range(50)))
    record = kept(small(log), tmp_path)
    reading.read_logs(record)
    asked = figures.Selection(HERE, AT, AT + 3600)
    assert "countries" not in figures.figures(asked, countries.countries()).lists
    settings.COUNTRIES = path
    rows = figures.figures(asked, countries.countries()).lists["countries"]
    expected = [("Alder Islands", 20), ("not known", 20), ("XB", 10)]
    assert [(row.text, row.requests) for row in rows] == expected
    path.write_bytes(b"no database")
    with pytest.raises(countries.CountriesError, match=r"ECUMEN_COUNTRIES: .* is no MMDB file"):
        countries.countries()


def test_addresses_are_shortened_to_their_network() -> None:
    assert [shortened(each) for each in ("192.0.2.9", "2001:db8:1:2::3", "pc.a.test", "-")] == [
        "192.0.2.0/24", "2001:db8:1::/48", "*.a.test", "-",
    ]  # fmt: skip


# --- the real engines ---


def configured(kind: str, base: Path) -> Path:
    config = base / f"{kind}.conf"
    if kind == "httpd":
        modules = "LoadModule log_config_module /usr/lib/apache2/modules/mod_log_config.so\n"
        built_in = subprocess.run(["apache2", "-l"], capture_output=True, text=True, check=True)
        lines = [
            plain_head(base, ADDRESS, PORT),
            "" if "mod_log_config" in built_in.stdout else modules,
        ]
        lines.append('LogFormat "%v %h %l %u %t \\"%r\\" %>s %b \\"%{Host}i\\"" named\n')
        for name in ("a", "b"):
            lines.append(
                f"<VirtualHost {ADDRESS}:{PORT}>\nServerName {name}.test\nDocumentRoot {base}/www/{name}\n"
                f"CustomLog {base}/logs/{'all' if name == 'b' else name}.log named\n"
                f"<Location /deny>\nRequire all denied\n</Location>\n"
                f"<Location /crew>\nRequire ip {CREW}\n</Location>\n</VirtualHost>\n"
            )
        config.write_text("".join(lines))
    else:
        servers = "".join(
            f"server {{ listen {ADDRESS}:{PORT}; server_name {name}.test; root {base}/www/{name};\n"
            f"access_log {base}/logs/{'all' if name == 'b' else name}.log {form};\n"
            f"location /deny {{ deny all; }} location /crew {{ allow {CREW}; deny all; }} }}\n"
            for name, form in (("a", "combined"), ("b", "json"))
        )
        config.write_text(
            f"user www-data;\npid {base}/pid;\nerror_log {base}/logs/error.log;\nevents {{ }}\nhttp {{\n"
            'log_format json escape=json \'{"time":"$time_iso8601","ip":"$remote_addr",'
            '"request":"$request","status":$status,"size":$body_bytes_sent,"host":"$http_host"}\';\n'
            f"{servers}}}\n"
        )
    return config


# Who may see what is for the crew, and somebody who may not.
CREW, OTHER = "127.0.0.72", "127.0.0.73"
PATHS = [
    "/",
    "/shut/",
    "/none",
    "/deny",
    "/bare/",
    "/index.html",
    "/crew/",
    "/crew/none",
    "/crew/shut/",
]
GATES = {"/shut/": "ladder", "/none": "serve", "/deny": "rule", "/bare/": "serve",
         "/crew/none": "serve", "/crew/shut/": "ladder"}  # fmt: skip


def ask(host: str, path: str, visitor: str) -> int:
    request = f"GET {path} HTTP/1.1\r\nHost: {host}\r\nUser-Agent: x\r\nConnection: close\r\n\r\n"
    with socket.create_connection((ADDRESS, PORT), 5, (visitor, 0)) as link:
        link.sendall(request.encode())
        found = b""
        while block := link.recv(65536):
            found += block
    return int(found.split(b" ", 2)[1])


def some(rng: random.Random, count: int) -> Iterator[tuple[str, str, int]]:
    """(host, gate that stops it, status)."""
    for _ in range(count):
        host, path = rng.choice(["a.test", "b.test", "odd.test"]), rng.choice(PATHS)
        visitor = CREW if path == "/crew/shut/" else rng.choice([CREW, OTHER])
        status = ask(host, path, visitor)
        kept_out = visitor == OTHER and path.startswith("/crew")
        yield host, "rule" if kept_out else GATES.get(path, ""), status


@pytest.mark.server
@pytest.mark.apart
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_real_logs_over_a_rotation_and_a_kill(kind: str, seed: int, tmp_path: Path) -> None:
    rng = random.Random(seed)
    with ground() as base:
        for name in ("a", "b"):
            for folder in ("shut", "bare", "crew/shut"):
                (base / "www" / name / folder).mkdir(parents=True)
            for folder in ("", "shut/", "crew/", "crew/shut/"):
                (base / f"www/{name}/{folder}index.html").write_text("page")
            for folder in ("shut", "crew/shut"):
                (base / f"www/{name}/{folder}").chmod(0o700)
        config = configured(kind, base)
        survey = take_survey([EngineSpec(kind, str(config))], [str(base)])
        record = kept(survey, tmp_path)
        asked = []
        with {"httpd": httpd, "nginx": nginx}[kind](config, ADDRESS, PORT):
            asked += some(rng, 40)
            reading.read_logs(record)
            for name in ("a", "all"):
                (base / f"logs/{name}.log").rename(base / f"logs/{name}.log.1")
            pid = int((base / "pid").read_text())
            subprocess.run(["kill", f"-{signal.SIGUSR1.name[3:]}", str(pid)], check=True)
            time.sleep(1.5)
            asked += some(rng, 30)
            reading.read_logs(record)
            asked += some(rng, 20)
            workers = subprocess.run(
                ["pgrep", "-P", str(pid)], capture_output=True, text=True, check=True
            )
            subprocess.run(["kill", "-KILL", str(pid), *workers.stdout.split()], check=True)
        reading.read_logs(record)
        source = LogSource.objects.filter(kind="access")
        assert sum(row.lines for row in source) == len(asked), asked
        assert sum(row.rejected for row in source) == 0
        whole = figures.Selection(HERE, 0, 1 << 33)
        found = figures.figures(whole)
        assert found.totals.requests == len(asked)
        assert found.totals.failed == sum(status >= 400 for *_, status in asked)
        told = failures.failures(record, whole)
        failed = Counter(gate for _, gate, status in asked if status >= 400)
        # The first site answers for the odd name too, where its line tells the name.
        strange = sum(host == "odd.test" and status < 400 for host, _, status in asked)
        named = kind == "httpd"
        assert told.failed == sum(failed.values()) + (strange if named else 0)
        assert told.explained == told.failed, [g for g in told.groups if g.standing != "explained"]
        by_gate: Counter[str] = Counter()
        for group in told.groups:
            if group.status >= 400:
                by_gate[group.gate] += group.requests
        assert by_gate == failed
        shut = [g for g in told.groups if g.gate == "ladder"]
        assert sum(said.requests for g in shut for said in g.said) > 0
