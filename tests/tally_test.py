"""Counting access logs: against the real engines, a generator that knows the truth, any bytes."""

from __future__ import annotations

import gzip
import json
import random
import shutil
import socket
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ecumen.logs import TemplateError, form_of, line_format
from ecumen.logs.columns import TextCounts
from ecumen.logs.compiled import CompiledColumns
from ecumen.logs.tally import Counting
from ecumen.logs.template import COMBINED, COMMON, USUAL
from ecumen_machine import logfiles
from tests.command_test import run
from tests.worlds.live import httpd, nginx
from tests.worlds.plain import plain_head

ADDRESS, PORT = "127.0.0.61", 8091


def counted(lines: list[bytes], *formats: str) -> dict[str, Any]:
    counting = Counting([form_of(each) for each in formats or USUAL])
    counting.take(lines)
    return counting.tally.as_dict(1000)


def one(line: bytes, *formats: str) -> dict[str, Any]:
    """One line, by itself and in a block: both count alike."""
    found = counted([line], *formats)
    if b"\n" not in line:
        counting = Counting([form_of(each) for each in formats or USUAL])
        counting.block(line + b"\n")
        assert counting.tally.as_dict(1000) == found
    return found


DATE = b"[02/Apr/2031:15:04:05 +0200]"


@pytest.mark.parametrize(
    ("line", "key", "value"),
    [
        (b'h - - %s "GET /a?q HTTP/1.1" 200 5' % DATE, "top_paths", [["/a", 1]]),
        (b'h - x] \\"y %s "GET / HTTP/1.1" 200 5' % DATE, "parsed", 1),
        (b'h - a [01/Jan/2001 [date] "GET %s "GET /b HTTP/1.1" 200 5' % DATE, "top_paths", [["/b", 1]]),
        (b'h - "" %s "GET / HTTP/1.1" 200 5 "-" "a\\\\"' % DATE, "top_agents", [["a\\", 1]]),
        (b'h - - %s "GET / HTTP/1.1" 200 5 "-" "\\\\x41\\x42\\xC3\\xa9"' % DATE, "top_agents",
         [["\\x41B\u00e9", 1]]),
        (b'h - - %s "GET /\\xff HTTP/1.1" 200 5' % DATE, "top_paths", [["/\udcff", 1]]),
        (b'h - - %s "GET /%%20x HTTP/1.1" 200 5' % DATE, "top_paths", [["/%20x", 1]]),
        (b'h - - %s "GET http://n/p?q HTTP/1.1" 200 5' % DATE, "top_paths", [["http://n/p", 1]]),
        (b'h - - %s "\\x16\\x03\\x01" 400 226' % DATE, "by_method", {}),
        (b'h - - %s "-" 408 -' % DATE, "parsed", 1),
        (b'h - - %s "" 400 0' % DATE, "top_paths", []),
        (b'h - - %s "GET /" 400 0' % DATE, "by_method", {"GET": 1}),
        (b'h - - %s "GET / HTTP/1.1" 200 -\r' % DATE, "bytes", 0),
        (b'h - - %s "GET / HTTP/1.1" 20 5' % DATE, "rejected", 1),
        (b'h - - [31/Feb/2031:15:04:05 +0200] "GET / HTTP/1.1" 200 5', "rejected", 1),
        (b'h - - [02/Apr/2031:15:04:05 +0200 "GET / HTTP/1.1" 200 5', "rejected", 1),
        (b'h - - %s "GET / HTTP/1.1" 200 5 "-' % DATE, "rejected", 1),
        (b'h - - %s "GET / HTTP/1.1" 200 5 "-" "a" more' % DATE, "rejected", 1),
        (b'h - - %s "GET / HTTP/1.1" 200 %s' % (DATE, b"9" * 5000), "rejected", 1),
        (b'h - - [31/Dec/9999:23:59:60 +0000] "GET / HTTP/1.1" 200 5', "rejected", 1),
        (b'h - - [01/Jan/0001:00:00:00 +1400] "GET / HTTP/1.1" 200 5', "rejected", 1),
        (b'h - - [01/Jan/2031:00:00:00 +9999] "GET / HTTP/1.1" 200 5', "rejected", 1),
        (b"", "rejected", 1),
        (b"\x85\xe2\x80\xa8\x0b\x0c\x1c", "rejected", 1),
    ],
)  # fmt: skip
def test_a_line_is_read_as_it_was_meant(line: bytes, key: str, value: object) -> None:
    assert one(line)[key] == value


