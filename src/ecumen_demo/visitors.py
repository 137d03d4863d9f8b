"""Fourteen days of visitors to the demo server, as its logs would hold them.

Each line says what the surveyed server would have answered at that moment: until the afternoon when
homes were tightened as it stood the week before, from then on as it stands.
"""

from __future__ import annotations

import gzip
import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from itertools import accumulate
from pathlib import Path

from ecumen import codes
from ecumen.audit.scene import Scene, Site
from ecumen.codes import Code, Facts
from ecumen.errors import RequestError
from ecumen.passage import Follower
from ecumen.passage.front import request_to
from ecumen.passage.request import Request
from ecumen.survey import Kind
from ecumen_demo.lines import DemoLine, error_line, written
from ecumen_demo.scenario import CLOSED_AT, SEED, TAKEN_AT, Moment, demo_survey

LINES = 400_000
TOWN = 2  # counts on when what visitors can ask for changes
DAYS = 14
BEGIN = TAKEN_AT - DAYS * 86_400
# Rotated each week, on the night to Sunday: the older one is packed.
ROTATED = (TAKEN_AT - 9 * 86_400 - 9 * 3600, TAKEN_AT - 2 * 86_400 - 9 * 3600)
Progress = Callable[[str, int, int], None]

BROWSERS = (
    "Skerry/12.1 (Desk; en)", "Skerry/12.0 (Phone; en)", "Pebble/3.4 (Phone)",
    "Heron/88.2 (Desk)", "Heron/87.0 (Tablet)", "Lantern Lite/2.0 (Phone)",
)  # fmt: skip
ROBOTS = (
    "DriftCrawler/0.9 (+http://driftcrawler.example/about)", "LampBot/2.1 (+http://lamp.example/bot)",
    "StationMonitor/1.3", "FeedRake/4.0", "-",
)  # fmt: skip
PROBES = ("/login", "/admin/", "/backup.zip", "/.env", "/old/index.html", "/config.bak")
REFERRERS = (
    ("-", 46), ("http://search.harbourfind.example/?q=tide+times", 14),
    ("http://search.harbourfind.example/?q=marsh", 6), ("http://estuary-links.example/town", 9),
    ("http://gazette.example/2031/spring", 5), ("http://neighbourhood.test/board", 4),
)  # fmt: skip
# How many come in each hour of the day, and how much more on some sites than on others.
HOURS = (2, 1, 1, 1, 1, 2, 4, 8, 12, 14, 14, 13, 15, 13, 12, 12, 13, 15, 17, 19, 20, 16, 9, 4)
BUSY = {
    "radio-estuary.example": 22.0, "tide-table.example": 16.0, "ferry.example": 11.0,
    "saltmarsh-news.example": 9.0, "regatta.example": 6.0, "choir-of-the-marsh.example": 3.0,
    "repair-cafe.example": 4.0, "night-school.example": 4.0,
}  # fmt: skip
MISSPELT = "www.seed-library.example"


@dataclass(slots=True)
class _Answer:
    """What came of a request: the log that gets the line, and what goes into it."""

    log: str
    template: str
    site: str
    status: int
    size: int
    engine: str
    said: str = ""
    errors: str = ""


@dataclass(slots=True)
class _Place:
    """A site as visitors know it: its pages, and what each page is made of."""

    site: Site
    name: str
    weight: float
    pages: list[str]
    parts: list[str]
    robots: float = 0.12


