"""Work spread over processes comes to the same, whatever happens to one of them."""

from __future__ import annotations

import os
import threading

import psutil
import pytest

from ecumen.audit import audit
from ecumen.audit.scene import Scene
from ecumen.passage import Follower
from ecumen_demo import Moment, demo_survey
from ecumen_machine import spread as spreading
from ecumen_machine.spread import TOGETHER, spread

# Beside other tests there is a second thread.
pytestmark = pytest.mark.alone
COUNT = 40 * TOGETHER + 7


@pytest.fixture(autouse=True)
def _three_processors(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "sched_getaffinity", lambda process: {0, 1, 2})


def _nothing(done: int) -> None:
    pass


def test_everything_is_worked_out_once_and_stands_in_its_place() -> None:
    told: list[int] = []
    found = spread(lambda number: (number * number, os.getpid()), COUNT, told.append)
    assert [square for square, _ in found] == [number * number for number in range(COUNT)]
    assert told == sorted(told)
    # What one process took, no other did: each of its parts is whole.
    by = [process for _, process in found]
    assert all(len(set(by[at : at + TOGETHER])) == 1 for at in range(0, COUNT, TOGETHER))


def test_what_a_process_ends_at_is_worked_out_here() -> None:
    here = os.getpid()

    def work(number: int) -> int:
        if os.getpid() != here:
            os._exit(9)
        return -number

    assert spread(work, COUNT, _nothing) == [-number for number in range(COUNT)]


def test_what_fails_fails_here_as_it_does_in_one_process() -> None:
    def work(number: int) -> int:
        return 1 // (number - 700)

    before = psutil.Process().children()
    with pytest.raises(ZeroDivisionError):
        spread(work, COUNT, _nothing)
    assert psutil.Process().children() == before


def test_with_a_second_thread_there_is_one_process() -> None:
    done = threading.Event()
    other = threading.Thread(target=done.wait)
    other.start()
    try:
        found = spread(lambda number: os.getpid(), COUNT, _nothing)
    finally:
        done.set()
        other.join()
    assert set(found) == {os.getpid()}


@pytest.mark.parametrize("count", [0, 1, TOGETHER])
def test_little_work_is_done_here(count: int) -> None:
    found = spread(lambda number: (number, os.getpid()), count, _nothing)
    assert found == [(number, os.getpid()) for number in range(count)]


def test_an_audit_by_several_processes_finds_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spreading, "TOGETHER", 3)
    monkeypatch.setattr(spreading, "_FEWEST", 1)
    follower = Follower(demo_survey(Moment.NOW))
    whole, parted = Scene(follower), Scene(follower)
    forked = []
    fork = os.fork
    monkeypatch.setattr(os, "fork", lambda: forked.append(1) or fork())  # type: ignore[func-returns-value]
    parted.look(spread, in_words=True)
    assert len(forked) == 2
    assert parted.sites == whole.sites
    assert [parted.front(site) for site in parted.sites] == [
        whole.front(site) for site in whole.sites
    ]
    assert [parted.page(site) for site in parted.sites] == [
        whole.page(site) for site in whole.sites
    ]
    assert audit(parted).findings == audit(whole).findings