def test_an_hour_that_comes_twice_is_counted_once_each_and_moments_go_by_time() -> None:
    lines = [
        b'h - - [26/Oct/2031:02:30:00 +0100] "GET / HTTP/1.1" 200 1',
        b'h - - [26/Oct/2031:02:40:00 +0200] "GET / HTTP/1.1" 200 1',
    ]
    found = counted(lines)
    assert found["by_hour"] == {"2031-10-26T02": 2}
    assert found["first"] == "2031-10-26T02:40:00+02:00"
    assert found["last"] == "2031-10-26T02:30:00+01:00"


@pytest.mark.parametrize(
    ("template", "line"),
    [
        ('%v:%p %h %l %u %t \\"%r\\" %>s %O', b's.test:80 h - - %s "GET /p HTTP/1.1" 200 7' % DATE),
        ("%h %t %m %U%q %s %B %D", b"h %s GET /p?x 200 7 1234" % DATE),
        ('%a "%{User-Agent}i" %t "%!404r" %200,304>s %b', b'h "x" %s "GET /p HTTP/1.1" 200 7' % DATE),
        ('$remote_addr [$time_local] "$request" $status $body_bytes_sent ${request_time}',
         b'h %s "GET /p HTTP/1.1" 200 7 0.003' % DATE),
        ('{"a":"$remote_addr","t":"$time_iso8601","r":"$request","s":$status,"b":$bytes_sent}',
         b'{"a":"h","t":"2031-04-02T15:04:05+02:00","r":"GET /p HTTP/1.1","s":200,"b":7}'),
    ],
)  # fmt: skip
def test_any_template_of_either_engine_is_understood(template: str, line: bytes) -> None:
    found = one(line, template)
    assert (found["parsed"], found["bytes"], found["by_status"]) == (1, 7, {"200": 1})
    assert found["top_paths"] == [["/p", 1]]
    assert found["by_hour"] == {"2031-04-02T15": 1}
    assert found["hosts"] == 1


def test_a_moment_that_is_none_rejects_its_line_alone_in_every_form() -> None:
    iso = "$remote_addr $time_iso8601 $status $bytes_sent"
    for moment in (
        b"0001-01-01T00:00:00+14:00",
        b"2031-02-31T00:00:00Z",
        b"9999-12-31T23:59:59-14:00",
    ):
        assert one(b"h %s 200 5" % moment, iso)["rejected"] == 1
    good = b'h - - %s "GET / HTTP/1.1" 200 5' % DATE
    bad = good.replace(b"Apr", b"Xyz")
    counting = Counting([form_of(each) for each in USUAL])
    counting.block(b"\n".join([good, bad, good, b""]))
    assert (counting.tally.parsed, counting.tally.rejected, counting.tally.size) == (2, 1, 10)


def test_a_broken_archive_is_one_line_wherever_it_comes_from(tmp_path: Path) -> None:
    log = tmp_path / "cut.gz"
    log.write_bytes(gzip.compress(b"x\n" * 1000)[:-20])
    for done in (run("tally", str(log)), run_bytes(log.read_bytes(), "tally", "-")):
        assert done.returncode == 2
        assert len(done.stderr.strip().splitlines()) == 1


def run_bytes(data: bytes, *words: str) -> Any:
    import os
    import subprocess
    import sys

    code = "from ecumen_cli.main import main; main()"
    environment = os.environ | {"PYTHONPATH": str(Path(__file__).parents[1] / "src")}
    return subprocess.run([sys.executable, "-c", code, *words], input=data, capture_output=True,
                          env=environment, check=False)  # fmt: skip