@dataclass(slots=True)
class _Writer:
    """Collects lines by log and by file of its set."""

    lines: dict[str, list[tuple[int, str]]] = field(default_factory=dict)

    def add(self, log: str, at: int, line: str) -> None:
        self.lines.setdefault(log, []).append((at, line))

    def save(self, root: Path) -> None:
        """Rotated sets: the oldest packed, the next plain, the last as it grows."""
        for log, lines in self.lines.items():
            lines.sort(key=lambda line: line[0])
            path = root / log.lstrip("/")
            path.parent.mkdir(parents=True, exist_ok=True)
            old = [text for at, text in lines if at < ROTATED[0]]
            middle = [text for at, text in lines if ROTATED[0] <= at < ROTATED[1]]
            late = [text for at, text in lines if at >= ROTATED[1]]
            if old:
                data = "".join(old).encode("utf-8", "surrogateescape")
                path.with_name(path.name + ".2.gz").write_bytes(gzip.compress(data, 3, mtime=0))
            if middle:
                path.with_name(path.name + ".1").write_text("".join(middle))
            path.write_text("".join(late))


def ensure_logs(root: Path, progress: Progress = lambda *step: None) -> None:
    """Writes the logs below a folder, where they are not there yet."""
    done = root / f"written-{SEED}-{LINES}-{TOWN}"
    if done.exists():
        return
    root.mkdir(parents=True, exist_ok=True)
    _Visitors(random.Random(SEED), progress).write(root)
    done.touch()


