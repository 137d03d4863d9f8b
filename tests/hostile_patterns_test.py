"""Patterns that owners write to hold everybody up, or to have a rule fail; beside the servers."""

from __future__ import annotations

import gc
import random
import shutil
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from ecumen.passage import Follower, read_request
from ecumen.patterns import AtLimit, PatternFailsError, Regex, TooCostly, compiled
from ecumen_machine import EngineSpec, matching, take_survey
from tests.application import ROOT
from tests.worlds.live import PATIENCE, ask, httpd, nginx
from tests.worlds.plain import plain_head

EVIL = (
    "^/(a|a|aa)*$", "^/(a+)+$", "^/((a{0,20}){0,20}){0,20}$", "^/(a*)*b$", "^/(?:xx?){1,12}[yz]",
    "(x+x+)+y", "^/(([a-z])+.)+[A-Z]([a-z])+$", "^/(.*)*!$", "(?:(?:a|b)?){30}(?:a|b){30}c$",
    "^/(?=(a+))a*b\\1$", "^/((a|b(?1)?)*)$", "(*LIMIT_MATCH=9999999)^/(a+)+$", "^/(?!(a+)+$)",
    "(.*)(.*)(.*)(.*)(.*)(.*)(.*)(.*)(.*)[^x]y", "^/(a|a?)+$", "^/(?<n>a|aa)+(?&n)$",
)  # fmt: skip


def hostile_pattern(rng: random.Random, deep: int = 0) -> str:
    """Nested repeats, branches that begin alike, look-around, calls of groups."""
    if rng.random() < 0.08:
        return rng.choice(EVIL)
    atoms = []
    for _ in range(rng.randint(1, 3)):
        if deep < 3 and rng.random() < 0.45:
            inner = hostile_pattern(rng, deep + 1).removeprefix("^/").removesuffix("$")
            if "(*" in inner:
                inner = "a"
            opened = rng.choice(["(", "(?:", "(?:", "(?>", "(?=", "(?!"])
            atom = f"{opened}{inner}{rng.choice(['', '|a', '|ab?'])})"
        else:
            atom = rng.choice(["a", "b", "x", ".", "[ab]", "[^/]", "\\w", "aa", "a?"])
        atoms.append(atom + rng.choice(["", "", "*", "+", "{0,20}", "{2,}", "*?", "++", "{1,9}"]))
    return rng.choice(["^/", "", "^/"]) + "".join(atoms) + rng.choice(["$", "!$", "", "y$"])


def subject(rng: random.Random) -> str:
    run = rng.choice(["a", "ab", "x", "aab", "b"]) * rng.choice([1, 3, 12, 30, 40, 90])
    return "/" + run + rng.choice(["", "!", "b", "y", "x!"])


def within_bounds(regex: Regex, text: str, spent: list[float]) -> str:
    began = time.process_time()
    try:
        kind = "match" if regex.search(text) is not None else "none"
    except PatternFailsError:
        kind = "fails"
    except TooCostly:
        kind = "unsure"
    spent.append(time.process_time() - began)
    return kind