def test_a_template_that_makes_no_sense_is_named() -> None:
    for bad in ("nonsense", "%h % x"):
        with pytest.raises(TemplateError, match=r"nonsense|% x"):
            line_format(bad)
    done = run("tally", "--format", "nonsense", "-", given="")
    assert done.returncode == 2
    assert "nonsense" in done.stderr
    done = run("tally", "/no/such/log")
    assert (done.returncode, "/no/such/log" in done.stderr) == (2, True)


in_both_ways = pytest.mark.parametrize("compiled", [False, True], ids=["numpy", "compiled"])


def test_where_there_is_a_compiler_it_is_used() -> None:
    counting = Counting([form_of(each) for each in USUAL], compiled=True)
    assert isinstance(counting._columns, CompiledColumns)


def test_tables_grow_and_lose_nothing() -> None:
    """Every line with another client, path and minute: more of each than the first tables take."""
    begin = datetime(2031, 4, 2, tzinfo=UTC)
    lines = [
        b'192.0.2.%d - - [%s +0000] "GET /%d HTTP/1.1" 200 5 "-" "%d"'
        % (n, (begin + timedelta(minutes=n)).strftime("%d/%b/%Y:%H:%M:%S").encode(), n, n)
        for n in range(40_000)
    ]
    counting = Counting([form_of(each) for each in USUAL], compiled=True)
    for at in range(0, len(lines), 7000):
        counting.block(b"".join(line + b"\n" for line in lines[at : at + 7000]))
    found = counting.tally
    assert found.parsed == len(found.clients) == len(found.paths) == len(found.agents) == 40_000
    assert max(found.paths.values()) == 1
    assert sum(found.hours.values()) == 40_000
    assert found.last is not None
    assert found.last[0] == begin + timedelta(minutes=39_999)


WORDS = (b"h", b"-", b" ", DATE, b'"', b"\\", b"GET / HTTP/1.1", b"200", b"5", b"a", b"\r", b"",
         b'h - - %s "GET / HTTP/1.1" 200 5' % DATE, b' "-" "a"', b' "" ""')  # fmt: skip


@in_both_ways
@given(
    lines=st.lists(st.lists(st.sampled_from(WORDS), max_size=9).map(b"".join), max_size=5),
    names=st.sampled_from([USUAL, ("common",), ("combined",)]),
)
def test_lines_in_a_block_count_as_each_by_itself(
    compiled: bool, lines: list[bytes], names: list[str]
) -> None:
    counting = Counting([form_of(each) for each in names], compiled=compiled)
    counting.block(b"".join(line + b"\n" for line in lines))
    assert counting.tally.as_dict(100) == counted(lines, *names)


# Plain lines, and such that are nearly so: each may have one byte replaced, put in or taken out.
texts = st.text(st.sampled_from("abc/?=%.;( ") | st.characters(max_codepoint=0x2FF), max_size=150)
escapes = st.lists(
    st.sampled_from(['\\"', "\\\\", "\\x41", "\\n", "\\q", "a", "A", " ", "\\xe9"]), max_size=8
).map("".join)
odd_bytes = st.sampled_from([*b' "?-0\\\r[]:/\t\x00A9', 0xE9])
near = st.builds(
    lambda client, stamp, method, path, protocol, status, size, referrer, agent, whole: (
        f'{client} - - [{stamp}] "{method} /{path} {protocol}" {status} {size}'
        + (f' "{referrer}" "{agent}"' if whole else "")
    ).encode(),
    st.sampled_from(["192.0.2.1", "2001:db8::1:2:3:4:5:6", "h", "a.client.with.a.long.name.example"]),
    st.sampled_from(["02/Apr/2031:15:04:05 +0200", "02/Apr/2031:15:04:59 +0200",
                     "31/Feb/2031:15:04:05 +0200", "02/Apr/2031:15:60:05 -0930",
                     "02/Apr/2031:15:04:61 +0200", "31/Dec/9999:23:59:59 -2359"]),
    st.sampled_from(["GET", "POST", "HEAD", "OPTIONS", "PUT", "DELETE", "PATCH", "GETX"]),
    texts, st.sampled_from(["HTTP/1.1", "HTTP/1.0", "HTTP/2.0", "HTTP/3"]),
    st.sampled_from(["200", "404", "999", "2000"]),
    st.integers(0, 10**14).map(str) | st.just("-"), texts | escapes, texts | escapes, st.booleans(),
)  # fmt: skip