class _Visitors:
    def __init__(self, rng: random.Random, progress: Progress) -> None:
        self.rng = rng
        self.progress = progress
        self.scenes = {
            moment: Scene(Follower(demo_survey(moment)))
            for moment in (Moment.WEEK_BEFORE, Moment.AS_LOADED)
        }
        self.dark = self._dark_accounts()
        self.writer = _Writer()
        self.count = 0
        self._answers: dict[tuple[Moment, str, str, str], _Answer | None] = {}
        self._clients = [self._client() for _ in range(9_000)]

    def write(self, root: Path) -> None:
        scene = self.scenes[Moment.AS_LOADED]
        places = [place for site in scene.sites if (place := self._place(scene, site))]
        places.append(self._misspelt(places))
        places.append(self._unmade(places))
        bounds = list(accumulate(place.weight for place in places))
        while self.count < LINES:
            place = self.rng.choices(places, cum_weights=bounds)[0]
            at = self._moment()
            if self.rng.random() < place.robots:
                self._robot(place, at)
            else:
                self._person(place, at)
            if self.rng.random() < 0.002:
                self.progress("making up fourteen days of visitors", self.count, LINES)
        self.writer.save(root)

    def _dark_accounts(self) -> set[str]:
        """Whose homes were tightened between the two surveys."""
        one, two = (scene.survey for scene in self.scenes.values())
        homes = {account.home: account.name for account in two.accounts}
        modes = [
            {home: entry.mode for home in homes if (entry := survey.files.get(home))}
            for survey in (one, two)
        ]
        return {homes[home] for home in modes[1] if modes[0].get(home) != modes[1][home]}

    # --- who, when, what ---

    def _client(self) -> str:
        rng = self.rng
        if rng.random() < 0.2:
            return f"2001:db8:{rng.randrange(0x20, 0xFFFF):x}::{rng.randrange(1, 0xFFFF):x}"
        net = rng.choice(("192.0.2", "198.51.100", "203.0.113"))
        return f"{net}.{rng.randrange(20, 255)}"

    def _moment(self) -> int:
        """By the hour of the day; weekends are quieter in the morning."""
        day = self.rng.randrange(DAYS + 1)
        hour = self.rng.choices(range(24), HOURS)[0]
        midnight = BEGIN - BEGIN % 86_400 + day * 86_400
        at = midnight + hour * 3600 + self.rng.randrange(3600)
        weekend = (midnight // 86_400 + 3) % 7 >= 5
        if weekend and self.rng.random() < 0.3:
            return self._moment()
        return at if BEGIN <= at < TAKEN_AT - 600 else self._moment()

    def _place(self, scene: Scene, site: Site) -> _Place | None:
        summary = site.summary
        root = (summary.root or "").rstrip("/")
        files = scene.survey.files
        chance = random.Random(f"{SEED} {site.subject}")
        base = summary.path
        pages, parts = [base], []
        for name in sorted(files.children(root)) if root else ():
            entry = files.get(f"{root}/{name}")
            if entry is not None and entry.kind is Kind.FILE and name.endswith(".html"):
                pages += [] if name == "index.html" else [base + name]
            elif name in ("style", "script", "pictures") and entry is not None:
                parts += [f"{base}{name}/{leaf}" for leaf in sorted(files.children(entry.path))]
            elif name.endswith((".css", ".jpg")):
                parts.append(base + name)
        personal = summary.personal is not None
        weight = BUSY.get(summary.name, chance.lognormvariate(-0.3 if personal else 0.2, 0.7))
        if summary.name.endswith(".gardens.example"):
            weight *= 0.2
        if personal:
            # The pages that went dark were among those that many came to see.
            weight *= 5.0 if summary.personal in self.dark else 0.7
        robots = 0.52 if summary.name == "radio-estuary.example" else 0.1
        return _Place(site, summary.asked_as, weight, pages, parts[:7], robots)

    def _misspelt(self, places: Sequence[_Place]) -> _Place:
        """The usual name of the seed library, which no site claims since a typo."""
        seeds = next(p for p in places if p.name == "seed-library.example")
        return replace(seeds, name=MISSPELT, weight=2.0)

    def _unmade(self, places: Sequence[_Place]) -> _Place:
        """A garden that is named on the notice board and has no folder."""
        others = next(p for p in places if p.name == "apple-bank.gardens.example")
        return replace(others, name="rhubarb-end.gardens.example", weight=0.3)

    # --- visits ---

    def _person(self, place: _Place, at: int) -> None:
        rng = self.rng
        client, agent = rng.choice(self._clients), rng.choice(BROWSERS)
        words, weights = zip(*REFERRERS, strict=True)
        referrer = rng.choices(words, weights)[0]
        pages = rng.choices(place.pages, [max(1, 9 - 2 * n) for n in range(len(place.pages))],
                            k=min(6, 1 + int(rng.expovariate(0.7))))  # fmt: skip
        if rng.random() < 0.55:
            pages[0] = place.pages[0]
        had: set[str] = set()
        for number, page in enumerate(pages):
            answer = self._ask(place, at, "GET", page, client, agent, referrer)
            own = f"http://{place.name}{page}"
            if answer is not None and answer.status < 400:
                for part in place.parts:
                    # What the browser keeps a copy of is asked for again now and then.
                    if part not in had and rng.random() < 0.7:
                        had.add(part)
                        self._ask(place, at + rng.randrange(3), "GET", part, client, agent, own)
                if number == 0 and rng.random() < 0.04:
                    self._ask(place, at + 1, "GET", "/favicon.ico", client, agent, own)
            elif rng.random() < 0.6:
                break
            referrer = own
            at += 5 + int(rng.expovariate(1 / 70))
            if at >= TAKEN_AT:
                break

    def _robot(self, place: _Place, at: int) -> None:
        rng = self.rng
        agent = rng.choice(ROBOTS)
        client = f"203.0.113.{200 + ROBOTS.index(agent) * 7 + rng.randrange(3)}"
        if agent == "StationMonitor/1.3":
            for _ in range(4):
                self._ask(place, at, "HEAD", place.pages[0], client, agent, "-")
                at += 300
        elif agent == "-":
            for path in rng.sample(PROBES, 3):
                self._ask(place, at, "GET", path, client, agent, "-")
                at += 1
            if place.name == "harbour-band.example":
                for path in ("/.git/config", "/members.sql"):
                    self._ask(place, at, "GET", path, client, agent, "-")
        else:
            self._ask(place, at, "GET", "/robots.txt", client, agent, "-")
            for page in rng.sample(place.pages, min(len(place.pages), 5)):
                at += rng.randrange(2, 20)
                self._ask(place, min(at, TAKEN_AT - 1), "GET", page, client, agent, "-")

    def _ask(
        self, place: _Place, at: int, method: str, path: str, client: str, agent: str, referrer: str
    ) -> _Answer | None:
        moment = Moment.WEEK_BEFORE if at < CLOSED_AT else Moment.AS_LOADED
        key = (moment, place.name, method, path)
        if key not in self._answers:
            self._answers[key] = self._answer(self.scenes[moment], place, method, path)
        answer = self._answers[key]
        if answer is None:
            return None
        status, size = answer.status, answer.size
        if status == 200 and method == "GET" and referrer != "-" and self.rng.random() < 0.12:
            status, size = 304, 0
        line = DemoLine(at, client, method, path, status, 0 if method == "HEAD" else size, referrer,
                    agent, answer.site, place.name)  # fmt: skip
        self.writer.add(answer.log, at, written(answer.template, line))
        if answer.said and answer.errors:
            self.writer.add(answer.errors, at, error_line(answer.engine, line, answer.said))
        self.count += 1
        return answer

    def _answer(self, scene: Scene, place: _Place, method: str, path: str) -> _Answer | None:
        """What the server would answer, and into which log."""
        try:
            front = request_to(place.site.summary, place.name, "/")
        except RequestError:
            return None
        return answered(scene, replace(front, path=path, method=method))


def answered(scene: Scene, request: Request) -> _Answer | None:
    """None where no line would be written: nobody answers, or the log cannot be opened."""
    ran = scene.follower.run(request)
    outcome, handling = ran.outcome, ran.now.handling
    if outcome.status is None or handling is None or handling.log is None:
        return None
    site = scene.site_at.get(handling.site_place)
    folder = handling.log.rpartition("/")[0]
    if site is None or site.summary.kept is None or scene.survey.files.get(folder) is None:
        return None
    entry = scene.survey.files.get(handling.file or "")
    status = outcome.status
    size = entry.size + 280 if entry is not None and status == 200 else 430 + len(request.path)
    said = ""
    if outcome.blocks:
        said = _said(site.engine.kind, outcome.blocks[0][1].code, outcome.blocks[0][1].facts)
    return _Answer(
        handling.log, site.summary.kept.template, site.name, status, size, site.engine.kind, said,
        site.summary.errors or "",
    )  # fmt: skip


def _said(engine: str, code: Code, facts: Facts) -> str:
    """What the engine would say of it in its error log; "" where it says nothing."""
    known = _SAID[engine].get(code, "")
    return known.format(path=facts.get("path", "")) if known else ""


_SAID = {
    "httpd": {
        codes.LADDER_SHUT: "[core:error] AH00035: access to {{asked}} denied (filesystem "
        "path '{path}') because search permissions are missing on a component of the path",
        codes.LADDER_UNREADABLE: "[core:error] AH00132: file permissions deny server "
        "access: {path}",
        codes.LADDER_LINK_REFUSED: "[core:error] AH00037: Symbolic link not allowed or link "
        "target not accessible: {path}",
        codes.SERVE_NO_INDEX: "[autoindex:error] AH01276: Cannot serve directory {path}/: No "
        "matching DirectoryIndex (index.html) found, and server-generated directory index "
        "forbidden by Options directive",
        codes.RULE_DENIED: "[authz_core:error] AH01630: client denied by server "
        "configuration: {path}",
        codes.RULE_LOCAL_ONLY: "[authz_core:error] AH01630: client denied by server configuration: "
        "{path}",
    },
    "nginx": {
        codes.LADDER_SHUT: '[error] open() "{path}" failed (13: Permission denied)',
        codes.LADDER_UNREADABLE: '[error] open() "{path}" failed (13: Permission denied)',
        codes.SERVE_MISSING: '[error] open() "{path}" failed (2: No such file or directory)',
        codes.SERVE_NO_INDEX: '[error] directory index of "{path}/" is forbidden',
        codes.RULE_DENIED: "[error] access forbidden by rule",
    },
}
