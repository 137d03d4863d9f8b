"""Obstacles in a row: mend the first for real, and the next is the one that was listed second."""

from __future__ import annotations

import subprocess

import pytest

from ecumen.passage import Follower, Passage
from ecumen.passage.request import request_of
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.agreement import ENGINES, world_on_disk
from tests.worlds.asking import requests
from tests.worlds.live import ask
from tests.worlds.trees import ADDRESSES, PORTS, World

pytestmark = pytest.mark.server

# What opens each kind of obstacle to the worker, whoever owns the path.
MENDS = {"ladder.shut": "a+x", "ladder.unreadable": "a+r", "ladder.unlistable": "a+r"}


def mend(path: str, code: str) -> None:
    subprocess.run(["setfacl", "-b", path], check=True)
    subprocess.run(["chmod", MENDS[code], path], check=True)


def listed(found: Passage) -> list[tuple[str, str | None]]:
    return [(o.code, o.evidence[0].path if o.evidence else None) for o in found.obstacles]


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ENGINES)
def test_the_next_obstacle_is_the_one_listed_second(
    kind: str, seed: int, request: pytest.FixtureRequest
) -> None:
    wanted = int(request.config.getoption("--chains"))
    steps = 0
    for number in range(20):
        steps += _world(kind, seed + number, wanted - steps)
        if steps >= wanted:
            break
    assert steps >= wanted


def _world(kind: str, seed: int, wanted: int) -> int:
    with world_on_disk(kind, seed) as world:
        for folder in (p for p in (world.base / "www").rglob("*") if p.is_dir()):
            folder.chmod(folder.stat().st_mode & 0o7700)
        with ENGINES[kind][1](world.config, ADDRESSES[0], PORTS[0]):
            return _chains(kind, world, wanted)


def _chains(kind: str, world: World, wanted: int) -> int:
    """Mends its way through the world; returns how many steps were taken."""
    specs = [EngineSpec(kind, str(world.config))]
    follower = Follower(take_survey(specs, [str(world.base)]))
    steps = 0
    for row in requests(world, 1500):
        found = follower.follow(request_of(row))
        while found.decided and len(found.obstacles) > 1 and found.obstacles[0].code in MENDS:
            first = found.obstacles[0]
            path = first.evidence[0].path
            assert path is not None
            assert found.status == ask(row).status
            mend(path, first.code)
            follower = Follower(take_survey(specs, [str(world.base)]))
            after = follower.follow(request_of(row))
            assert listed(after) == listed(found)[1:], (row, listed(found), listed(after))
            assert after.status == ask(row).status
            found = after
            steps += 1
        if steps >= wanted:
            break
    return steps