def test_hostile_patterns_hold_nobody_up(
    seed: int, patterns: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each takes at most 50 ms of this process, or is given up; the other one is ended by then."""
    matcher = matching.start()
    assert matcher is not None
    rng = random.Random(seed)
    spent: list[float] = []
    kinds: Counter[str] = Counter()
    slowest = 0.0
    # What the collector takes is another matter.
    monkeypatch.setattr(matcher, "in_all", patterns / 800)
    gc.disable()
    while len(spent) < patterns:
        regex = compiled(hostile_pattern(rng), at_limit=rng.choice(list(AtLimit)))
        if regex is None:
            continue
        began = time.monotonic()
        kinds[within_bounds(regex, subject(rng), spent)] += 1
        slowest = max(slowest, time.monotonic() - began)
    gc.enable()
    assert max(spent) < 0.05, max(spent)
    assert slowest < 5
    assert kinds["match"] > patterns / 20
    assert kinds["none"] > patterns / 20
    print(f"{dict(kinds)}; slowest here {max(spent) * 1e3:.1f} ms, in all {slowest * 1e3:.0f} ms")


@pytest.fixture
def base() -> Iterator[Path]:
    base = Path("/srv/ecumen-patterns")
    shutil.rmtree(base, ignore_errors=True)
    (base / "www").mkdir(parents=True)
    (base / "logs").mkdir()
    try:
        yield base
    finally:
        shutil.rmtree(base, ignore_errors=True)


def _patterns(seed: int, engine: str, count: int) -> list[str]:
    rng = random.Random(seed)
    found = [each for each in EVIL if _taken(each, engine)]
    while len(found) < count:
        pattern = hostile_pattern(rng)
        if _taken(pattern, engine):
            found.append(pattern)
    return found[:count]


def _taken(pattern: str, engine: str) -> bool:
    """What the server would refuse keeps it from starting."""
    plain = engine == "nginx"
    return (
        compiled(pattern, dollar_only_end=not plain, dot_all=not plain, same_names=not plain)
        is not None
    )


def _compared(follower: Follower, names: list[str], port: int, rng: random.Random) -> Counter[str]:
    """What was predicted for each name and a few texts, beside what the server answers."""
    told: Counter[str] = Counter()
    for name in names:
        for _ in range(3):
            url = f"http://{name}:{port}{subject(rng)}"
            found = follower.follow(read_request(url, to="127.0.0.48"))
            if not found.decided:
                told["unsure"] += 1
                continue
            began = time.monotonic()
            seen = ask({"url": url, "to": "127.0.0.48"})
            if seen.status is None and time.monotonic() - began >= PATIENCE:
                # It is at it yet: what it says at its limit, it says later than we wait.
                told["slow"] += 1
                continue
            assert (found.status, found.location) == (seen.status, seen.headers.get("location")), (
                url
            )
            told[str(seen.status)] += 1
    return told


@pytest.mark.server
@pytest.mark.apart
def test_httpd_and_we_agree_on_hostile_patterns(base: Path, seed: int, patterns: int) -> None:
    config = base / "httpd.conf"
    given = _patterns(seed, "httpd", max(40, patterns // 80))
    hosts = "".join(
        f"<VirtualHost *:8088>\nServerName p{n}.test\nDocumentRoot {base}/www\n"
        f'RedirectMatch 302 "{pattern}" http://out.test/\n</VirtualHost>\n'
        for n, pattern in enumerate(given)
    )
    config.write_text(plain_head(base, "127.0.0.48", 8088) + hosts)
    follower = Follower(take_survey([EngineSpec("httpd", str(config))]))
    names = [f"p{n}.test" for n in range(len(given))]
    with httpd(config, "127.0.0.48", 8088):
        told = _compared(follower, names, 8088, random.Random(seed))
    assert told["302"] > 6
    assert told["404"] > 6
    assert told["unsure"] + told["slow"] < sum(told.values()) / 2, told


@pytest.mark.server
@pytest.mark.apart
def test_nginx_and_we_agree_on_hostile_patterns(base: Path, seed: int, patterns: int) -> None:
    config = base / "nginx.conf"
    given = _patterns(seed + 1, "nginx", max(40, patterns // 80))
    servers = "".join(
        f"server {{ listen 127.0.0.48:8089; server_name p{n}.test; root {base}/www;\n"
        f'location ~ "{pattern}" {{ return 204; }} }}\n'
        for n, pattern in enumerate(given)
    )
    config.write_text(
        f"user www-data;\npid {base}/pid;\nerror_log {base}/logs/error.log;\nevents {{ }}\n"
        f"http {{\naccess_log off;\nserver_names_hash_bucket_size 128;\n{servers}}}\n"
    )
    follower = Follower(take_survey([EngineSpec("nginx", str(config))]))
    names = [f"p{n}.test" for n in range(len(given))]
    with nginx(config, "127.0.0.48", 8089):
        told = _compared(follower, names, 8089, random.Random(seed))
    assert told["204"] > 6
    assert told["404"] > 6
    assert told["unsure"] + told["slow"] < sum(told.values()) / 2, told


@pytest.mark.server
@pytest.mark.apart
def test_a_rule_that_fails_open_is_told_as_the_server_does_it(base: Path) -> None:
    """At its limit httpd lets the visitor in, and nginx fails; and so do we, given the time."""
    matcher = matching.start()
    assert matcher is not None
    evil = "a" * 40 + "b"
    (base / "www" / "deny").mkdir()
    config = base / "httpd.conf"
    config.write_text(
        plain_head(base, "127.0.0.48", 8088)
        + '<LocationMatch "^/deny/(?!(a+)+$)">\nRequire all denied\n</LocationMatch>\n'
        + f"<VirtualHost *:8088>\nServerName a.test\nDocumentRoot {base}/www\n</VirtualHost>\n"
    )
    each, matcher.each = matcher.each, 5.0
    try:
        follower = Follower(take_survey([EngineSpec("httpd", str(config))]))
        with httpd(config, "127.0.0.48", 8088):
            for leaf, wanted in (("aab", 403), (evil, 404)):
                url = f"http://a.test:8088/deny/{leaf}"
                found = follower.follow(read_request(url, to="127.0.0.48"))
                seen = ask({"url": url, "to": "127.0.0.48"})
                assert (found.decided, found.status, seen.status) == (True, wanted, wanted)
        other = base / "nginx.conf"
        other.write_text(
            f"user www-data;\npid {base}/pid;\nerror_log {base}/logs/error.log;\nevents {{ }}\n"
            "http {\naccess_log off;\nserver { listen 127.0.0.48:8089; server_name a.test;\n"
            f'root {base}/www; location ~ "^/deny/(?!(a+)+$)" {{ return 403; }} }} }}\n'
        )
        follower = Follower(take_survey([EngineSpec("nginx", str(other))]))
        with nginx(other, "127.0.0.48", 8089):
            for leaf, wanted in (("aab", 403), (evil, 500)):
                url = f"http://a.test:8089/deny/{leaf}"
                found = follower.follow(read_request(url, to="127.0.0.48"))
                seen = ask({"url": url, "to": "127.0.0.48"})
                assert (found.decided, found.status, seen.status) == (True, wanted, wanted)
    finally:
        matcher.each = each


@pytest.mark.server
@pytest.mark.apart
def test_two_lines_of_an_override_file_stop_nothing(base: Path, tmp_path: Path) -> None:
    """As an owner would write them; every command ends, and can be ended."""
    config = base / "httpd.conf"
    lines = (
        "LoadModule rewrite_module /usr/lib/apache2/modules/mod_rewrite.so\n"
        f"<Directory {base}/www>\nAllowOverride All\n</Directory>\n"
        f"<VirtualHost *:8088>\nServerName a.test\nDocumentRoot {base}/www\n</VirtualHost>\n"
    )
    config.write_text(plain_head(base, "127.0.0.48", 8088) + lines)
    (base / "www" / ".htaccess").write_text(
        "RewriteEngine On\n"
        + "".join(
            f"RewriteCond %{{REQUEST_URI}} ^/(a|a|aa){n}*$ [OR]\n".replace(f"{n}*", f"*x{{0,{n}}}")
            for n in range(60)
        )
        + "RewriteCond %{REQUEST_URI} ^/(a{0,20}){0,20}$\nRewriteRule ^(a|a|aa)*$ - [F]\n"
    )
    code = "from ecumen_cli.main import main; main()"
    environment = {"PYTHONPATH": str(ROOT / "src"), "PATH": "/usr/sbin:/usr/bin:/sbin:/bin",
                   "ECUMEN_STATE": str(tmp_path)}  # fmt: skip
    survey = tmp_path / "x.survey"

    def run(*words: str) -> float:
        began = time.monotonic()
        subprocess.run(
            [sys.executable, "-c", code, *words], check=False, timeout=100, env=environment,
            stdout=subprocess.DEVNULL,
        )  # fmt: skip
        return time.monotonic() - began

    run("survey", "--out", str(survey), "--engine", f"httpd:{config}")
    evil = f"http://a.test:8088/{'a' * 40}!"
    assert run("follow", "--survey", str(survey), evil, "--to", "127.0.0.48") < 60
    assert run("audit", "--survey", str(survey)) < 90
