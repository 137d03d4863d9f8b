"""Random lines of a configuration in each other's company, beside the real server; what goes wrong
is cut down to the smallest site that still shows it.

The lines do not know what Ecumen evaluates: `lines/` holds some by hand, and what each server takes
of every directive that it has in some forty forms of arguments.
"""

from __future__ import annotations

import random
import re
import shutil
import subprocess
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from ecumen.passage import Follower
from ecumen.passage.request import request_of
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.agreement import ENGINES, Tally, differences
from tests.worlds.live import ask
from tests.worlds.plain import open_way

ADDRESS = "127.0.0.62"
FILES = ("t.txt", "a.html", "sub/b.html", "sub/c.txt", "sub/deep/d.html", "idx/index.html")
TARGETS = (
    "GET /t.txt|GET /sub/b.html|GET /sub/|GET /idx/|GET /none|GET /sub|POST /t.txt|GET /sub/c.txt|"
    "GET /x/y|OPTIONS /sub/b.html|GET /sub/b.html/more|HEAD /sub/|GET /sub/deep/|GET /t.txt?q|"
    "GET /idx|DELETE /t.txt|GET /sub/b|GET /x|GET /sub/none|GET /sub//b.html|GET /empty/"
).split("|")
_PROGRAMS = {
    "httpd": lambda config: ["/usr/sbin/apache2", "-t", "-f", str(config)],
    "nginx": lambda config: ["/usr/sbin/nginx", "-t", "-q", "-c", str(config)],
}
_BY_HAND = 0.7  # of the lines
MOST_SHOWN = 6
MOST_TRIALS = 60  # of smaller sites, in one run


@dataclass(frozen=True)
class Company:
    """The lines of one site. folder: of its folder `sub`; override: of these, as many as stand in
    an override file.
    """

    site: tuple[str, ...]
    folder: tuple[str, ...]
    override: int = 0

    def smaller(self) -> Iterator[Company]:
        """With one line less each."""
        for at in range(len(self.site)):
            yield Company((*self.site[:at], *self.site[at + 1 :]), self.folder, self.override)
        for at in range(len(self.folder)):
            rest = (*self.folder[:at], *self.folder[at + 1 :])
            yield Company(self.site, rest, self.override - (at < self.override))


@dataclass
class CompanyReport:
    """wrong: by company, what the server contradicts. directives: by name and where it stands, how
    often was asked under it, decided and wrong.
    """

    asked: int = 0
    decided: int = 0
    wrong: dict[Company, list[str]] = field(default_factory=dict)
    statuses: Counter[int | None] = field(default_factory=Counter)
    unsure: Counter[str] = field(default_factory=Counter)
    directives: dict[tuple[str, str], Tally] = field(default_factory=lambda: defaultdict(Tally))


def lines_of(kind: str) -> dict[str, list[str]]:
    """Fragments by section."""
    found: dict[str, list[str]] = {}
    for line in (Path(__file__).parent / "lines" / f"{kind}.txt").read_text().split("\n"):
        if line.startswith("[") and line.endswith("]"):
            found[line[1:-1]] = section = []
        elif line and not line.startswith("## "):
            section.append(re.sub(r"(?<!\\)\|", "\n", line).replace("\\|", "|"))
    return found


def companies(kind: str, seed: int, count: int) -> list[Company]:
    """So many sites of random lines."""
    rng, lines = random.Random(seed), lines_of(kind)

    def drawn(section: str) -> str:
        return rng.choice(lines[section if rng.random() < _BY_HAND else f"{section} by the list"])

    found = []
    for _ in range(count):
        site = tuple(drawn("site") for _ in range(rng.randint(0, 3)))
        folder = tuple(drawn("folder") for _ in range(rng.randint(0, 4)))
        behind = rng.randint(0, len(folder)) if kind == "httpd" and rng.random() < 0.5 else 0
        found.append(Company(site, folder, behind))
    return found