def changed(line: bytes, at: int, byte: int, how: int) -> bytes:
    at %= len(line)
    return (line, line[:at] + bytes([byte]) + line[at + 1 :], line[:at] + bytes([byte]) + line[at:],
            line[:at] + line[at + 1 :])[how]  # fmt: skip


@in_both_ways
@given(
    lines=st.lists(
        st.builds(changed, near, st.integers(0, 10**6), odd_bytes, st.integers(0, 3)), max_size=12
    ),
    names=st.sampled_from([USUAL, ("common",), ("combined",)]),
)
@settings(max_examples=150, deadline=None)
def test_nearly_plain_lines_count_in_columns_as_each_by_itself(
    compiled: bool, lines: list[bytes], names: list[str]
) -> None:
    lines = [piece for line in lines for piece in line.split(b"\n")]
    counting = Counting([form_of(each) for each in names], compiled=compiled)
    # Twice, so that what is known and what is new are both met.
    for _ in range(2):
        counting.block(b"".join(line + b"\n" for line in lines))
    assert counting.tally.as_dict(100) == counted([*lines, *lines], *names)


@in_both_ways
def test_long_texts_that_differ_in_their_middle_are_counted_apart(compiled: bool) -> None:
    line = b'h - - %s "GET / HTTP/1.1" 200 5 "-" "%s"'
    lines = [line % (DATE, b"a" * 290_000 + middle + b"a" * 100_000) for middle in (b"x", b"y")]
    counting = Counting([form_of(each) for each in USUAL], compiled=compiled)
    counting.block(b"".join(each + b"\n" for each in lines))
    assert len(counting.tally.agents) == 2


