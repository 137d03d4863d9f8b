"""The benchmarks: each measured beside a named baseline in the same run.

Times on shared machines drift; the ratio to the baseline is what holds.
"""

from __future__ import annotations

import os
import platform
import random
import shutil
import statistics
import struct
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from unittest import mock

import numpy as np
from playwright.sync_api import BrowserContext, Page

from ecumen.audit import audit
from ecumen.audit.scene import Scene
from ecumen.engines.engine import engines_of, renewed
from ecumen.engines.httpd import reader as httpd_reader
from ecumen.engines.nginx import reader as nginx_reader
from ecumen.founding import Wish, propose
from ecumen.founding.roster import sought
from ecumen.logs.template import USUAL
from ecumen.operations.file import File
from ecumen.operations.trial import Trial
from ecumen.passage import Follower, Request, read_request
from ecumen.rehearsal import rehearse
from ecumen.rights import READ, Subject
from ecumen.rights.table import AccessTable, Crowd
from ecumen.survey import (
    Account,
    Delta,
    Entry,
    FileTable,
    Kind,
    Survey,
    after,
    parse_acl,
    write_survey,
)
from ecumen_machine import EngineSpec, take_survey
from ecumen_machine.files import Collector
from ecumen_machine.following import lines_between
from ecumen_machine.logfiles import tally_of
from ecumen_machine.quiet import no_collecting, settle
from ecumen_machine.spread import spread
from tests.application import Application, browser, command, demo, logs_are_read, serving
from tests.bench_commands import growth, hosted, told
from tests.worlds.live import httpd, nginx
from tests.worlds.plain import plain_head

SITES = 1000
ADDRESS, PORT = "127.0.0.46", 8086


@dataclass(frozen=True)
class Result:
    """seconds; goal: seconds, of `took`. mebibytes: of memory at most, where it was measured."""

    what: str
    took: float
    baseline: str
    baseline_took: float
    goal: float
    mebibytes: float = 0.0

    @property
    def met(self) -> str:
        return "met" if self.took <= self.goal else "MISSED"

    def row(self) -> str:
        """As a line of the table."""
        ratio = f"{self.took / self.baseline_took:.2f}"
        memory = f"{self.mebibytes:.0f}" if self.mebibytes else ""
        cells = (
            self.what, f"{self.took:.4g}", self.baseline, ratio,
            f"{self.goal / self.baseline_took:.2f}", memory, self.met,
        )  # fmt: skip
        return f"| {' | '.join(cells)} |"

    def line(self) -> str:
        met = self.met
        return (
            f"{self.what:<58} {self.took * 1e3:9.3f} ms   goal {self.goal * 1e3:7.1f} ms {met}\n"
            f"    {self.baseline:<54} {self.baseline_took * 1e3:9.3f} ms"
            f"   ratio {self.took / self.baseline_took:.3f}"
        )


@contextmanager
def thousand_sites() -> Iterator[Path]:
    """A real configuration of 1,000 sites with a page each."""
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-bench-"))
    base.chmod(0o755)
    try:
        head = plain_head(base, ADDRESS, PORT)
        (base / "httpd.conf").write_text(f"{head}Include sites/*.conf\n")
        (base / "sites").mkdir()
        for number in range(SITES):
            root = base / "www" / f"s{number}" / "public"
            root.mkdir(parents=True)
            (root / "index.html").write_text("page")
            (base / "sites" / f"{number:04d}.conf").write_text(
                f"<VirtualHost {ADDRESS}:{PORT}>\nServerName s{number}.test\n"
                f"ServerAlias www.s{number}.test\nDocumentRoot {root}\n"
                f"<Directory {root}>\nOptions SymLinksIfOwnerMatch\n</Directory>\n</VirtualHost>\n"
            )
        yield base
    finally:
        shutil.rmtree(base)


def median(work: Callable[[int], object], count: int) -> float:
    """Seconds that one call takes; `work` is called with 0, 1, 2, …"""
    times = []
    for number in range(count):
        began = time.perf_counter()
        work(number)
        times.append(time.perf_counter() - began)
    return statistics.median(times)


def one_passage() -> Iterator[Result]:
    with thousand_sites() as base:
        survey = take_survey([EngineSpec("httpd", str(base / "httpd.conf"))])
        follower = Follower(survey)
        rng = random.Random(1)
        urls = [f"http://s{rng.randrange(SITES)}.test:{PORT}/" for _ in range(2000)]
        asked: list[Request] = [read_request(url, to=ADDRESS) for url in urls]
        for request in asked[:50]:
            follower.follow(request)
        full = median(lambda number: follower.follow(asked[number]), 2000)
        brief = median(lambda number: follower.brief(asked[number]), 2000)
        with httpd(base / "httpd.conf", ADDRESS, PORT):
            curl = median(lambda number: _curl(urls[number]), 60)
    baseline = "one curl to the real server with the same sites"
    yield Result("a full passage, 1,000 sites on one address", full, baseline, curl, 0.001)
    yield Result("a brief answer, 1,000 sites on one address", brief, baseline, curl, 0.001)


