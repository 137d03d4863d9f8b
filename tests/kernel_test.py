"""Permission decisions against the kernel: a child process becomes the account and tries."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from ecumen.rights import Subject, Walker
from ecumen.rights.created import created
from ecumen.rights.reach import Reacher
from ecumen.survey import Kind, Survey
from ecumen_machine import capture
from ecumen_machine.files import Collector, entry_of
from ecumen_machine.ground import mounts_here

pytestmark = pytest.mark.server

UIDS = (41001, 41002, 41003)
GIDS = (41001, 41002, 41003, 41004)
SUBJECTS = (
    Subject("a", 41001, frozenset({41001})),
    Subject("b", 41002, frozenset({41002, 41004})),
    Subject("c", 41003, frozenset({41003, 41001, 41004})),
    Subject("stranger", 41009, frozenset({41009})),
    Subject("root", 0, frozenset({0})),
)
NEEDS = ("r", "w", "x", "rw", "rx", "wx", "rwx", "list", "create", "delete")
ACCESS = {"r": os.R_OK, "w": os.W_OK, "x": os.X_OK}
QUESTIONS = 20_000
TREES = 5


def as_subject(subject: Subject, work: Callable[[], Any]) -> Any:
    """Runs `work` in a child that is the subject, with just its groups."""
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.close(reader)
            os.setgroups(sorted(subject.groups))
            os.setgid(min(subject.groups))
            os.setuid(subject.uid)
            with os.fdopen(writer, "w") as stream:
                json.dump(work(), stream)
        finally:
            os._exit(0)
    os.close(writer)
    with os.fdopen(reader) as stream:
        answer = json.load(stream)
    os.waitpid(child, 0)
    return answer


class Tree:
    """A random tree with modes, ACLs and links of every sort."""

    def __init__(self, rng: random.Random, base: Path) -> None:
        self.rng = rng
        self.base = base
        self.folders = [base]
        self.paths: list[str] = []

    def build(self) -> None:
        for number in range(120):
            parent = self.rng.choice(self.folders)
            path = parent / f"{self.rng.choice('abc')}{number}"
            chance = self.rng.random()
            if chance < 0.45:
                path.mkdir()
                self.folders.append(path)
            elif chance < 0.75:
                path.write_text("")
            else:
                self._link(path)
            self.paths.append(str(path))
        for name in self.paths:
            if not os.path.islink(name):
                self._permissions(name)

    def _link(self, path: Path) -> None:
        target = self.rng.choice(
            [*self.paths, "..", ".", "gone", path.name, "../..", "/", str(self.base) + "//"]
        )
        if self.rng.random() < 0.3 and target.startswith(str(self.base)):
            target = os.path.relpath(target, path.parent)
        path.symlink_to(target + self.rng.choice(["", "", "/", "/."]))

    def _permissions(self, path: str) -> None:
        os.chown(path, self.rng.choice(UIDS), self.rng.choice(GIDS))
        generous = 0o111 if os.path.isdir(path) and self.rng.random() < 0.7 else 0
        sticky = 0o1000 if os.path.isdir(path) and self.rng.random() < 0.2 else 0
        os.chmod(path, self.rng.randrange(0o1000) | generous | sticky)
        if self.rng.random() < 0.4:
            entries = [
                f"{self.rng.choice('ug')}:{self.rng.choice(UIDS)}:{self.rng.choice(PERMS)}"
                for _ in range(self.rng.randint(1, 3))
            ]
            if self.rng.random() < 0.6:
                entries.append(f"m::{self.rng.choice(PERMS)}")
            command = ["setfacl", "-n", "-m", ",".join(entries), path]
            subprocess.run(command, check=True, capture_output=True)

    def asked(self) -> tuple[str, str]:
        """A path and what is asked for; deleting is asked of what is there, by its plain path."""
        need = self.rng.choice(NEEDS)
        if need == "delete":
            return self.rng.choice(self.paths), need
        if need == "create" and self.rng.random() < 0.5:
            return f"{self.rng.choice(self.folders)}/fresh", need
        return self.question(), need

    def question(self) -> str:
        path = self.rng.choice(self.paths)
        extra = ["", "", "", "/", "/.", "/..", "/gone", "/../" + os.path.basename(path), "//a1"]
        return path + self.rng.choice(extra)


PERMS = ("---", "r--", "rw-", "r-x", "rwx", "--x", "-w-")


def tried(questions: list[tuple[str, str]]) -> list[bool]:
    """What the kernel lets this very process do."""
    return [_tried(path, need) for path, need in questions]


def _tried(path: str, need: str) -> bool:
    try:
        match need:
            case "list":
                os.scandir(path).close()
            case "create" if os.path.isdir(path):
                made = os.path.join(path, "made")
                os.mkdir(made)
                os.rmdir(made)
            case "create":
                os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY))
                os.unlink(path)
            case "delete":
                # Given another name and its own again: what may be taken away may be renamed.
                aside = os.path.join(os.path.dirname(path), "aside")
                os.rename(path, aside)
                os.rename(aside, path)
            case _:
                return os.access(path, sum(ACCESS[letter] for letter in need))
    except OSError:
        return False
    return True


@contextmanager
def ground(name: str) -> Iterator[Path]:
    """A folder of its own, whatever is mounted or marked in there."""
    base = Path(f"/srv/ecumen-kernel-{name}")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir()
    try:
        yield base
    finally:
        shutil.rmtree(base)


def compared(base: Path, asked: Callable[[], tuple[str, str]], count: int) -> tuple[int, list[Any]]:
    """How many questions were decided, and those that the kernel answers in another way."""
    collector = Collector()
    collector.trees([str(base)])
    assert not collector.gaps
    survey = Survey("x", 0, "test", (), collector.table(), mounts=mounts_here())
    reacher = Reacher(survey)
    wrong, decided = [], 0
    for subject in SUBJECTS:
        questions = [asked() for _ in range(count // len(SUBJECTS))]
        answers = as_subject(subject, lambda asked=questions: tried(asked))
        for (path, need), truth in zip(questions, answers, strict=True):
            mine = reacher.ask(subject, need, path).allowed
            decided += mine is not None
            if mine is not None and mine != truth:
                wrong.append((subject.name, path, need, mine, truth))
    return decided, wrong


def test_what_an_account_may_is_what_the_kernel_says(seed: int) -> None:
    decided = 0
    for number in range(TREES):
        with ground(f"{seed}-{number}") as base:
            tree = Tree(random.Random(f"{seed} {number}"), base)
            tree.build()
            sure, wrong = compared(base, tree.asked, QUESTIONS // TREES)
            assert not wrong, wrong[:10]
            decided += sure
    assert decided > 0.95 * QUESTIONS


def test_mounts_and_marks_forbid_what_the_mode_allows(seed: int) -> None:
    rng = random.Random(seed)
    with ground(f"mounts-{seed}") as base:
        paths = [str(base)]
        for name in ("plain", "marked", "added", "behind"):
            (base / name).mkdir()
            (base / name / "file").write_text("#!/bin/sh\n")
            os.mkfifo(base / name / "pipe")
            for path in (base / name, base / name / "file", base / name / "pipe"):
                path.chmod(0o777)
                paths.append(str(path))
        seen = base / "seen"
        seen.mkdir()
        marks = {"marked": "+i", "marked/file": "+i", "added": "+a", "added/file": "+a"}
        for name, mark in sorted(marks.items(), reverse=True):
            subprocess.run(["chattr", mark, base / name], check=True)
        subprocess.run(["mount", "--bind", base / "behind", seen], check=True)
        options = "remount,bind,ro,noexec"
        subprocess.run(["mount", "-o", options, seen], check=True)
        paths += [str(seen), f"{seen}/file", f"{seen}/pipe", f"{seen}/fresh", f"{base}/added/new"]

        def asked() -> tuple[str, str]:
            need = rng.choice(NEEDS)
            # What the kernel lets a test do with these cannot be taken back by it.
            harmful = need in ("create", "delete")
            return rng.choice([p for p in paths if not (harmful and "/added" in p)]), need

        try:
            decided, wrong = compared(base, asked, 2000)
        finally:
            subprocess.run(["umount", seen], check=True)
            for name, mark in sorted(marks.items()):
                subprocess.run(["chattr", mark.replace("+", "-"), base / name], check=True)
        assert not wrong, wrong[:10]
        assert decided > 1900


def test_what_is_new_gets_what_the_kernel_gives_it(seed: int) -> None:
    rng = random.Random(seed)
    with ground(f"new-{seed}") as base:
        for number in range(60):
            folder = base / str(number)
            folder.mkdir()
            os.chown(folder, rng.choice(UIDS), rng.choice(GIDS))
            folder.chmod(0o777 | rng.choice([0, 0, 0o2000]))
            if rng.random() < 0.6:
                entries = [f"d:{w}::{rng.choice(PERMS)}" for w in "ugo"]
                if rng.random() < 0.6:
                    entries.append(f"d:u:{rng.choice(UIDS)}:{rng.choice(PERMS)}")
                    entries.append(f"d:m::{rng.choice(PERMS)}")
                command = ["setfacl", "-n", "-m", ",".join(entries), str(folder)]
                subprocess.run(command, check=True, capture_output=True)
            subject, mask = rng.choice(SUBJECTS), rng.choice([0o022, 0o077, 0o002, 0])

            def make(folder: Path = folder, mask: int = mask) -> None:
                os.umask(mask)
                os.close(os.open(folder / "file", os.O_CREAT | os.O_WRONLY, 0o666))
                os.mkdir(folder / "folder", 0o777)

            around = entry_of(str(folder))
            as_subject(subject, make)
            for name, kind in (("file", Kind.FILE), ("folder", Kind.DIR)):
                real = entry_of(str(folder / name))
                mine = created(around, subject, min(subject.groups), name, kind, mask)
                for what in ("mode", "uid", "gid", "acl", "default_acl"):
                    assert getattr(mine, what) == getattr(real, what), (number, name, what)


def test_forty_links_work_and_the_next_is_a_loop(tmp_path: Path) -> None:
    (tmp_path / "l0").write_text("")
    for number in range(1, 43):
        (tmp_path / f"l{number}").symlink_to(f"l{number - 1}")
    collector = Collector()
    collector.trees([str(tmp_path)])
    walker = Walker(Survey("x", 0, "test", (), collector.table()), SUBJECTS[-1])
    for number in (39, 40, 41, 42):
        path = str(tmp_path / f"l{number}")
        assert (walker.walk(path).problem is None) == os.path.exists(path)


def test_what_is_collected_is_what_lies_there(tmp_path: Path) -> None:
    (tmp_path / "f").write_text("four")
    (tmp_path / "l").symlink_to("f")
    os.mkfifo(tmp_path / "p")
    os.symlink(b"\xff", os.fsencode(tmp_path) + b"/\xfe")
    command = ["setfacl", "-m", "u:41001:r-x,d:g:41002:rwx", str(tmp_path)]
    subprocess.run(command, check=True)
    collector = Collector()
    collector.trees([str(tmp_path)])
    table = collector.table()
    found = {path: table.get(path) for path in table.paths if path.startswith(f"{tmp_path}/")}
    kinds = {path.rpartition("/")[2]: entry.kind for path, entry in found.items() if entry}
    assert kinds == {"f": Kind.FILE, "l": Kind.LINK, "p": Kind.PIPE, "\udcfe": Kind.LINK}
    top = table.get(str(tmp_path))
    assert top is not None
    assert top.listed
    assert "user:41001:r-x" in [entry.text() for entry in top.acl or ()]
    assert "group:41002:rwx" in [entry.text() for entry in top.default_acl or ()]
    shut = table.get("/")
    assert shut is not None
    assert not shut.listed


def test_a_tree_in_columns_is_what_each_path_tells_by_itself(
    tmp_path: Path, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Over several processes, and over the ends of what they look at at once."""
    monkeypatch.setattr(capture, "ALONE", 200)
    monkeypatch.setattr(capture, "AT_ONCE", 200)
    monkeypatch.setattr(capture, "ENOUGH", 300)
    made = _grown(tmp_path, random.Random(seed))
    collector = Collector()
    collector.trees([str(tmp_path), made[-1], str(tmp_path)])
    assert collector.gaps == []
    table = collector.table()
    assert sorted(path for path in table.paths if path.startswith(f"{tmp_path}/")) == sorted(made)
    assert len(set(table.paths)) == len(table.paths)
    for path in made:
        alone = entry_of(path)
        assert table.get(path) == replace(alone, listed=alone.kind is Kind.DIR)