def test_texts_whose_hashes_meet_are_counted_apart(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(TextCounts, "BITS", 3)
    counts, truth = TextCounts(), Counter[bytes]()
    rng = random.Random(7)
    hashes = [rng.getrandbits(64) | 1 for _ in range(60)]
    for _ in range(20):
        picked = [rng.randrange(60) for _ in range(50)]
        rows = np.array([hashes[each] for each in picked], dtype=np.uint64)
        counts.add(rows, lambda row, picked=picked: b"%d" % picked[row])  # type: ignore[misc]
        truth.update(b"%d" % each for each in picked)
    assert counts.counts() == truth


@given(st.lists(st.binary(max_size=200)), st.booleans())
def test_any_bytes_are_counted_and_none_lost(pieces: list[bytes], packed: bool) -> None:
    data = b"\n".join(pieces)
    with tempfile.NamedTemporaryFile() as log:
        log.write(gzip.compress(data) if packed else data)
        log.flush()
        found = logfiles.tally_of([log.name], USUAL)
    assert found.lines == found.parsed + found.rejected
    if not data.startswith(b"\x1f\x8b"):
        assert found.lines == data.count(b"\n") + (not data.endswith(b"\n") and bool(data))


def made(rng: random.Random, count: int) -> tuple[bytes, Counter[str], Counter[str], int]:
    """Lines with the truth about them: statuses, paths, bytes."""
    statuses, paths, size = Counter[str](), Counter[str](), 0
    lines = []
    for number in range(count):
        status, length = rng.choice(["200", "304", "404", "500"]), rng.randrange(100_000)
        path = f"/{rng.choice('abc')}/{rng.randrange(40)}"
        agent = rng.choice(["x", 'a \\"b\\"', "\\\\", "-", "caf\\xc3\\xa9"])
        lines.append(
            f"192.0.2.{rng.randrange(200)} - - [02/Apr/2031:{number * 20 // count:02d}:04:05 +0200] "
            f'"GET {path}?q={number} HTTP/1.1" {status} {length} "-" "{agent}"'
        )
        statuses[status] += 1
        paths[path] += 1
        size += length
    return ("\n".join(lines) + "\n").encode(), statuses, paths, size


def test_one_process_several_and_gzip_count_the_truth(
    tmp_path: Path, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    data, statuses, paths, size = made(random.Random(seed), 5000)
    plain, packed = tmp_path / "a.log", tmp_path / "a.log.gz"
    plain.write_bytes(data + b'192.0.2.1 - - [02/Apr/2031:15:04:05 +0200] "GET /cut HTTP/1.1" 2')
    half = len(data) // 2
    packed.write_bytes(gzip.compress(data[:half]) + gzip.compress(data[half:]))
    single = logfiles.tally_of([str(plain)], USUAL).as_dict(200)
    slowly = Counting([form_of(each) for each in USUAL])
    slowly.take(plain.read_bytes().split(b"\n")[:-1])
    *_, before, cut = plain.read_bytes().split(b"\n")
    slowly.unended(cut, before)
    assert slowly.tally.as_dict(200) == single
    assert (single["lines"], single["parsed"], single["rejected"]) == (5001, 5000, 1)
    assert single["by_status"] == dict(statuses)
    assert dict(map(tuple, single["top_paths"])) == dict(paths)  # type: ignore[call-overload]
    assert single["bytes"] == size
    whole = {**single, "lines": 5000, "rejected": 0}
    assert logfiles.tally_of([str(packed)], USUAL).as_dict(200) == whole
    # With another process: ranges of what is plain, blocks of what is packed.
    monkeypatch.setattr(logfiles, "_WORTH_SPLITTING", {False: 1000, True: 1000})
    monkeypatch.setattr(logfiles, "_BLOCK", 4000)
    monkeypatch.setattr(logfiles, "_AHEAD", 2)
    assert logfiles.tally_of([str(plain)], USUAL).as_dict(200) == single
    assert logfiles.tally_of([str(packed)], USUAL).as_dict(200) == whole
    packed.write_bytes(packed.read_bytes()[:-9])
    with pytest.raises(logfiles.LogError, match="before its end"):
        logfiles.tally_of([str(packed)], USUAL)


# --- the real engines ---


@contextmanager
def ground() -> Iterator[Path]:
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-tally-"))
    base.chmod(0o755)
    try:
        (base / "www").mkdir()
        (base / "www/index.html").write_text("x" * 40)
        (base / "logs").mkdir()
        yield base
    finally:
        shutil.rmtree(base)


def send(data: bytes) -> bytes:
    with socket.create_connection((ADDRESS, PORT), 5) as link:
        link.settimeout(5)
        link.sendall(data)
        found = b""
        try:
            while block := link.recv(65536):
                found += block
        except OSError:
            pass
        return found


def asked(rng: random.Random) -> tuple[bytes, str | None, str | None, str]:
    """A request, and what the line of it must count: method, path, agent."""
    path = rng.choice(["/", "/index.html", "/none", "/a%20b", "/index.html?x=1", "/%22q"])
    agent = rng.choice(["plain", 'quo"ted', "back\\slash", "tail\\", "b\u00e9te", "tab\there"])
    method = rng.choice(["GET", "GET", "HEAD", "POST"])
    raw = (
        f"{method} {path} HTTP/1.1\r\nHost: a.test\r\nUser-Agent: {agent}\r\n"
        "Referer: http://r.test/\r\nConnection: close\r\nContent-Length: 0\r\n\r\n"
    )
    return raw.encode(), method, path.partition("?")[0], agent


TEMPLATES = {
    "httpd": (COMMON, COMBINED, '%v:%p %h %l %u %t "%r" %>s %O "%{Referer}i" "%{User-Agent}i" %D'),
    "nginx": (
        '$remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent '
        '"$http_referer" "$http_user_agent"',
        '$time_iso8601 $remote_addr "$http_user_agent" $status $bytes_sent "$request" $request_time',
    ),
}


def configured(kind: str, base: Path) -> Path:
    config = base / f"{kind}.conf"
    if kind == "httpd":
        lines = [plain_head(base, ADDRESS, PORT), f"DocumentRoot {base}/www"]
        lines.append(
            "LoadModule log_config_module /usr/lib/apache2/modules/mod_log_config.so"
        ) if b"mod_log_config" not in _built_in() else None
        for number, template in enumerate(TEMPLATES[kind]):
            quoted = template.replace('"', '\\"')
            lines.append(f'CustomLog {base}/logs/{number}.log "{quoted}"')
        config.write_text("\n".join(lines) + "\n")
    else:
        formats = "".join(
            f"log_format f{number} '{template}';\naccess_log {base}/logs/{number}.log f{number};\n"
            for number, template in enumerate(TEMPLATES[kind])
        )
        config.write_text(
            f"user www-data;\npid {base}/pid;\nerror_log {base}/logs/error;\nevents {{ }}\n"
            f"http {{\n{formats}server {{ listen {ADDRESS}:{PORT}; root {base}/www; }}\n}}\n"
        )
    return config


def _built_in() -> bytes:
    import subprocess

    return subprocess.run(["apache2", "-l"], capture_output=True, check=True).stdout


@pytest.mark.server
@pytest.mark.apart
@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_every_count_is_what_the_client_did(kind: str, seed: int) -> None:
    rng = random.Random(seed)
    with ground() as base:
        methods, paths, agents, statuses = (
            Counter[str](),
            Counter[str](),
            Counter[str](),
            Counter[str](),
        )
        with {"httpd": httpd, "nginx": nginx}[kind](configured(kind, base), ADDRESS, PORT):
            for _ in range(60):
                raw, method, path, agent = asked(rng)
                came = send(raw)
                if method and path:
                    methods[method] += 1
                    paths[path] += 1
                agents[agent] += 1
                statuses[came.split(b" ", 2)[1].decode()] += 1
            # Nonsense leaves a line too, without method and path.
            for nonsense in (b"\x16\x03\x01\x02\r\n\r\n", b"what\r\n\r\n"):
                came = send(nonsense)
                assert b"400" in came
                statuses["400"] += 1
        for number, template in enumerate(TEMPLATES[kind]):
            log = base / f"logs/{number}.log"
            done = run("tally", "--json", "--top", "1000", "--format", template, str(log))
            found = json.loads(done.stdout)
            assert (found["lines"], found["rejected"]) == (62, 0), log.read_text()
            assert found["by_status"] == dict(statuses)
            assert {k: n for k, n in found["by_method"].items() if k in methods} == dict(methods)
            listed = dict(map(tuple, found["top_paths"]))
            assert {k: n for k, n in listed.items() if k in paths} == dict(paths)
            if "agent" in line_format(template).at:
                told = dict(map(tuple, found["top_agents"]))
                assert {k: n for k, n in told.items() if k in agents} == dict(agents)
            assert found["hosts"] == 1


def test_a_log_of_another_form_says_which_would_fit(tmp_path: Path) -> None:
    told: list[str] = []
    line = '192.0.2.1 - - [02/Apr/2031:15:04:05 +0200] "GET /a HTTP/1.1" 200 5 "-" "x"\n'
    led, rows, odd = (tmp_path / name for name in ("led.log", "rows.log", "odd.log"))
    led.write_text(f"a.test:80 {line}" * 3)
    rows.write_text('{"status": 200, "time": "2031-04-02T15:04:05Z", "path": "/a"}\n' * 3)
    odd.write_text("nothing of the kind\n")
    (tmp_path / "plain.log").write_text(line)
    paths = [str(each) for each in (led, rows, odd, tmp_path / "plain.log")]
    logfiles.tally_of(paths, USUAL, told.append)
    assert len(told) == 3
    assert told[0].startswith(f"{led}: ")
    assert told[0].endswith("--format vhost_combined")
    assert told[1].endswith("--format json fits 3 of the first 3")
    assert told[2].startswith(f"{odd}: none of its lines is of the form combined or common")