def _curl(url: str) -> None:
    connect = f"::{ADDRESS}:{PORT}"
    command = ["curl", "-s", "-o", "/dev/null", "--connect-to", connect, url]
    subprocess.run(command, check=True)


# --- ten thousand sites ---

MANY = 10_000
GROUND = 100  # document roots that they share


@contextmanager
def many_sites(grounds: int = GROUND) -> Iterator[Path]:
    """10,000 sites for each engine, a file of 25 lines each. grounds: roots that they share; only
    the usual ones lie on disk.
    """
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-bench-"))
    base.chmod(0o755)
    try:
        for folder in ("httpd", "nginx"):
            (base / folder).mkdir()
        for number in range(GROUND):
            root = base / "www" / f"s{number}"
            (root / "sub").mkdir(parents=True)
            for name in ("index.html", "page.html"):
                (root / name).write_text("page")
        for number in range(MANY):
            root = base / "www" / f"s{number % grounds}"
            (base / "httpd" / f"{number:05d}.conf").write_text(_httpd_site(base, number, root))
            (base / "nginx" / f"{number:05d}.conf").write_text(_nginx_site(base, number, root))
        head = plain_head(base, ADDRESS, PORT)
        (base / "httpd.conf").write_text(f"{head}Include httpd/*.conf\n")
        (base / "nginx.conf").write_text(
            f"user www-data;\npid {base}/n.pid;\nerror_log {base}/n.log;\n"
            "events { worker_connections 256; }\nhttp {\n  include /etc/nginx/mime.types;\n"
            f"  access_log {base}/n.access;\n  server_names_hash_max_size 65536;\n"
            "  server_names_hash_bucket_size 128;\n  include nginx/*.conf;\n}\n"
        )
        yield base
    finally:
        shutil.rmtree(base)


def _httpd_site(base: Path, number: int, root: Path) -> str:
    return (
        f"# site {number}\n<VirtualHost {ADDRESS}:{PORT}>\n    ServerName s{number}.test\n"
        f"    ServerAlias www.s{number}.test\n    DocumentRoot {root}\n"
        "    DirectoryIndex index.html index.htm\n    ErrorDocument 404 /404.html\n\n"
        f"    <Directory {root}>\n        Options FollowSymLinks\n        AllowOverride None\n"
        "        Require all granted\n    </Directory>\n\n    <Location /private>\n"
        "        Require ip 192.0.2.0/24\n    </Location>\n\n"
        f"    Alias /shared {base}/www/s0\n    AddType text/x-note .note\n    LogLevel warn\n"
        f"    CustomLog {base}/access.log common\n    ErrorLog {base}/error.log\n"
        "    ServerSignature Off\n</VirtualHost>\n"
    )


def _nginx_site(base: Path, number: int, root: Path) -> str:
    return (
        f"# site {number}\nserver {{\n    listen {ADDRESS}:{PORT};\n"
        f"    server_name s{number}.test www.s{number}.test;\n    root {root};\n"
        "    index index.html index.htm;\n    error_page 404 /404.html;\n\n    location / {\n"
        "        try_files $uri $uri/ =404;\n    }\n\n    location /private/ {\n"
        "        allow 192.0.2.0/24;\n        deny all;\n    }\n\n"
        "    location ~* \\.(css|js|png)$ {\n        expires 7d;\n    }\n\n"
        f"    location /shared/ {{\n        alias {base}/www/s0/;\n    }}\n}}\n"
    )


class _Disk:
    """A Source straight from the disk, as one reads a configuration again and again."""

    def read(self, path: str, by: str | None = None) -> bytes | None:
        try:
            handle = os.open(path, os.O_RDONLY)
        except OSError:
            return None
        try:
            parts = [os.read(handle, 65536)]
            while len(parts[-1]) == 65536:
                parts.append(os.read(handle, 65536))
            return b"".join(parts)
        finally:
            os.close(handle)

    def names(self, folder: str) -> list[str] | None:
        try:
            return sorted(os.listdir(folder))
        except OSError:
            return None

    def exists(self, path: str) -> bool | None:
        return os.path.exists(path)

    def expect(self, paths: Sequence[str], by: str) -> None:
        """Nothing is gained by it here."""

    def stamps(self, paths: Sequence[str]) -> list[Hashable | None]:
        return [self._stamp(path) for path in paths]

    def _stamp(self, path: str) -> Hashable | None:
        try:
            info = os.stat(path)
        except OSError:
            return None
        return (info.st_ino, info.st_size, info.st_mtime_ns, info.st_ctime_ns)


