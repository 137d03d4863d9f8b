"""Random plans on random worlds of both engines: what was rehearsed is what the real server does
when it is done, and taken back it leaves no trace.
"""

from __future__ import annotations

import os
import random
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from ecumen.audit.scene import Scene
from ecumen.operations import Operation
from ecumen.operations.acl import AclGrant
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.link import Link
from ecumen.operations.mode import Mode
from ecumen.operations.owner import Owner, OwningGroup
from ecumen.operations.remove import Remove
from ecumen.operations.rename import Rename
from ecumen.operations.trial import Trial, simulated
from ecumen.passage import Follower
from ecumen.passage.request import request_of
from ecumen.rehearsal import Rehearsal, rehearse
from ecumen.survey import Kind, Survey, after
from ecumen_machine import EngineSpec, take_survey
from tests.operations_test import RealHands
from tests.worlds.accounts import NAMES
from tests.worlds.agreement import ENGINES, differences, world_on_disk
from tests.worlds.asking import requests
from tests.worlds.live import Seen, ask
from tests.worlds.trees import ADDRESSES, PORTS, World

pytestmark = pytest.mark.server
PLANS_A_WORLD = 6
ASKS = 60
MOST_TOUCHED = 60
OF_A_SITE = {
    "httpd": ("DirectoryIndex start.txt", "ErrorDocument 404 /gone.html", "Redirect 302 /x /y"),
    "nginx": ("index start.txt;", "error_page 404 /gone.html;", "location = /x { return 302 /y; }"),
}
OVERRIDES = ("Require all denied\n", "Options -Indexes\n", "DirectoryIndex start.txt\n", "Odd\n")