def test_a_process_that_is_ended_costs_time_alone(
    tmp_path: Path, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(capture, "ALONE", 200)
    monkeypatch.setattr(capture, "ENOUGH", 300)
    made = _grown(tmp_path, random.Random(seed))
    whole, look, here = Collector(), capture._Looker.look, os.getpid()
    whole.trees([str(tmp_path)])
    ended = tmp_path.parent / "ended"

    def ending(self: Any, folders: Any, *, inside: bool) -> Any:
        part = look(self, folders, inside=inside)
        # The second time that a process has looked at something.
        if os.getpid() != here and os.path.exists(ended):
            os.kill(os.getpid(), signal.SIGKILL)
        if os.getpid() != here:
            ended.touch()
        return part

    monkeypatch.setattr(capture._Looker, "look", ending)
    harmed = Collector()
    harmed.trees([str(tmp_path)])
    assert ended.exists()
    table = harmed.table()
    # Above it others work meanwhile, which shows in times and sizes.
    ours, theirs = (
        [
            e if e.path.startswith(f"{tmp_path}/") else replace(e, size=0, mtime=0, ctime=0)
            for e in t
        ]
        for t in (table, whole.table())
    )
    assert ours == theirs
    assert set(made) <= set(table.paths)


def test_what_an_account_cannot_look_into_is_a_gap_for_each_folder(tmp_path: Path) -> None:
    """Taken by somebody who is not root."""
    for path in (tmp_path, *tmp_path.parents[:-2]):
        path.chmod(path.stat().st_mode | 0o055)
    for name, mode in (("open", 0o755), ("unlisted", 0o711), ("shut", 0o700), ("blind", 0o744)):
        (tmp_path / name).mkdir()
        (tmp_path / name / "page").write_text("")
        (tmp_path / name).chmod(mode)

    def survey() -> list[Any]:
        collector = Collector()
        collector.trees([str(tmp_path)])
        told = {entry.path: entry.listed for entry in collector.table()}
        return [[[gap.what, gap.path] for gap in collector.gaps], told]

    gaps, told = as_subject(SUBJECTS[3], survey)
    base = str(tmp_path)
    assert sorted(gaps) == [
        ["folder", f"{base}/shut"],
        ["folder", f"{base}/unlisted"],
        ["metadata", f"{base}/blind/page"],
    ]
    listed = {path: all for path, all in told.items() if path.startswith(base)}
    assert listed == {
        base: True, f"{base}/open": True, f"{base}/open/page": False, f"{base}/unlisted": False,
        f"{base}/shut": False, f"{base}/blind": False,
    }  # fmt: skip


def _grown(tmp_path: Path, rng: random.Random) -> list[str]:
    """2,500 paths of all kinds."""
    made, folders = [], [os.fsencode(tmp_path)]
    for number in range(2500):
        folder = rng.choice(folders[-40:])
        name = rng.choice([b"plain-%d", b"\xff\xfe%d", b"two\nlines %d", "höfe-%d".encode()])
        path = folder + b"/" + name % number
        made.append(os.fsdecode(path))
        match rng.randrange(12):
            case 0 | 1:
                os.mkdir(path, rng.choice([0o755, 0o2770, 0o1777]))
                folders.append(path)
                if rng.random() < 0.3:
                    subprocess.run(["setfacl", "-m", "d:u:41001:rwx,g:41002:r", path], check=True)
            case 2:
                os.symlink(rng.choice([b"plain-1", b"\xfe", b"/nowhere/at all"]), path)
            case 3:
                os.mkfifo(path, 0o600)
            case _:
                Path(os.fsdecode(path)).write_bytes(b"x" * rng.randrange(9))
                os.chown(path, rng.choice([0, 41001, 3_000_000_000]), rng.choice([0, 41002]))
                if rng.random() < 0.1:
                    # A long one does not fit where usual ones do.
                    few = ",".join(f"u:{42000 + n}:rw" for n in range(rng.choice([1, 1, 2, 40])))
                    subprocess.run(["setfacl", "-m", few, path], check=True)
                if rng.random() < 0.5:
                    label = rng.choice([b"a:b:c_t:s0\0", b"a:b:d_t:s0:" + b"c1," * 700])
                    os.setxattr(path, "security.selinux", label)
    return made