class Grounds:
    """Where such sites are laid out, and the server that answers for them."""

    def __init__(self, kind: str, base: Path, port: int, head: str) -> None:
        """head: the server as a whole, with `{base}`, `{address}` and `{port}`."""
        self.kind, self.base, self.port, self.head = kind, base, port, head
        self.trials = MOST_TRIALS
        for name in FILES:
            file = base / "root" / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text("x")
        (base / "root" / "empty").mkdir()
        (base / "sites").mkdir()
        (base / "logs").mkdir()
        open_way(base)
        self.config = base / "server.conf"

    def text(self, number: int, company: Company) -> str:
        """A site's block; what stands in an override file is written to a root of its own."""
        root = self.base / "root"
        override = company.folder[len(company.folder) - company.override :]
        folder = company.folder[: len(company.folder) - company.override]
        if override:
            root = self.base / f"root{number}"
            shutil.rmtree(root, ignore_errors=True)
            shutil.copytree(self.base / "root", root)
            text = "\n".join(override).replace("@/root", str(root))
            (root / "sub" / ".htaccess").write_text(f"{text}\n")
        lines = ["\n".join(company.site)]
        if self.kind == "nginx":
            lines += ["location /sub {", *folder, "}"] if folder else []
            rooted = "" if re.search(r"^root ", lines[0], re.M) else f"root {root};"
            own = "\n".join(lines).replace("@/root", str(root))
            where = f"listen {ADDRESS}:{self.port}; server_name s{number}.test;"
            return f"server {{ {where}\n{rooted}\nadd_header X-Site {number} always;\n{own}\n}}\n"
        lines += ["<Directory @/root/sub>", *folder, "</Directory>"] if folder else []
        if override:
            lines += ["<Directory @/root>", "AllowOverride All", "</Directory>"]
        own = "\n".join(lines).replace("@/root", str(root))
        return (
            f"<VirtualHost *:{self.port}>\nServerName s{number}.test\nDocumentRoot {root}\n"
            f'Header always set X-Site "{number}"\n{own}\n</VirtualHost>\n'
        )

    def write(self, given: Sequence[Company]) -> None:
        for old in (self.base / "sites").iterdir():
            old.unlink()
        for number, company in enumerate(given):
            (self.base / "sites" / f"{number}.conf").write_text(self.text(number, company))
        place = {"base": self.base, "address": ADDRESS, "port": self.port}
        self.config.write_text(self.head.format(**place))

    def taken(self, given: Sequence[Company]) -> list[Company]:
        """Those that the server starts with."""
        if not given:
            return []
        self.write(given)
        done = subprocess.run(_PROGRAMS[self.kind](self.config), capture_output=True, check=False)
        if done.returncode == 0:
            return list(given)
        half = len(given) // 2
        return [] if not half else self.taken(given[:half]) + self.taken(given[half:])

    def compare(self, given: Sequence[Company], report: CompanyReport) -> None:
        """Asks all of them, of us and of the server."""
        self.write(given)
        follower = Follower(take_survey([EngineSpec(self.kind, str(self.config))]))
        with ENGINES[self.kind][1](self.config, ADDRESS, self.port):
            for number, company in enumerate(given):
                self._compare(number, company, follower, report)

    def _compare(
        self, number: int, company: Company, follower: Follower, report: CompanyReport
    ) -> None:
        names = set(_directives(company))
        for method, target in (each.split(" ") for each in TARGETS):
            row = {
                "url": f"http://s{number}.test:{self.port}{target}", "method": method,
                "to": ADDRESS, "from": "127.0.0.1",
            }  # fmt: skip
            answer, seen = follower.brief(request_of(row)), ask(row)
            report.asked += 1
            report.decided += answer["decided"] is True
            report.statuses[seen.status] += 1
            told = differences(answer, seen) if answer["decided"] else []
            if not answer["decided"]:
                report.unsure[_reason(answer)] += 1
            if told:
                report.wrong.setdefault(company, []).append(f"{method} {target}: {'; '.join(told)}")
            for name in names:
                tally = report.directives[name]
                tally.asked += 1
                tally.decided += answer["decided"] is True
                tally.wrong += bool(told)

    def smallest(self, company: Company) -> Company:
        """With as few lines as still go wrong, as far as the trials reach."""
        for less in company.smaller():
            if self.trials <= 0 or not self.taken([less]):
                continue
            self.trials -= 1
            report = CompanyReport()
            self.compare([less], report)
            if report.wrong:
                return self.smallest(less)
        return company


def _reason(answer: dict[str, object]) -> str:
    """Why an answer is open, without the paths in it."""
    because = answer["unsure_because"]
    first = because[0] if isinstance(because, list) and because else {}
    return re.sub(r"/\S+", "…", str(first.get("reason", "")))


def _directives(company: Company) -> Iterator[tuple[str, str]]:
    cut = len(company.folder) - company.override
    parts = {
        "site": company.site, "folder": company.folder[:cut], "override": company.folder[cut:],
    }  # fmt: skip
    for where, texts in parts.items():
        for found in re.finditer(r"^\s*<?([A-Za-z][A-Za-z0-9_]*)", "\n".join(texts), re.M):
            yield found[1].lower(), where


def pasted(kind: str, company: Company, told: Sequence[str]) -> str:
    """A company as a file of tests/beside, to be put there once it is understood."""
    lines = [f"engine {kind}", *(f"## {line}" for line in told), "files"]
    lines += [f"0644 root root/{name}" for name in FILES]
    by_method: dict[str, list[str]] = defaultdict(list)
    for line in told:
        method, target = line.split(": ")[0].split(" ")
        by_method[method].append(target)
    for method, targets in by_method.items():
        lines += [f"ask {method}", " ".join(targets)]
    lines += ["site", *company.site]
    opened = (
        ("<Directory @/root/sub>", "</Directory>") if kind == "httpd" else ("location /sub {", "}")
    )
    if company.folder:
        note = [f"## the last {company.override} in an override file"] if company.override else []
        lines += [opened[0], *note, *company.folder, opened[1]]
    return "\n".join(lines) + "\n"


def run(
    grounds: Grounds, seed: int, count: int, say: Callable[[str], None], batch: int = 150
) -> CompanyReport:
    """Compares so many sites; what goes wrong is said, cut down."""
    report = CompanyReport()
    drawn = companies(grounds.kind, seed, count)
    for at in range(0, len(drawn), batch):
        good = [
            company
            for begin in range(at, min(at + batch, len(drawn)), 24)
            for company in grounds.taken(drawn[begin : min(begin + 24, at + batch)])
        ]
        together = grounds.taken(good)
        if together:
            grounds.compare(together, report)
            # A server that is told to end lets go of its port a moment later.
            time.sleep(0.2)
    for company in list(report.wrong)[:MOST_SHOWN]:
        small = grounds.smallest(company)
        again = CompanyReport()
        if grounds.taken([small]):
            grounds.compare([small], again)
        told = again.wrong.get(small) or report.wrong[company]
        say(pasted(grounds.kind, small, told))
    return report