@dataclass
class Report:
    """asked: requests after plans were done; touched: that fared differently."""

    plans: int = 0
    asked: int = 0
    decided: int = 0
    touched: int = 0
    kinds: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_what_is_rehearsed_is_what_the_server_does(
    kind: str, seed: int, request: pytest.FixtureRequest
) -> None:
    wanted, report = int(request.config.getoption("--plans")), Report()
    for number in range(-(-wanted // PLANS_A_WORLD)):
        with world_on_disk(kind, seed + number) as world:
            on_a_world(kind, world, min(PLANS_A_WORLD, wanted - report.plans), report)
    print(
        f"{kind}: {report.plans} plans of {report.kinds.total()} operations {dict(report.kinds)}, "
        f"asked {report.asked}, decided {report.decided}, fared differently {report.touched}, "
        f"wrong {len(report.wrong)}"
    )
    assert not report.wrong, "\n".join(report.wrong[:20])
    assert report.decided > 0.9 * report.asked
    assert report.touched


def on_a_world(kind: str, world: World, plans: int, report: Report) -> None:
    rng = random.Random(world.seed)
    spec = [EngineSpec(kind, str(world.config))]
    rows = requests(world, ASKS)
    survey = take_survey(spec, [str(world.base)])
    scene = Scene(Follower(survey))
    before = _asked(kind, world, rows)
    assert before is not None
    shape = _shape(world)
    hands = RealHands()
    tried = 0
    while tried < plans:
        plan = drawn(kind, survey, world, rng)
        plain = [row for row in rows if not _has_more(row)]
        at = [(_site(scene, row), request_of(row)) for row in plain]
        visited = [(site, request) for site, request in at if site is not None]
        found = rehearse(scene, plan, visited=visited)
        if found.stale:
            continue
        tried += 1
        touched = _touched(found)
        then = Follower(after(survey, simulated(survey, plan)))
        kept = []
        try:
            for operation in plan:
                kept.append(operation.keep(hands))
                operation.forward(hands, kept[-1])
                report.kinds[operation.what] += 1
            done = Follower(take_survey(spec, [str(world.base)]))
            now = _asked(kind, world, [*rows, *touched])
        finally:
            for operation, was in reversed(list(zip(plan, kept, strict=False))):
                operation.backward(hands, was)
        about = f"{kind} {world.seed}, {plan}"
        report.wrong += [f"{about}: {each}" for each in _undone(shape, _shape(world))]
        report.plans += 1
        if now is None:
            if not any(engine.breaks for engine in then.engines):
                report.wrong.append(f"{about}: it does not start")
            continue
        report.touched += len(found.addresses)
        for row, seen in zip([*rows, *touched], now, strict=True):
            request = request_of(row)
            answer, again = then.brief(request), done.brief(request)
            if answer != again:
                report.wrong.append(f"{about}, {row}: simulated {answer}, done {again}")
            report.asked += 1
            report.decided += bool(answer["decided"])
            if answer["decided"]:
                found_wrong = differences(answer, seen)
                report.wrong += [f"{about}, {row}: {each}" for each in found_wrong]
        told = {(each.url, each.to) for each in found.addresses}
        asked = {(request.url, request.to) for _, request in visited}
        for row, was_seen, is_seen in zip(rows, before, now, strict=False):
            request = request_of(row)
            here = request.url, request.to
            if here in asked and here not in told and was_seen.status != is_seen.status:
                report.wrong.append(f"{about}, {row}: said to stay, {was_seen}, then {is_seen}")


def _touched(found: Rehearsal) -> list[dict[str, object]]:
    """What is said to fare differently, asked from the server itself."""
    plain = [each for each in found.addresses if each.url.startswith("http://") and each.to]
    return [
        {"url": each.url, "to": each.to, "from": "::1" if ":" in each.to else "127.0.0.1"}
        for each in plain[:MOST_TOUCHED]
    ]


def _has_more(row: dict[str, object]) -> bool:
    """Whether a request says more than its address: others of the same one may fare otherwise."""
    return bool(set(row) - {"id", "url", "to", "from"})


def _site(scene: Scene, row: dict[str, object]):  # type: ignore[no-untyped-def]
    """The site that answers a request before the plan."""
    declared = scene.follower.brief(request_of(row))["site"]
    if not isinstance(declared, dict):
        return None
    return next(
        (site for site in scene.sites if str(site.summary.place) == declared["declared_at"]), None
    )


def _asked(kind: str, world: World, rows: Sequence[dict[str, object]]) -> list[Seen] | None:
    """What the server says; None where it does not start."""
    try:
        with ENGINES[kind][1](world.config, ADDRESSES[0], PORTS[0]):
            return [ask(row) for row in rows]
    except RuntimeError:
        return None


def drawn(kind: str, survey: Survey, world: World, rng: random.Random) -> list[Operation]:
    """Up to five operations of all kinds that change files, each as the server is by then."""
    trial, plan = Trial(survey), list[Operation]()
    own = ("/www/", "/home/", "/themed/")
    tops = tuple(f"{world.base}{folder}" for folder in own)
    for _ in range(rng.randint(1, 5)):
        paths = [p for p in survey.files.paths if p.startswith(tops) and trial.entry(p) is not None]
        operation = _one(kind, survey, trial, world, rng.choice(paths), rng)
        if operation is not None:
            plan.append(operation)
            trial.add(operation.simulate(trial))
    return plan


def _one(
    kind: str, survey: Survey, trial: Trial, world: World, path: str, rng: random.Random
) -> Operation | None:
    entry = trial.entry(path)
    assert entry is not None
    account = survey.account_by_name[rng.choice(NAMES)]
    folder = path if entry.kind is Kind.DIR else path.rpartition("/")[0]
    new = f"{folder}/{rng.choice(['start.txt', 'index.html', 'new.html', 'x'])}"
    config = f"{world.base}/sites/{rng.choice(world.sites)}.conf"
    ways: list[Callable[[], Operation]] = [
        lambda: Rename.of(trial, path, f"{path}-moved"),
        lambda: Remove.of(trial, path),
        lambda: Folder.of(survey, new, "0755", account),
        lambda: Link(new, rng.choice(["../x", ".", "/srv", f"{world.base}/www"])),
        lambda: File.of(trial, new, b"more", rng.choice(["0644", "0600"]), account.uid),
        lambda: File.of(trial, config, _with_line(kind, survey.texts[config], rng)),
        lambda: Remove.of(trial, config),
    ]
    if kind == "httpd":
        rules = rng.choice(OVERRIDES).encode()
        ways += [lambda: File.of(trial, f"{folder}/.htaccess", rules)] * 2
    if entry.kind is not Kind.LINK:
        change = rng.choice(["o+rx", "go-rwx", "u-r", "0751", "g+rx", "o-x"])
        ways += [
            lambda: Mode.of(entry, change),
            lambda: Owner.of(trial, path, account),
            lambda: OwningGroup.of(trial, path, survey.groups[rng.randrange(len(survey.groups))]),
            lambda: AclGrant.of(survey, entry, f"user:{rng.choice(NAMES)}:r-x"),
            lambda: AclGrant.of(survey, entry, "user:www-data:rwx"),
        ] * 2
    try:
        return rng.choice(ways)()
    except (LookupError, ValueError):
        # There is something already, or nothing is known of it.
        return None


def _with_line(kind: str, text: bytes, rng: random.Random) -> bytes:
    """A site's text with one line more before its end."""
    end = b"</VirtualHost>" if kind == "httpd" else b"}"
    head, mark, tail = text.rpartition(end)
    return head + rng.choice(OF_A_SITE[kind]).encode() + b"\n" + mark + tail


def _shape(world: World) -> dict[str, tuple[object, ...]]:
    """All that lies in a world, but for what the server itself writes: kind, rights, attributes,
    bytes.
    """
    found: dict[str, tuple[object, ...]] = {}
    for top, folders, files in os.walk(world.base):
        if Path(top) == world.base:
            folders[:] = [name for name in folders if name not in ("logs", "tmp")]
        for name in (*folders, *files):
            path = os.path.join(top, name)
            info = os.lstat(path)
            if path == f"{world.base}/pid" or path.endswith(".pid"):
                continue
            link = os.path.islink(path)
            held = os.readlink(path) if link else None
            if held is None and os.path.isfile(path):
                held = Path(path).read_bytes().hex()
            marks = [] if link else sorted((n, os.getxattr(path, n)) for n in os.listxattr(path))
            found[path] = (info.st_mode, info.st_uid, info.st_gid, held, *marks)
    return found


def _undone(was: dict[str, tuple[object, ...]], now: dict[str, tuple[object, ...]]) -> list[str]:
    paths = sorted(path for path in {*was, *now} if was.get(path) != now.get(path))
    return [f"not as before: {path} {was.get(path)} {now.get(path)}" for path in paths[:5]]
