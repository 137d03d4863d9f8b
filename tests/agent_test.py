"""The agent: killed at any point, met by faults and by others, it leaves one of two states."""

from __future__ import annotations

import json
import os
import pwd
import random
import shutil
import signal
import socket
import sqlite3
import stat
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from types import FrameType
from typing import Any

import pytest

from ecumen.operations import Operation, Plan, PlanGround, done
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.mode import Mode
from ecumen.operations.reload import Reload
from ecumen.operations.switch import Switch
from ecumen.operations.trial import Trial
from ecumen_agent.applier import Applier, Outcome, RefusedError
from ecumen_agent.bounds import Bounds
from ecumen_agent.client import call
from ecumen_agent.ledger import Ledger, State
from ecumen_agent.protocol import AgentError
from ecumen_machine.hands import MachineHands
from tests.operations_test import chosen, grown, shapes, surveyed

pytestmark = pytest.mark.server


class Anywhere(Bounds):
    def check(self, operation: Operation) -> None: ...


class Hands(MachineHands):
    """Its aside, and the switches of the policy, in a folder of the test."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def aside(self, path: str) -> str:
        return f"{self.folder}/aside/{Path(super().aside(path)).name}"

    def switch(self, name: str) -> bool | None:
        return (self.folder / name).exists()

    def turn(self, name: str, on: bool) -> None:
        if on:
            (self.folder / name).touch()
        else:
            (self.folder / name).unlink()


def applier(folder: Path) -> Applier:
    folder.mkdir(exist_ok=True)
    return Applier(Ledger(f"{folder}/ledger.db"), Hands(folder), Anywhere(), str(folder))


def planned(*operations: Operation) -> Plan:
    return Plan("a plan", PlanGround("quay", 0), operations)


def state_of(top: Path, folder: Path) -> tuple[dict[str, Any], bool]:
    return shapes(surveyed(top)), (folder / "reads").exists()


def random_plan(rng: random.Random, top: Path) -> Plan:
    grown(top, rng)
    before = surveyed(top)
    draft, operations = Trial(before), []
    for _ in range(rng.randint(1, 4)):
        operation = chosen(rng, top, before, draft)
        if isinstance(operation, Switch):
            operation = Switch(operation.name, "off", "on")
        draft.add(operation.simulate(draft))
        operations.append(operation)
    return planned(*operations)


def of_system(call: object) -> bool:
    """Whether what is called may ask the kernel for something."""
    of = getattr(call, "__self__", None)
    return isinstance(of, sqlite3.Connection) or getattr(of, "__name__", "") in ("posix", "fcntl")


def after(top: Path, folder: Path, plan: Plan, point: int) -> int:
    """Applies a plan in a process that is killed at one of its calls. Returns how many there were
    where it ended before.
    """
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        calls = 0

        def count(frame: FrameType, event: str, what: object) -> None:
            nonlocal calls
            if event in ("c_call", "c_return") and of_system(what):
                calls += 1
                if calls == point:
                    os.kill(os.getpid(), signal.SIGKILL)

        one = applier(folder)
        sys.setprofile(count)
        one.apply(plan, "test")
        sys.setprofile(None)
        os.write(write, str(calls).encode())
        os._exit(0)
    os.close(write)
    os.waitpid(child, 0)
    with open(read) as stream:
        return int(stream.read() or 0)


def test_killed_at_any_call_it_leaves_one_of_two_states(
    tmp_path: Path, seed: int, kills: int
) -> None:
    """Between any two calls into the system, of random plans: `--kills` points of each of as many
    plans, all of them where it is 0.
    """
    found = Counter[State]()
    for number in range(2 * kills):
        rng = random.Random(f"{seed}/{number}")
        top, kept, folder = tmp_path / "t", tmp_path / "kept", tmp_path / "state"
        plan = random_plan(rng, top)
        subprocess.run(["cp", "-a", top, kept], check=True)
        before = state_of(top, folder)
        count = after(top, folder, plan, 0)
        then = state_of(top, folder)
        points = list(range(1, count + 1))
        for point in sorted(rng.sample(points, min(20 * kills, count))):
            shutil.rmtree(top)
            shutil.rmtree(folder)
            subprocess.run(["cp", "-a", kept, top], check=True)
            assert after(top, folder, plan, point) == 0, "it was not killed"
            one = applier(folder)
            (*outcomes,) = one.recover()
            one.ledger.close()
            state = outcomes[0].state if outcomes else State.REFUSED
            found[state] += 1
            now = state_of(top, folder)
            if outcomes:
                assert now == (then if state is State.DONE else before), (number, point, plan)
            else:
                # Not begun yet, or ended already.
                assert now in (before, then), (number, point, plan)
            if now == before != then:
                assert not list((folder / "aside").glob("*")), (number, point, plan)
        for each in (top, kept, folder):
            shutil.rmtree(each)
    assert found[State.TAKEN_BACK]


def test_what_is_done_is_as_rehearsed_and_comes_back_whole(tmp_path: Path, seed: int) -> None:
    for number in range(30):
        rng = random.Random(f"{seed}-{number}")
        top, folder = tmp_path / f"t{number}", tmp_path / f"state{number}"
        one = None
        plan = random_plan(rng, top)
        one = applier(folder)
        survey = surveyed(top)
        before = state_of(top, folder)
        outcome = one.apply(plan, "test")
        assert outcome.state is State.DONE, outcome
        assert shapes(surveyed(top)) == shapes(done(survey, plan.operations)), plan
        if outcome.entry:
            again = one.apply(plan, "test")
            assert (again.entry, again.state) in ((0, State.DONE), (again.entry, State.REFUSED))
            assert one.undo(outcome.entry).state is State.UNDONE
            assert state_of(top, folder) == before, plan
        one.ledger.close()


class Failing(Hands):
    """A disk that fails at one of the changes, and may fail again when they are taken back."""

    def __init__(self, folder: Path, error: int, at: int, again: bool) -> None:
        super().__init__(folder)
        self.error, self.left, self.again = error, at, again

    def __getattribute__(self, name: str) -> Any:
        found = super().__getattribute__(name)
        changes = ("set_", "make_", "write", "rename", "put_aside", "swap", "remove", "turn")
        if not name.startswith(changes):
            return found

        def change(*values: Any) -> Any:
            self.left -= 1
            if self.left == 0 or (self.left < 0 and self.again):
                raise OSError(self.error, os.strerror(self.error), "/srv/x")
            return found(*values)

        return change


@pytest.mark.parametrize("name", ["ENOSPC", "EROFS", "EPERM", "ELOOP", "ENOENT", "EIO", "EMLINK"])
def test_where_the_disk_fails_it_is_taken_back(tmp_path: Path, seed: int, name: str) -> None:
    import errno

    states = Counter[State]()
    for number in range(12):
        rng = random.Random(f"{seed}-{name}-{number}")
        top, folder = tmp_path / f"t{number}", tmp_path / f"state{number}"
        plan = random_plan(rng, top)
        before = state_of(top, folder)
        one = applier(folder)
        at, again = rng.randint(1, 3), rng.random() < 0.3
        one.hands = Failing(folder, getattr(errno, name), at, again)
        outcome = one.apply(plan, "test")
        states[outcome.state] += 1
        if outcome.state is State.GOING_BACK:
            # The disk is whole again.
            one.hands = Hands(folder)
            assert [each.state for each in one.recover()] == [State.TAKEN_BACK]
        if outcome.state is not State.DONE:
            assert state_of(top, folder) == before, plan
        one.ledger.close()
    assert states[State.TAKEN_BACK]


def test_nothing_is_done_where_the_server_is_not_as_expected(tmp_path: Path) -> None:
    one, file = applier(tmp_path / "state"), tmp_path / "file"
    file.write_text("one")
    file.chmod(0o644)
    path = str(file)
    first = File.of(one.hands, path, b"two")
    plan = planned(Mode(path, "0644", "0600"), first)
    file.write_text("three")
    outcome = one.apply(plan, "test")
    assert outcome.state is State.REFUSED
    assert "put another content" in outcome.said
    assert file.read_text() == "three"
    assert file.stat().st_mode & 0o777 == 0o644


def test_what_later_ones_rest_on_is_not_taken_back(tmp_path: Path) -> None:
    one, hands = applier(tmp_path / "state"), Hands(tmp_path / "state")
    new = f"{tmp_path}/new"
    made = one.apply(planned(Folder(new, "0755", 0, 0)), "test").entry
    inside = one.apply(planned(File.of(hands, f"{new}/a", b"x")), "test").entry
    elsewhere = one.apply(planned(Folder(f"{tmp_path}/newer", "0755", 0, 0)), "test").entry
    with pytest.raises(RefusedError, match=f"take back {inside} first"):
        one.undo(made)
    assert one.undo(elsewhere).state is State.UNDONE
    Path(f"{new}/a").write_text("somebody's")
    with pytest.raises(RefusedError, match="no longer as it was left"):
        one.undo(inside)
    Path(f"{new}/a").write_text("x")
    assert one.undo(inside).state is State.UNDONE
    assert one.undo(made).state is State.UNDONE
    assert not Path(new).exists()


def test_what_nobody_keeps_in_time_is_taken_back(tmp_path: Path) -> None:
    now, state = 100.0, tmp_path / "state"
    hands, made = Hands(state), [f"{tmp_path}/{name}" for name in "abc"]
    state.mkdir()
    ledger = Ledger(f"{state}/ledger.db")
    one = Applier(ledger, hands, Anywhere(), str(state), clock=lambda: now)
    plans = [planned(Folder(each, "0755", 0, 0)) for each in made]
    assert one.apply(plans[0], "test", within=60).state is State.DONE
    now = 159.0
    assert one.lapse() == []
    # What another plan would rest on might go by itself.
    with pytest.raises(RefusedError, match="entry 1 waits"):
        one.apply(plans[1], "test")
    with pytest.raises(RefusedError, match="entry 2 does not wait"):
        one.keep(2)
    now = 160.0
    (outcome,) = one.lapse()
    assert outcome.state is State.TAKEN_BACK
    assert not Path(made[0]).exists()
    kept = one.apply(plans[1], "test", within=60)
    assert one.keep(kept.entry).state is State.DONE
    now = 300.0
    assert one.lapse() == []
    assert Path(made[1]).exists()
    # Whoever starts next ends it, and what somebody else changed since stays as it is.
    one.apply(plans[2], "test", within=60)
    Path(made[2]).chmod(0o700)
    now = 400.0
    (outcome,) = one.recover()
    assert (outcome.state, Path(made[2]).exists()) == (State.DONE, True)
    assert "Nobody kept it" in outcome.said
    assert ledger.waiting() is None


def test_a_ledger_of_before_is_read(tmp_path: Path) -> None:
    path = f"{tmp_path}/ledger.db"
    Ledger(path).begin(planned(Folder("/srv/a", "0755", 0, 0)), "ines", 7)
    base = sqlite3.connect(path)
    base.execute("alter table entries drop column until")
    base.commit()
    (record,) = Ledger(path).latest(9)
    assert (record.who, record.until) == ("ines", None)


def test_of_two_at_once_one_is_refused(tmp_path: Path) -> None:
    one, other = applier(tmp_path / "state"), applier(tmp_path / "state")
    began, go_on = threading.Event(), threading.Event()

    def wait(doing: str, done: int, total: int) -> None:
        began.set()
        assert go_on.wait(10)

    said: list[Outcome] = []
    plan = planned(Folder(f"{tmp_path}/a", "0755", 0, 0))
    thread = threading.Thread(target=lambda: said.append(one.apply(plan, "test", wait)))
    thread.start()
    assert began.wait(10)
    with pytest.raises(RefusedError, match="another change"):
        other.apply(planned(Folder(f"{tmp_path}/b", "0755", 0, 0)), "test")
    go_on.set()
    thread.join()
    assert said[0].state is State.DONE
    assert not Path(f"{tmp_path}/b").exists()


def test_an_owner_who_changes_it_meanwhile_is_noticed(tmp_path: Path) -> None:
    """Between the look and the change: what was taken away is compared, and comes back."""
    file = tmp_path / "file"
    file.write_text("one")
    hands = Hands(tmp_path / "state")
    (tmp_path / "state").mkdir()

    class Hasty(Hands):
        def write(self, *values: Any) -> None:
            file.write_text("the owner's")
            super().write(*values)

    one = applier(tmp_path / "state")
    one.hands = Hasty(tmp_path / "state")
    outcome = one.apply(planned(File.of(hands, str(file), b"two")), "test")
    assert outcome.state is State.TAKEN_BACK
    assert "somebody else" in outcome.said
    assert file.read_text() == "the owner's"


def test_what_is_written_anew_no_longer_runs_as_its_owner(tmp_path: Path) -> None:
    """The right was given to what it held, and not to what somebody asks to be put there."""
    one, file = applier(tmp_path / "state"), tmp_path / "file"
    file.write_text("one")
    file.chmod(0o6755)
    os.setxattr(file, "security.capability", b"\x01\0\0\x02\xff" + bytes(15))
    plan = planned(File.of(one.hands, str(file), b"two"))
    entry = one.apply(plan, "test").entry
    assert stat.S_IMODE(file.stat().st_mode) == 0o755
    assert "security.capability" not in os.listxattr(file)
    assert one.undo(entry).state is State.UNDONE
    assert stat.S_IMODE(file.stat().st_mode) == 0o6755
    assert "security.capability" in os.listxattr(file)


def test_an_empty_file_comes_back_empty_and_one_that_was_not_written_stays(tmp_path: Path) -> None:
    one, file = applier(tmp_path / "state"), tmp_path / "file"
    file.write_text("")
    entry = one.apply(planned(File.of(one.hands, str(file), b"two")), "test").entry
    assert one.undo(entry).state is State.UNDONE
    assert file.read_text() == ""
    # Nothing aside is not an empty file aside.
    plan = File.of(one.hands, str(file), b"three")
    file.write_text("three")
    plan.backward(one.hands, ((str(file), one.hands.aside(str(file))),))
    assert file.read_text() == "three"


def test_one_owner_holds_up_neither_the_start_nor_the_others(tmp_path: Path) -> None:
    """Stopped in between; then the owner of the second folder puts a link on the way to it."""
    one = applier(tmp_path / "state")
    for name in ("first", "second"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "page").write_text("")
        (tmp_path / name / "page").chmod(0o600)
    steps = [Mode(f"{tmp_path}/{name}/page", "0600", "0644") for name in ("first", "second")]
    number = one.ledger.begin(planned(*steps), "test", 0)
    for at, step in enumerate(steps):
        one.ledger.step(number, at, step.keep(one.hands))
        step.forward(one.hands, ())
    (tmp_path / "first" / "page").chmod(0o644)
    (tmp_path / "second").rename(tmp_path / "away")
    (tmp_path / "second").symlink_to("away")
    (outcome,) = one.recover()
    assert outcome.state is State.GOING_BACK
    assert stat.S_IMODE((tmp_path / "first" / "page").stat().st_mode) == 0o600
    # Others' plans go on, and one that leads over the link is refused in words.
    assert one.apply(planned(Folder(f"{tmp_path}/new", "0755", 0, 0)), "test").state is State.DONE
    assert one.apply(planned(steps[1]), "test").state is State.REFUSED
    (tmp_path / "second").unlink()
    (tmp_path / "away").rename(tmp_path / "second")
    assert [each.state for each in one.recover()] == [State.TAKEN_BACK]


def test_a_plan_that_only_reloads_is_done_each_time(tmp_path: Path) -> None:
    one, told = applier(tmp_path / "state"), []

    class Telling(Hands):
        def reload(self, engine: str) -> None:
            told.append(engine)

    one.hands = Telling(tmp_path / "state")
    one._try_out = lambda engine, change, pages: None
    for _ in range(2):
        assert one.apply(planned(Reload("nginx")), "test").state is State.DONE
    assert told == ["nginx", "nginx"]


# --- over the socket ---


@pytest.fixture
def agent(tmp_path: Path) -> Iterator[str]:
    # Where other accounts come, too.
    top = Path(tempfile.mkdtemp(dir="/tmp"))
    top.chmod(0o755)
    path = f"{top}/sock"
    bounds = tmp_path / "bounds.toml"
    bounds.write_text(f'grounds = ["{tmp_path}/sites"]\n')
    bounds.chmod(0o600)
    run = "from ecumen_cli.main import main; main()"
    process = subprocess.Popen(
        [sys.executable, "-c", run, "agent", "--socket", path, "--state", f"{tmp_path}/state",
         "--bounds", str(bounds), "--account", "games"],
        stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert process.stderr is not None
    assert "listens" in process.stderr.readline()
    yield path
    process.kill()
    process.communicate()
    shutil.rmtree(top)


def as_account(uid: int, path: str, text: bytes) -> bytes:
    """What an account hears that says something to the agent."""
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        os.setgroups([])
        os.setgid(pwd.getpwuid(uid).pw_gid)
        os.setuid(uid)
        heard = b""
        try:
            with socket.socket(socket.AF_UNIX) as connection:
                connection.connect(path)
                connection.sendall(text)
                connection.shutdown(socket.SHUT_WR)
                while block := connection.recv(1 << 16):
                    heard += block
        except OSError as error:
            heard = str(error).encode()
        os.write(write, heard)
        os._exit(0)
    os.close(write)
    os.waitpid(child, 0)
    with open(read, "rb") as stream:
        return stream.read()


def test_plans_go_over_the_socket_and_who_asked_stands_in_the_ledger(
    agent: str, tmp_path: Path
) -> None:
    sites = tmp_path / "sites"
    (sites / "a").mkdir(parents=True)
    (sites / "a").chmod(0o750)
    plan = planned(Mode(f"{sites}/a", "0750", "0755"))
    outcome = call("apply", {"plan": plan.write(), "who": "ines"}, path=agent)
    assert outcome == {"entry": 1, "state": "done", "said": "1 step done."}
    again = call("apply", {"plan": plan.write()}, path=agent)
    assert again["entry"] == 0
    beyond = planned(Mode("/etc/shadow", "0640", "0644"))
    with pytest.raises(AgentError, match="in no site's ground"):
        call("apply", {"plan": beyond.write()}, path=agent)
    (entry,) = call("ledger", {}, path=agent)
    assert (entry["who"], entry["state"]) == ("ines (account 0)", "done")
    assert call("undo", {"entry": 1}, path=agent)["state"] == "undone"
    assert (sites / "a").stat().st_mode & 0o777 == 0o750
    # Nobody keeps it: by itself it is as it was.
    call("apply", {"plan": plan.write(), "within": 1}, path=agent)
    until = time.monotonic() + 30
    while (sites / "a").stat().st_mode & 0o777 != 0o750 and time.monotonic() < until:
        time.sleep(0.1)
    assert call("ledger", {}, path=agent)[0]["state"] == "taken back"
    with pytest.raises(AgentError, match="within: at most"):
        call("apply", {"plan": plan.write(), "within": 10**6}, path=agent)


def test_what_is_given_up_half_way_is_taken_back(agent: str, tmp_path: Path) -> None:
    sites = tmp_path / "sites"
    for number in range(60):
        (sites / f"s{number}").mkdir(parents=True)
        (sites / f"s{number}").chmod(0o750)
    plan = planned(*(Mode(f"{sites}/s{number}", "0750", "0755") for number in range(60)))
    seen = []

    def step(doing: str, done: int, total: int) -> None:
        seen.append(done)
        if done == 5:
            assert call("cancel", {}, path=agent) == {}

    outcome = call("apply", {"plan": plan.write()}, step, path=agent)
    assert (outcome["state"], outcome["said"]) == ("taken back", "it was cancelled")
    assert 5 < len(seen) < 60
    assert {path.stat().st_mode & 0o777 for path in sites.iterdir()} == {0o750}
    # It was that one alone that was given up.
    assert call("apply", {"plan": plan.write()}, path=agent)["state"] == "done"


def test_nobody_else_is_answered_and_nonsense_is(agent: str) -> None:
    asked = b'{"jsonrpc": "2.0", "id": 1, "method": "ledger"}\n'
    assert b"Permission denied" in as_account(65534, agent, asked)
    assert json.loads(as_account(5, agent, asked)) == {"jsonrpc": "2.0", "id": 1, "result": []}
    os.chmod(agent, 0o666)
    assert "may not ask" in json.loads(as_account(65534, agent, asked))["error"]["message"]
    wrong = [
        b"{", b"[]", b"7", b'{"jsonrpc": "1.0"}', b'{"jsonrpc": "2.0", "method": 7}',
        b'{"jsonrpc": "2.0", "method": "run"}', b'{"jsonrpc": "2.0", "method": "undo"}',
        b'{"jsonrpc": "2.0", "method": "apply", "params": {"plan": "{}"}}',
        b'{"jsonrpc": "2.0", "method": "apply", "params": {"plan": 1}}', b"[" * 100_000, b"\xff",
        b'{"jsonrpc": "2.0", "method": "undo", "params": {"entry": 1e400}}',
        b'{"jsonrpc": "2.0", "method": "undo", "params": {"entry": true}}',
    ]  # fmt: skip
    said = as_account(5, agent, b"\n".join(wrong) + b"\n").splitlines()
    assert len(said) == len(wrong)
    assert all(json.loads(each)["error"]["code"] < 0 for each in said), said