def reading() -> Iterator[Result]:
    """The configuration of 10,000 sites, beside the engine's own check of the same files."""
    with many_sites() as base:
        checks = {
            "httpd": ["apache2", "-f", str(base / "httpd.conf"), "-t", "-D", "DUMP_VHOSTS"],
            "nginx": ["nginx", "-c", str(base / "nginx.conf"), "-t"],
        }
        known = {"httpd": httpd_reader.Cache(), "nginx": nginx_reader.Cache()}
        for kind, goal in (("httpd", 0.8), ("nginx", 0.35)):
            config = str(base / f"{kind}.conf")
            _read(kind, config, known[kind])
            rounds = []
            for number in range(5):
                began = time.perf_counter()
                subprocess.run(checks[kind], capture_output=True, check=True)
                check = time.perf_counter() - began
                cold = _timed(kind, config, None)
                changed = base / kind / f"{number:05d}.conf"
                changed.write_text(changed.read_text() + "# changed\n")
                rounds.append((cold / check, _timed(kind, config, known[kind]) / check, check))
            for what, at, limit in (("", 0, goal), (" after one changed", 1, 0.1)):
                middle = sorted(rounds, key=lambda each: each[at])[len(rounds) // 2]
                check = middle[2]
                what = f"{kind}: 10,000 sites read{what}"
                baseline = f"{kind}'s own check of the same files"
                yield Result(what, middle[at] * check, baseline, check, limit * check)


def _read(kind: str, config: str, cache: object) -> object:
    if kind == "httpd":
        assert cache is None or isinstance(cache, httpd_reader.Cache)
        root = os.path.dirname(config)
        tree = httpd_reader.Reader(_Disk(), root=root, version="2.4.66", cache=cache).read(config)
        assert not tree.mistakes
        return tree

    assert cache is None or isinstance(cache, nginx_reader.Cache)
    reading = nginx_reader.Reader(_Disk(), os.path.dirname(config), cache).read(config)
    assert not reading.mistakes
    return reading


def _timed(kind: str, config: str, cache: object) -> float:
    """What was read is given up only when the clock has stopped."""
    began = time.perf_counter()
    with no_collecting():
        read = _read(kind, config, cache)
    took = time.perf_counter() - began
    del read
    return took


def many_answers() -> Iterator[Result]:
    """Brief answers on 10,000 sites: 12 different addresses of each, the same again, and as the
    lines of a log have them.
    """
    with many_sites() as base:
        for kind in ("httpd", "nginx"):
            yield from _answers(kind, base / f"{kind}.conf")


def _answers(kind: str, config: Path) -> Iterator[Result]:
    run = {"httpd": httpd, "nginx": nginx}[kind]
    follower = Follower(take_survey([EngineSpec(kind, str(config))]))
    rng = random.Random(1)
    paths = ["/", "/page.html", "/sub/", "/none.html", "/private/x", "/sub"]
    pages = [*paths, *(f"{path}?page={rng.randrange(9)}" for path in paths)]
    urls = [f"http://s{number}.test:{PORT}{page}" for number in range(MANY) for page in pages]
    rng.shuffle(urls)
    asked = [read_request(url, to=ADDRESS) for url in urls]
    settle()
    first = _each(lambda number: follower.brief(asked[number]), range(len(asked)))
    again = _each(lambda number: follower.brief(asked[number]), range(len(asked)))
    daily = Follower(follower.survey)
    day = [read_request(url, to=ADDRESS) for url in _day(200_000)]
    settle()
    mixed = _each(lambda number: daily.brief(day[number]), range(len(day)))
    full = median(lambda number: follower.follow(asked[number]), 1000)
    with run(config, ADDRESS, PORT):
        curl = median(lambda number: _curl(urls[number]), 30)
    baseline = f"one curl to the real {kind} with the same sites"
    yield Result(f"{kind}: a brief answer, asked first", first, baseline, curl, 1 / 20_000)
    yield Result(f"{kind}: a brief answer, as a log has them", mixed, baseline, curl, 1 / 20_000)
    yield Result(f"{kind}: a brief answer, asked again", again, baseline, curl, 1 / 20_000)
    yield Result(f"{kind}: a full passage", full, baseline, curl, 0.002)


def _day(count: int) -> list[str]:
    """Addresses as visitors ask for them: a few sites and pages often, most of them seldom."""
    rng = random.Random(2)
    sites = rng.choices(range(MANY), [1 / (n + 1) for n in range(MANY)], k=count)
    pages = rng.choices(range(20), [1 / (n + 1) for n in range(20)], k=count)
    leaves = ["/", "/page.html", "/sub/", "/none.html", *(f"/sub/p{n}.html" for n in range(16))]
    return [f"http://s{s}.test:{PORT}{leaves[p]}" for s, p in zip(sites, pages, strict=True)]


def _each(work: Callable[[int], object], numbers: range) -> float:
    """Seconds that one call takes on the average."""
    began = time.perf_counter()
    for number in numbers:
        work(number)
    return (time.perf_counter() - began) / len(numbers)


def whole_audit() -> Iterator[Result]:
    """10,000 sites with a root each and 300,000 files, as the command looks at them, with all
    processors; beside the engine's list of its sites.
    """
    with many_sites(MANY) as base:
        config = base / "httpd.conf"
        check = ["apache2", "-f", str(config), "-t", "-D", "DUMP_VHOSTS"]
        survey = take_survey([EngineSpec("httpd", str(config))])
        survey = replace(survey, files=FileTable([*survey.files, *_files(base)]))
        rounds = []
        for _ in range(3):
            began = time.perf_counter()
            subprocess.run(check, capture_output=True, check=True)
            listed = time.perf_counter() - began
            began = time.perf_counter()
            with no_collecting():
                found = audit(Follower(survey), spread=spread)
            rounds.append((time.perf_counter() - began, listed))
            assert not found.failed_checks
        took, listed = sorted(rounds)[1]
        what = "a whole audit, 10,000 sites and 300,000 files"
        yield Result(what, took, "httpd's own list of the same sites", listed, 6 * listed)


def _files(base: Path) -> Iterator[Entry]:
    """What lies in the roots, as a survey would hold it."""
    for number in range(GROUND, MANY):
        root, uid = f"{base}/www/s{number}", 2000 + number % 500
        yield Entry(root, Kind.DIR, 0o755, uid, uid, listed=True)
        for leaf in ("index.html", "main.css", "menu.js", "front.png"):
            yield Entry(f"{root}/{leaf}", Kind.FILE, 0o644, uid, uid, size=900)
        for page in range(25):
            yield Entry(f"{root}/page{page}.html", Kind.FILE, 0o644, uid, uid, size=900)


# --- rights, and logs ---

PEOPLE, FILES = 2000, 300_000


def _homes() -> Iterator[Entry]:
    rng = random.Random(4)
    yield Entry("/", Kind.DIR, 0o755, 0, 0)
    yield Entry("/home", Kind.DIR, 0o755, 0, 0)
    for number in range(PEOPLE):
        uid, home = 1000 + number, f"/home/u{number}"
        other = f"user::rwx,user:{1000 + rng.randrange(PEOPLE)}:r-x,group::---,mask::r-x,other::---"
        acl = parse_acl(other) if rng.random() < 0.2 else None
        yield Entry(home, Kind.DIR, rng.choice([0o755, 0o711, 0o700, 0o750]), uid, uid, acl=acl)
        yield Entry(f"{home}/www", Kind.DIR, 0o755, uid, uid)
        for leaf in range(FILES // PEOPLE - 2):
            mode, gid = rng.choice([0o644, 0o640, 0o600]), rng.choice([uid, 33])
            yield Entry(f"{home}/www/f{leaf}", Kind.FILE, mode, uid, gid)


def who_may_read() -> Iterator[Result]:
    """Every account against every file, beside the same for each entry by itself."""
    files = FileTable(_homes())
    rng = random.Random(5)
    people = [
        Subject(f"u{n}", 1000 + n, frozenset({1000 + n, 1000 + rng.randrange(PEOPLE), 33}))
        for n in range(PEOPLE)
    ]
    rounds = []
    for _ in range(3):
        # What is kept with the table is worked out anew.
        vars(files).pop("parents", None)
        began = time.perf_counter()
        table = AccessTable(files, Crowd(people))
        bits, number = table.whole(READ)
        took = time.perf_counter() - began
        began = time.perf_counter()
        total = _plainly(files, people)
        rounds.append((took, time.perf_counter() - began))
        counts = table.members(bits).sum(axis=1)
        assert int(counts[number].sum()) == total
    took, plain = sorted(rounds)[1]
    what = "300,000 files against 2,000 accounts"
    yield Result(what, took, "NumPy, each entry by itself", plain, min(0.5, plain / 10))


def _plainly(files: FileTable, people: Sequence[Subject]) -> int:
    """How many (file, account) pairs may read: each entry decided for itself."""
    uids = np.array([person.uid for person in people])
    member = {
        gid: np.array([gid in person.groups for person in people])
        for gid in {*files.gid, *(g for person in people for g in person.groups)}
    }
    nobody = np.zeros(len(people), np.bool_)
    passed: dict[int, np.ndarray] = {}
    total = 0
    for row, path in enumerate(files.paths):
        folder = files.kind[row] == 1
        entry = files.entry(row)
        own = uids == entry.uid

        def may(bit: int, entry: Entry = entry, own: np.ndarray = own) -> np.ndarray:
            mode = entry.mode
            group = member.get(entry.gid, nobody)
            rest = np.where(group, bool(mode >> 3 & bit), bool(mode & bit))
            if entry.acl and mode & 0o070:
                mask = mode >> 3 & 7
                rest = np.where(group, False, bool(mode & bit))
                for each in entry.acl:
                    if each.tag == "user" and each.id is not None:
                        rest = np.where(uids == each.id, bool(each.perms & mask & bit), rest)
            return np.where(own, bool(mode >> 6 & bit), rest)

        above = passed.get(files.row(path.rpartition("/")[0] or "/")) if path != "/" else None
        found = may(4) if above is None else may(4) & above
        total += int(found.sum())
        if folder:
            passed[row] = may(1) if above is None else may(1) & above
    return total


def _big_tree(base: str) -> None:
    """300,000 files in 3,000 folders: a context on each, an ACL on each tenth."""
    rng = random.Random(8)
    acl = struct.pack("<I", 2) + b"".join(
        struct.pack("<HHI", tag, perms, who)
        for tag, perms, who in (
            (1, 6, 2**32 - 1), (2, 4, 33), (4, 4, 2**32 - 1), (16, 4, 2**32 - 1),
            (32, 0, 2**32 - 1),
        )
    )  # fmt: skip
    for number in range(3000):
        folder = f"{base}/u{number // 30}/public/s{number}"
        os.makedirs(folder)
        for leaf in range(100):
            path = f"{folder}/page-{leaf:03d}.html"
            os.close(os.open(path, os.O_CREAT | os.O_WRONLY, rng.choice([0o644, 0o640, 0o600])))
            os.setxattr(path, "security.selinux", b"system_u:object_r:httpd_sys_content_t:s0\0")
            if leaf % 10 == 0:
                os.setxattr(path, "system.posix_acl_access", acl)
    subprocess.run(["sync"], check=True)


def capturing() -> Iterator[Result]:
    """Metadata of 300,000 files, beside the three tools that tell the same together."""
    base = tempfile.mkdtemp(dir="/srv", prefix="ecumen-bench-")
    try:
        _big_tree(base)
        tools = (
            f"find {base} -printf '%p %m %U %G %s %T@ %C@ %l\\n' >/dev/null; "
            f"getfattr -R -h -d -m - {base} >/dev/null 2>&1; getfacl -R -n {base} >/dev/null 2>&1"
        )
        counts = []

        def ours() -> None:
            collector = Collector()
            collector.trees([base])
            counts.append(len(collector.table()))

        took, theirs = _beside(ours, ["sh", "-c", tools], 5)
        assert min(counts) > 300_000
    finally:
        shutil.rmtree(base)
    what = "metadata of 300,000 files, with ACLs and contexts"
    yield Result(what, took, "find, getfattr and getfacl", theirs, 0.3 * theirs)


def changing() -> Iterator[Result]:
    """A survey with a few changes, beside one that is made anew: 50 of a million paths; and the
    engines on one changed file of a site of 10,000.
    """
    paths = (
        Entry(f"/srv/f{folder}/p{leaf}", Kind.FILE, 0o644, folder, folder)
        for folder in range(1000)
        for leaf in range(1000)
    )
    began = time.perf_counter()
    base = Survey("quay", 0, "bench", (), FileTable(paths))
    made = time.perf_counter() - began
    changed = [f"/srv/f{folder}/p7" for folder in range(49)]

    def ours(number: int) -> object:
        entries = {p: Entry(p, Kind.FILE, 0o600 + number, 0, 0) for p in changed}
        entries["/srv/f3/new"] = Entry("/srv/f3/new", Kind.FILE, 0o644, 0, 0)
        found = after(base, Delta(entries))
        assert all(found.files.get(path) == entry for path, entry in entries.items())
        assert "new" in found.files.children("/srv/f3")
        return found

    took = median(ours, 20)
    yield Result("50 changed paths on 1,000,000", took, "the table made anew", made, 0.01)
    with many_sites() as folder:
        for kind in ("httpd", "nginx"):
            survey = take_survey([EngineSpec(kind, str(folder / f"{kind}.conf"))])
            began = time.perf_counter()
            with no_collecting():
                engines = engines_of(survey)
            whole = time.perf_counter() - began
            path = str(folder / kind / "05000.conf")

            texts = [
                survey.texts[path].replace(b".test", f"{number}.test".encode())
                for number in range(7)
            ]
            rounds = []
            for text in texts:
                began = time.perf_counter()
                with no_collecting():
                    renewed(engines, after(survey, Delta(texts={path: text})))
                rounds.append(time.perf_counter() - began)
            what = f"{kind}: compiled again, one site's file of 10,000 changed"
            yield Result(what, sorted(rounds)[3], "compiling all", whole, 0.05 * whole)


def founding() -> Iterator[Result]:
    """A new site proposed on a server of 10,000, and 1,000 of them planned and rehearsed, beside a
    whole audit.
    """
    with hosted("httpd", MANY) as ground:
        survey = take_survey([EngineSpec("httpd", str(ground.config))])
    maren = Account("maren", 4711, 4711, "/home/maren", "/bin/sh")
    survey = replace(survey, accounts=(*survey.accounts, maren))
    with no_collecting():
        began = time.perf_counter()
        scene = Scene(Follower(survey))
        known = audit(scene, spread=spread)
        whole = time.perf_counter() - began
        habits = propose(scene, Wish("maren", "first.example"))
        assert habits.possible, habits.clashes
        took = median(lambda number: propose(scene, Wish("maren", f"n{number}.example")), 9)
        yield Result("a new site proposed, beside 10,000", took, "a whole audit", whole, 0.2)
        (path,) = [path for path in survey.texts if path.endswith("/005000.conf")]
        other = survey.texts[path].replace(b".test", b".example")
        plan = [File.of(Trial(survey), path, other)]
        one = median(lambda _: rehearse(scene, plan, spread=spread, known=known), 3)
        rows = [{"name": f"n{number}.example", "owner": "maren"} for number in range(1000)]
        began = time.perf_counter()
        found = sought(scene, rows)
        assert len(found.made) == 1000, found.refused[:3]
        planned = time.perf_counter() - began
        told = rehearse(scene, found.operations, spread=spread, known=known)
        took = time.perf_counter() - began
        assert len(told.founded) == 1000
    yield Result(
        "a plan for one site of 10,000 rehearsed", one, "a whole audit", whole, 0.05 * whole
    )
    yield Result("a list of 1,000 new sites planned", planned, "a whole audit", whole, 10)
    yield Result("the same, rehearsed", took, "a whole audit", whole, 10)


LINES = 3_000_000
_COUNT = """{ n++; split($0,q,"\\""); split(q[1],a," "); ip[a[1]]++; h[substr($4,2,14)]++
split(q[2],r," "); m[r[1]]++; p=r[2]; i=index(p,"?"); if(i)p=substr(p,1,i-1); path[p]++
split(q[3],s," "); st[s[1]]++; b+=s[2]; ref[q[4]]++; ag[q[6]]++ } END { print n }"""


def _write_log(path: str, lines: int) -> None:
    """Fourteen days in their order, with as many different texts as a busy site has."""
    rng = random.Random(6)
    paths = [f"/{rng.choice('abcdef')}/{n}/{rng.randrange(10**6)}.html" for n in range(30_000)]
    paths += [f"/{n}/{'long-' * rng.randrange(40, 180)}{n}" for n in range(300)]
    agents = [
        f"Browser/{n}.0 (System {n % 40}; rv:{n}) that says much of itself ({n % 7}) as they all do"
        for n in range(800)
    ]
    # As the servers write what holds quotes.
    agents += [f'Reader/{n} (\\"{n}\\" of its kind)' for n in range(60)]
    rng.shuffle(paths)
    rng.shuffle(agents)
    referrers = ["-", *(f"http://r{n}.test/page/{n * 7}?x={n}" for n in range(3000))]
    clients = [
        f"2001:db8:{rng.randrange(65536):x}:{n % 9}::{rng.randrange(65536):x}"
        if rng.random() < 0.3
        else f"192.0.{rng.randrange(200)}.{rng.randrange(250)}"
        for n in range(60_000)
    ]
    with open(path, "w") as log:
        for n in range(lines):
            t = n * 14 * 86_400 // lines
            path = paths[int(rng.random() ** 3 * len(paths))]
            referrer = referrers[int(rng.random() ** 2 * len(referrers))]
            agent = agents[int(rng.random() ** 2 * len(agents))]
            log.write(
                f"{clients[int(rng.random() ** 2 * len(clients))]} - - "
                f"[{1 + t // 86_400:02d}/Apr/2031:{t // 3600 % 24:02d}:{t // 60 % 60:02d}:"
                f'{t % 60:02d} +0200] "GET {path}?q={n % 9} HTTP/1.1" '
                f"{rng.choice([200, 200, 304, 404])} {rng.randrange(90_000)} "
                f'"{referrer}" "{agent}"\n'
            )


def _beside(
    ours: Callable[[], object], others: Sequence[str], rounds: int = 3
) -> tuple[float, float]:
    """Times of both, taken in turn; the round with the middle ratio."""
    found = []
    for _ in range(rounds):
        began = time.perf_counter()
        subprocess.run(others, check=True, stdout=subprocess.DEVNULL)
        theirs = time.perf_counter() - began
        began = time.perf_counter()
        ours()
        found.append((time.perf_counter() - began, theirs))
    return sorted(found, key=lambda pair: pair[0] / pair[1])[len(found) // 2]


def counting_logs() -> Iterator[Result]:
    """A combined log, beside one pass of mawk that counts the same; plain and packed; and a word
    that is looked for in all of it.
    """
    with tempfile.TemporaryDirectory() as folder:
        log = f"{folder}/access.log"
        _write_log(log, LINES)

        def count(path: str, lines: int) -> None:
            assert tally_of([path], USUAL).parsed == lines

        one_pass = "one pass of mawk over the same"
        took, mawk = _beside(lambda: count(log, LINES), ["mawk", _COUNT, log])
        yield Result(f"{LINES:,} combined lines counted", took, one_pass, mawk, 0.35 * mawk)
        with mock.patch("os.cpu_count", return_value=1):
            took, mawk = _beside(lambda: count(log, LINES), ["mawk", _COUNT, log], 1)
        yield Result("the same in one process", took, one_pass, mawk, 0.6 * mawk)
        subprocess.run(["gzip", "-k", log], check=True)
        packed = f"{log}.gz"
        unpack = ["bash", "-c", f"zcat {packed} | mawk '{_COUNT}'"]
        took, mawk = _beside(lambda: count(packed, LINES), unpack)
        yield Result("the same, packed", took, "zcat and mawk", mawk, 0.6 * mawk)
        size = os.path.getsize(log)
        began = time.perf_counter()
        assert not list(lines_between(log, False, 0, size, b"nowhere-in-it"))
        took = time.perf_counter() - began
        what = f"a word looked for in all {size >> 20} MiB"
        yield Result(what, took, "the goal for the first hits", 1.0, 1.0)


_FRAMES = """async () => {
  const field = document.querySelector("section[aria-label=Sites] > div.overflow-auto");
  const begun = performance.now(), times = [];
  let last = begun;
  await new Promise((done) => {
    const step = (now) => {
      times.push(now - last);
      last = now;
      field.scrollTop += 40;
      now - begun < 3000 ? requestAnimationFrame(step) : done();
    };
    requestAnimationFrame(step);
  });
  return 3 / times.length;
}"""
_NOTHING = """<section aria-label=Sites>
  <div class=overflow-auto style="height: 600px; overflow: auto"><div style="height: 30000px"></div>
  </div></section>"""


def records_of(base: Path) -> Path:
    """A home with a survey of many sites in it, and of all that lies in their roots."""
    survey = take_survey([EngineSpec("httpd", str(base / "httpd.conf"))])
    survey = replace(survey, files=FileTable([*survey.files, *_files(base)]))
    home = base / "records"
    with (base / "many.survey").open("wb") as stream:
        write_survey(survey, stream)
    assert command(home, "load", "--as-root", str(base / "many.survey")).wait() == 0
    return home


def many_screens() -> Iterator[Result]:
    """What the screens of a server of 10,000 sites and 300,000 files ask for, and how its sites
    are drawn.
    """
    with many_sites(MANY) as base:
        home = records_of(base)
        with serving(home) as application, browser() as chromium:
            page = chromium.new_page(viewport={"width": 1280, "height": 800})
            application.sign_in(page)
            shell = median(lambda _: page.request.get(f"{application.address}/api/session"), 20)
            yield from _screens(page, application, base, shell)


def _screens(page: Page, application: Application, base: Path, shell: float) -> Iterator[Result]:
    rng = random.Random(3)
    asked: dict[str, Callable[[], str]] = {
        "sites": lambda: "sites",
        "findings": lambda: "findings",
        "bindings": lambda: f"bindings?q=s{rng.randrange(MANY)}",
        "roots": lambda: "roots",
        "site": lambda: f"site?at={base}/httpd/{rng.randrange(MANY):05d}.conf:2",
        "passage": lambda: f"passage?url=http://s{rng.randrange(MANY)}.test:{PORT}/",
        "users": lambda: "users",
        "contexts": lambda: "contexts",
        "neighbours": lambda: "neighbours",
        "who": lambda: f"who?path={base}/www/s{rng.randrange(MANY)}/index.html",
        "logs": lambda: "logs",
    }
    for name, path in asked.items():
        times = []
        for _ in range(41):
            began = time.perf_counter()
            answer = page.request.get(f"{application.address}/api/surveys/latest/{path()}")
            times.append(time.perf_counter() - began)
            assert answer.ok, answer.text()
        # The first one reads the survey.
        late = sorted(times[1:])[37]
        baseline = "the plainest request"
        yield Result(f"the API, 10,000 sites: {name}, 95th percentile", late, baseline, shell, 0.1)

    def overview(_: int) -> None:
        page.goto(application.address, wait_until="commit")
        page.get_by_role("region", name="Sites").get_by_role("status").wait_for()

    shown = median(overview, 5)
    yield Result("Overview of 10,000 sites, on the screen", shown, "the same request", shell, 2)
    frame = page.evaluate(_FRAMES)
    page.set_content(_NOTHING)
    empty = page.evaluate(_FRAMES)
    what = "Overview of 10,000 sites, a frame while it moves"
    yield Result(what, frame, "of a page with nothing on it", empty, 0.02)


_BRUSH = """async () => {
  const times = [];
  let last = performance.now(), going = true;
  const step = (now) => {
    times.push(now - last);
    last = now;
    if (going) requestAnimationFrame(step);
  };
  requestAnimationFrame(step);
  const chart = document.querySelector("svg.touch-none");
  const box = chart.getBoundingClientRect();
  const at = (type, share) => chart.dispatchEvent(new PointerEvent(type, {
    bubbles: true, pointerId: 1, clientX: box.left + share * box.width, clientY: box.top + 30 }));
  chart.setPointerCapture = () => {};
  at("pointerdown", 0.2);
  for (let n = 0; n < 60; n++) {
    at("pointermove", 0.2 + n / 150);
    await new Promise(requestAnimationFrame);
  }
  at("pointerup", 0.6);
  going = false;
  return Math.max(...times.slice(2)) / 1000;
}"""


def brushing() -> Iterator[Result]:
    """The demo's fourteen days of logs: how they follow the brush, and how long causes and figures
    of a range take to come.
    """
    with (
        tempfile.TemporaryDirectory() as home,
        demo(Path(home)) as application,
        browser() as chromium,
    ):
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        application.sign_in(page)
        logs_are_read(page)
        shell = median(lambda _: page.request.get(f"{application.address}/api/session"), 20)
        page.goto(f"{application.address}/logs")
        page.get_by_role("region", name="Why requests failed").wait_for()
        slowest = page.evaluate(_BRUSH)
        yield Result("the slowest frame while brushing 14 days", slowest, "a session", shell, 0.1)
        rng = random.Random(9)
        for what in ("failures", "figures"):
            path = f"{application.address}/api/surveys/latest/logs/{what}"

            def some(number: int, path: str = path) -> object:
                begin = 1_932_800_400 + 3600 * rng.randrange(200)
                return page.request.get(f"{path}?begin={begin}&end={begin + 360_000}")

            took = median(some, 15)
            yield Result(f"{what} of four days of the demo", took, "a session", shell, 0.1)


def first_paint() -> Iterator[Result]:
    """From the address to the outcome on the screen, nothing cached."""
    with (
        tempfile.TemporaryDirectory() as home,
        demo(Path(home)) as application,
        browser() as chromium,
    ):
        context = chromium.new_context(viewport={"width": 1280, "height": 800})
        application.sign_in(context.new_page())
        follow = median(lambda _: _shown(context, application, FOLLOW, "Outcome"), 7)
        shell = median(lambda _: _shown(context, application, "/surveys", None), 7)
    baseline = "the plainest page of the same application"
    yield Result("first useful paint of Follow on the demo", follow, baseline, shell, 1.0)


FOLLOW = "/follow?url=http://boat-builders.example/"


def _shown(
    context: BrowserContext, application: Application, path: str, landmark: str | None
) -> None:
    page = context.new_page()
    page.goto(application.address + path, wait_until="commit")
    if landmark:
        page.get_by_role("complementary", name=landmark).wait_for()
    else:
        page.get_by_role("heading", name="Surveys").wait_for()
    page.close()


def whole_commands() -> Iterator[Result]:
    """As the user waits: see `bench_commands`."""
    return (Result(*row) for row in told())


# Each in a process of its own: what one leaves in memory is no burden to the next.
SECTIONS: dict[str, Callable[[], Iterator[Result]]] = {
    section.__name__: section
    for section in (
        whole_commands, one_passage, reading, changing, founding, many_answers, whole_audit,
        many_screens,
        who_may_read, capturing, counting_logs, brushing, first_paint,
    )
}  # fmt: skip


ROWS = "ECUMEN_BENCH_ROWS"  # where sections leave their rows for the table
TABLE = Path(__file__).parents[1] / "docs/benchmarks.md"
_HEAD = """\
# Benchmarks

Written by `make bench` on {date}: {machine}. Seconds of the round with the
middle ratio to the baseline, both taken in turn; whole commands from their start to their end, with
the most memory that all their processes held (MiB). A goal without a baseline is in seconds.

| work | seconds | baseline = 1 | ratio | goal | MiB | |
| --- | --- | --- | --- | --- | --- | --- |
"""


def main(names: Sequence[str]) -> int:
    """Those sections, or all, which are written to the table; 1 where a goal is missed."""
    if list(names) == ["growth"]:
        # By itself: written where the table of before ends.
        TABLE.write_text(TABLE.read_text().partition(_GROWN)[0] + _growth())
        return 0
    results = [result for name in names for result in SECTIONS[name]()]
    for result in results:
        print(result.line(), flush=True)
        if ROWS in os.environ:
            with open(os.environ[ROWS], "a") as rows:
                rows.write(f"{result.row()}\n")
    if names:
        return 0 if all(result.took <= result.goal for result in results) else 1
    with tempfile.NamedTemporaryFile("r") as rows:
        command = [sys.executable, "-m", "tests.bench"]
        env = os.environ | {ROWS: rows.name}
        worst = max(
            subprocess.run([*command, name], check=False, env=env).returncode for name in SECTIONS
        )
        machine = f"{os.cpu_count()} cores, Python {platform.python_version()}, {platform.system()}"
        head = _HEAD.format(date=f"{date.today():%Y-%m-%d}", machine=machine)
        TABLE.write_text(head + rows.read() + _growth())
    return worst


_GROWN = """
## As work grows

Once each, with all processes' memory at its most.

| work | how many | seconds | MiB |
| --- | --- | --- | --- |
"""


def _growth() -> str:
    """The table of what more sites and more paths cost."""
    rows = [
        f"| {what} | {count:,} | {seconds:.3g} | {mebibytes:.0f} |\n"
        for what, count, seconds, mebibytes in growth(
            (100, 1000, 10_000, 100_000), (10_000, 100_000, 1_000_000)
        )
    ]
    return _GROWN + "".join(rows)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
