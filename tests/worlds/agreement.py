"""Asks Ecumen and the real server the same, and lists where they differ."""

from __future__ import annotations

import shutil
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ecumen.passage import Follower
from ecumen.passage.request import request_of
from ecumen_machine import EngineSpec, take_survey
from tests.worlds import httpd_world, nginx_world
from tests.worlds.accounts import accounts
from tests.worlds.asking import requests
from tests.worlds.live import Seen, ask, httpd, nginx
from tests.worlds.trees import ADDRESSES, PORTS, World


@dataclass
class Tally:
    """Of one feature. wrong: answers that the server contradicts."""

    asked: int = 0
    decided: int = 0
    wrong: int = 0


@dataclass
class Report:
    """asked = decided + unsure; statuses: of the real server. features: by engine and feature.

    short: answers that were given without the whole evaluation.
    """

    asked: int = 0
    decided: int = 0
    worlds: int = 0
    short: int = 0
    wrong: list[str] = field(default_factory=list)
    statuses: Counter[int | None] = field(default_factory=Counter)
    unsure: Counter[str] = field(default_factory=Counter)
    features: dict[tuple[str, str], Tally] = field(default_factory=dict)

    def table(self) -> str:
        """The features as a table in Markdown."""
        lines = [
            "| engine | feature | asked | decided | wrong |",
            "| --- | --- | --- | --- | --- |",
        ]
        for (engine, feature), tally in sorted(self.features.items()):
            share = f"{tally.decided} ({100 * tally.decided / tally.asked:.1f} %)"
            lines.append(f"| {engine} | {feature} | {tally.asked} | {share} | {tally.wrong} |")
        share = f"{self.decided} ({100 * self.decided / self.asked:.1f} %)"
        lines.append(f"| both | all | {self.asked} | {share} | {len(self.wrong)} |")
        return "\n".join(lines)


# By kind of engine: how a world is built and how the server is run.
ENGINES: dict[str, tuple[type[httpd_world.Builder | nginx_world.Builder], Any]] = {
    "httpd": (httpd_world.Builder, httpd),
    "nginx": (nginx_world.Builder, nginx),
}


def differences(answer: dict[str, object], seen: Seen) -> list[str]:
    """What of a decided answer the server contradicts."""
    site = answer["site"]
    declared = str(site["declared_at"]) if isinstance(site, dict) else ""
    number = Path(declared.rpartition(":")[0]).stem if "/sites/" in declared else "main"
    predicted = {
        "status": answer["status"],
        "site": number,
        "type": answer["content_type"],
        "location": answer["location"],
    }
    observed = {
        "status": seen.status,
        "site": seen.headers.get("x-site", number),
        "type": seen.headers.get("content-type"),
        "location": seen.headers.get("location"),
    }
    if answer["unsure_because"]:
        # Status and site are certain; what is null is said to be unknown.
        predicted = {key: value for key, value in predicted.items() if value is not None}
    return [
        f"{key}: predicted {predicted[key]!r}, observed {observed[key]!r}"
        for key in predicted
        if predicted[key] != observed[key]
    ]


def run_world(kind: str, seed: int, count: int, report: Report) -> None:
    """One generated world: laid out, surveyed, started, asked, removed."""
    run = ENGINES[kind][1]
    report.worlds += 1
    with world_on_disk(kind, seed) as world:
        survey = take_survey([EngineSpec(kind, str(world.config))], [str(world.base)])
        assert not survey.gaps
        with run(world.config, ADDRESSES[0], PORTS[0]):
            _ask_all(kind, world, count, Follower(survey), report)


@contextmanager
def world_on_disk(kind: str, seed: int) -> Iterator[World]:
    """A generated world with its accounts, gone again when the block is left."""
    base = Path(f"/srv/ecumen-world-{kind}-{seed}")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir(parents=True)
    base.chmod(0o755)
    try:
        with accounts(base):
            yield ENGINES[kind][0](seed, base).build()
    finally:
        shutil.rmtree(base, ignore_errors=True)


def _ask_all(kind: str, world: World, count: int, follower: Follower, report: Report) -> None:
    lines: Counter[str] = Counter()
    sure = True
    for row in requests(world, count):
        seen = ask(row)
        request = request_of(row)
        answer = follower.brief(request)
        if follower.short.answer(request) is not None:
            report.short += 1
            if (whole := follower.at_length(request)) != answer:
                report.wrong.append(f"{kind} {world.seed}, {row}: short {answer}, whole {whole}")
        site = answer["site"]
        declared = str(site["declared_at"]) if isinstance(site, dict) else ""
        number = Path(declared.rpartition(":")[0]).stem
        tally = report.features.setdefault((kind, world.feature(number)), Tally())
        report.asked += 1
        tally.asked += 1
        report.statuses[seen.status] += 1
        lines[str(answer["log"])] += 1
        if not answer["decided"]:
            reasons = answer["unsure_because"]
            assert isinstance(reasons, list)
            assert reasons
            report.unsure[reasons[0]["reason"]] += 1
            # Where nothing came back, nothing may have been written either.
            sure = sure and answer["site"] is not None and seen.status is not None
            continue
        report.decided += 1
        tally.decided += 1
        wrong = [f"{kind} {world.seed}, {row}: {one}" for one in differences(answer, seen)]
        report.wrong += wrong
        tally.wrong += bool(wrong)
    for log in world.logs:
        written = _written(log, lines[str(log)])
        if sure and written != lines[str(log)]:
            report.wrong.append(
                f"{kind} {world.seed}: {log.name} has {written} lines, predicted {lines[str(log)]}"
            )


def _written(log: Path, wanted: int) -> int:
    """Lines of a log; a busy server may write the last ones a moment after it has answered."""
    written = 0
    for _ in range(20):
        written = len(log.read_bytes().splitlines()) if log.exists() else 0
        if written >= wanted:
            break
        time.sleep(0.05)
    return written
