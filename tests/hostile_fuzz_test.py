"""For as long as one likes: whatever owners write is answered, in time, or refused in one line.

Each case has a seed of its own, which is printed where it fails: `--seed N --minutes 0` runs that one.
"""

from __future__ import annotations

import io
import random
import time
import zipfile
from collections import Counter
from collections.abc import Callable
from dataclasses import replace

from ecumen.audit import audit
from ecumen.engines.engine import KINDS, error_entry
from ecumen.engines.httpd.modules import known_directives
from ecumen.engines.nginx.catalogue import NO_EFFECT
from ecumen.engines.nginx.config import _TAKERS
from ecumen.errors import EcumenError
from ecumen.logs.entry import EntryReader
from ecumen.logs.forms import form_of
from ecumen.passage import Follower, read_request
from ecumen.patterns import TooCostly, compiled
from ecumen.survey import Survey, read_survey, write_survey
from ecumen_demo import Moment, demo_survey
from tests.audit_test import nginx
from tests.builders import server
from tests.hostile_patterns_test import hostile_pattern, subject

EACH = 6.0  # seconds of processor time that a case may take
FILES = ("0755 ines /srv/a/", "0644 ines /srv/a/.htaccess", "0644 ines /srv/a/index.html",
         "0777 otto /srv/a/link -> /srv/a/link", "0700 otto /srv/a/shut/")  # fmt: skip
HEAD = "".join(
    f"LoadModule {name}_module m\n"
    for name in ("rewrite", "alias", "setenvif", "headers", "macro", "dir", "mime", "authz_core",
                 "authz_host", "auth_basic", "autoindex", "expires", "negotiation", "userdir", "proxy")
)  # fmt: skip
SITE = (
    "<VirtualHost *:80>\nServerName a.test\nDocumentRoot /srv/a\n<Directory /srv/a>\n"
    "AllowOverride All\nRequire all granted\n</Directory>\n{}</VirtualHost>\n"
)
WORDS = (
    "on", "off", "none", "all", "granted", "denied", "/", "/srv/a", "*", "^/(.*)$", "(a|a|aa)*$", "$1$1$1",
    "%{ENV:A}%{ENV:A}", "${A}${A}", "%{REQUEST_URI}", "[L]", "[R=301,L]", "[E=A:%{ENV:A}x]", "[N]", "env=A",
    "http://b.test/$1", "\\", "\"", "'", "\x1b[31m", "\x00", "{", "}", ";", "text/html", ".html", "10.0.0.0/8",
    "99999999999999999999", "-1", "é", "\udcff", "=404", "@named", "$uri", "${", "%", "!", "<", ">", "#",
)  # fmt: skip


def _words(rng: random.Random, most: int) -> str:
    return " ".join(
        hostile_pattern(rng) if rng.random() < 0.1 else rng.choice(WORDS)
        for _ in range(rng.randint(0, most))
    ) * rng.choice([1, 1, 1, 1, 1, 200])


def _lines(rng: random.Random, names: list[str], sections: list[str]) -> str:
    out: list[str] = []
    opened: list[str] = []
    for _ in range(rng.choice([3, 10, 40, 400])):
        roll = rng.random()
        if roll < 0.15 and sections:
            opened.append(rng.choice(sections))
            out.append(f"{opened[-1]} {_words(rng, 2)}>")
        elif roll < 0.28 and opened:
            out.append(f"</{opened.pop()[1:]}>")
        elif roll < 0.3:
            out.append(_words(rng, 3) + "\\" * rng.randint(0, 3))
        else:
            out.append(f"{rng.choice(names)} {_words(rng, 4)}")
    return "\n".join([*out, *(f"</{name[1:]}>" for name in reversed(opened))]) + "\n"


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _asked(survey: Survey) -> None:
    follower = Follower(survey)
    for url in ("http://a.test/", "http://a.test/x/y?z=1", f"http://a.test/{'a' * 60}!"):
        follower.follow(read_request(url, to="192.0.2.10"))
    audit(follower)


def httpd_config(rng: random.Random) -> None:
    names = [name for name in known_directives() if not name.startswith("<")]
    sections = [name for name in known_directives() if name.startswith("<")]
    survey = server("", FILES)
    text = survey.texts["/etc/c"] + _bytes(HEAD + SITE.format(_lines(rng, names, sections)))
    override = _bytes(_lines(rng, names, sections))
    _asked(replace(survey, texts={"/etc/c": text, "/srv/a/.htaccess": override}))


