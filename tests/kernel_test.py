"""Permission decisions against the kernel: a child process becomes the account and tries."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from ecumen.rights import READ, SEARCH, WRITE, Problem, Subject, Walker, decide
from ecumen.survey import Kind, Survey
from ecumen_machine.files import Collector

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
NEEDS = {"r": READ, "w": WRITE, "x": SEARCH, "rw": READ | WRITE, "rx": READ | SEARCH}
ACCESS = {"r": os.R_OK, "w": os.W_OK, "x": os.X_OK}
QUESTIONS = 4000


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
        os.chmod(path, self.rng.randrange(0o1000) | generous)
        if self.rng.random() < 0.4:
            entries = [
                f"{self.rng.choice('ug')}:{self.rng.choice(UIDS)}:{self.rng.choice(PERMS)}"
                for _ in range(self.rng.randint(1, 3))
            ]
            if self.rng.random() < 0.6:
                entries.append(f"m::{self.rng.choice(PERMS)}")
            command = ["setfacl", "-n", "-m", ",".join(entries), path]
            subprocess.run(command, check=True, capture_output=True)

    def question(self) -> str:
        path = self.rng.choice(self.paths)
        extra = ["", "", "", "/", "/.", "/..", "/gone", "/../" + os.path.basename(path), "//a1"]
        return path + self.rng.choice(extra)


PERMS = ("---", "r--", "rw-", "r-x", "rwx", "--x", "-w-")


def predicted(walker: Walker, path: str, need: int) -> bool | None:
    walk = walker.walk(path)
    if walk.problem is Problem.UNSEEN:
        return None
    if walk.problem is not None or walk.blocked or walk.entry is None:
        return False
    return decide(walk.entry, walker.subject, need).allowed


def tried(questions: list[tuple[str, str]]) -> list[bool]:
    return [os.access(path, sum(ACCESS[letter] for letter in need)) for path, need in questions]


def test_what_an_account_may_is_what_the_kernel_says(seed: int) -> None:
    rng = random.Random(seed)
    base = Path(f"/srv/ecumen-kernel-{seed}")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir()
    try:
        tree = Tree(rng, base)
        tree.build()
        collector = Collector()
        collector.tree(str(base))
        survey = Survey("x", 0, "test", (), collector.table())
        assert not collector.gaps
        wrong, decided = [], 0
        for subject in SUBJECTS:
            walker = Walker(survey, subject)
            questions = [
                (tree.question(), rng.choice(list(NEEDS)))
                for _ in range(QUESTIONS // len(SUBJECTS))
            ]
            answers = as_subject(subject, lambda asked=questions: tried(asked))
            for (path, need), truth in zip(questions, answers, strict=True):
                mine = predicted(walker, path, NEEDS[need])
                decided += mine is not None
                if mine is not None and mine != truth:
                    wrong.append((subject.name, path, need, mine, truth))
        assert not wrong, wrong[:10]
        assert decided > 0.95 * QUESTIONS
    finally:
        shutil.rmtree(base, ignore_errors=True)


def test_forty_links_work_and_the_next_is_a_loop(tmp_path: Path) -> None:
    (tmp_path / "l0").write_text("")
    for number in range(1, 43):
        (tmp_path / f"l{number}").symlink_to(f"l{number - 1}")
    collector = Collector()
    collector.tree(str(tmp_path))
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
    collector.tree(str(tmp_path))
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