def nginx_config(rng: random.Random) -> None:
    names = [*_TAKERS, *NO_EFFECT]
    lines = []
    for _ in range(rng.choice([3, 20, 200])):
        lines.append(
            f"{rng.choice(names)} {_words(rng, 3)}" + rng.choice([";", ";", ";", " {", "}", ""])
        )
    survey = nginx("server { listen 80; server_name a.test; }")
    texts = {
        path: text.replace(b"a.test; ", b"a.test; " + _bytes("\n".join(lines)))
        for path, text in survey.texts.items()
    }
    _asked(replace(survey, texts=texts))


def survey_file(rng: random.Random) -> None:
    stream = io.BytesIO()
    write_survey(_DEMO, stream)
    out = io.BytesIO()
    with (
        zipfile.ZipFile(stream) as old,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as new,
    ):
        for info in old.infolist():
            data = old.read(info)
            if info.filename.endswith((".json", ".npy", "names")) and rng.random() < 0.12:
                for _ in range(rng.randint(1, 2)):
                    at = rng.randrange(len(data) or 1)
                    put = rng.choice(
                        [
                            b"",
                            b"\xff",
                            b"0",
                            b"-1",
                            b"1e400",
                            b"null",
                            b"[",
                            b'"',
                            b"99999999999999999999",
                            b"\\ud800",
                        ]
                    )
                    data = data[:at] + put + data[at + rng.randint(0, 6) :]
            new.writestr(info.filename, data)
    bad = bytearray(out.getvalue())
    if rng.random() < 0.3:
        for _ in range(rng.randint(1, 30)):
            bad[rng.randrange(len(bad))] = rng.randrange(256)
    _asked(read_survey(io.BytesIO(bytes(bad))))


_DEMO = demo_survey(Moment.NOW)


def log_lines(rng: random.Random) -> None:
    good = b'192.0.2.7 - - [02/Apr/2031:10:11:12 +0000] "GET /a?b HTTP/1.1" 200 5 "-" "Tide/1.0"'
    error = b"[Wed Apr 02 10:11:12.000000 2031] [core:error] [pid 1] [client 192.0.2.7:1] AH00037: x: /srv/a"
    reader = EntryReader([form_of("combined"), form_of("common"), form_of("json")])
    lines = []
    for _ in range(300):
        line = bytearray(rng.choice([good, error, b'{"time_local": "x"}', b'""']))
        for _ in range(rng.randint(0, 6)):
            at = rng.randrange(len(line) + 1)
            line[at : at + rng.randint(0, 9)] = rng.choice(
                [
                    b"",
                    b'"',
                    b"\\",
                    b"\x1b[2J",
                    b"\xff" * 9,
                    b"9" * 30,
                    b" ",
                    b"[",
                    b"a" * 5000,
                    b"9999",
                    b"\\x",
                ]
            )
        lines.append(bytes(line).replace(b"\n", b""))
    reader.all(lines)
    for line in lines:
        for kind in KINDS:
            error_entry(kind, line)


def pattern(rng: random.Random) -> None:
    for _ in range(40):
        regex = compiled(hostile_pattern(rng))
        if regex is not None:
            try:
                regex.search(subject(rng))
            except TooCostly:
                continue


SORTS: tuple[Callable[[random.Random], None], ...] = (
    httpd_config, nginx_config, log_lines, pattern, survey_file,
)  # fmt: skip


def test_whatever_is_written_is_answered_in_time(seed: int, minutes: float) -> None:
    until = time.monotonic() + 60 * minutes
    told: Counter[str] = Counter()
    slowest = (0.0, 0)
    number = seed
    while True:
        rng = random.Random(number)
        kind = SORTS[number % len(SORTS)]
        began = time.process_time()
        try:
            kind(rng)
            told[kind.__name__] += 1
        except EcumenError:
            told[f"{kind.__name__} refused"] += 1
        except BaseException:
            print(f"failed: {kind.__name__}, --seed {number} --minutes 0")
            raise
        took = time.process_time() - began
        slowest = max(slowest, (took, number))
        assert took < EACH, f"{kind.__name__}, --seed {number} --minutes 0: {took:.1f} s"
        number += 1
        if time.monotonic() >= until:
            break
    print(f"{dict(told)} from seed {seed}; slowest {slowest[0]:.2f} s, seed {slowest[1]}")
