"""Logs on disk while they grow, are rotated, copied, truncated and packed: each line once."""

from __future__ import annotations

import gzip
import os
import re
import shutil
from collections import Counter
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from ecumen.logs.entry import LONGEST_LINE
from ecumen.logs.rotation import logs_of
from ecumen_machine.following import FileMark, Folders, chunks, lines_between, parts_of


class Reader:
    """Reads what is new, and keeps how far it came: what the store does."""

    def __init__(self, log: Path) -> None:
        self.log = log
        self.marks: dict[tuple[int, int], FileMark] = {}
        self.lines: Counter[bytes] = Counter()
        self.cut: list[bytes] = []

    def look(self) -> None:
        files, _ = Folders(()).files_of(str(self.log))
        for part in parts_of(files, list(self.marks.values())):
            if part.before is not None:
                self.marks.pop((part.before.device, part.before.inode), None)
                self.marks[part.mark.device, part.mark.inode] = part.mark
            for chunk in chunks(part):
                if chunk.cut:
                    self.cut.append(chunk.data)
                else:
                    self.lines.update(chunk.data.split(b"\n")[:-1])
                if chunk.mark.offset:
                    self.marks[chunk.mark.device, chunk.mark.inode] = chunk.mark


class Rotating(RuleBasedStateMachine):
    """A log that is written, and one who looks at it now and then."""

    def __init__(self) -> None:
        super().__init__()
        import tempfile

        self.folder = Path(tempfile.mkdtemp())
        self.log = self.folder / "a.log"
        self.log.touch()
        self.reader = Reader(self.log)
        self.written: Counter[bytes] = Counter()
        self.number = 0
        self.half = b""
        self.looked_at_end = True

    def teardown(self) -> None:
        shutil.rmtree(self.folder)

    def _write(self, data: bytes) -> None:
        with self.log.open("ab") as stream:
            stream.write(data)

    @rule(count=st.integers(1, 40), long=st.booleans())
    def lines(self, count: int, long: bool) -> None:
        for _ in range(count):
            self.number += 1
            line = b"line %d" % self.number + (b" and more" * 60 if long else b"")
            self._write(line + b"\n")
            self.written[self.half + line] += 1
            self.half = b""

    @rule()
    def half_a_line(self) -> None:
        self.number += 1
        piece = b"half %d " % self.number
        self._write(piece)
        self.half += piece

    @rule()
    def look(self) -> None:
        self.reader.look()

    def _shift(self) -> None:
        for number in range(8, 0, -1):
            for ending in ("", ".gz"):
                old = self.folder / f"a.log.{number}{ending}"
                if old.exists():
                    old.rename(self.folder / f"a.log.{number + 1}{ending}")

    def _end_line(self) -> None:
        if self.half:
            self._write(b"\n")
            self.written[self.half] += 1
            self.half = b""

    @rule()
    def rename(self) -> None:
        self._end_line()
        self._shift()
        self.log.rename(self.folder / "a.log.1")
        self.log.touch()

    @rule(look_between=st.booleans())
    def copy_and_truncate(self, look_between: bool) -> None:
        self._end_line()
        self._shift()
        shutil.copy(self.log, self.folder / "a.log.1")
        if look_between:
            self.reader.look()
        os.truncate(self.log, 0)

    @rule(look_between=st.booleans())
    def pack(self, look_between: bool) -> None:
        for number in range(1, 9):
            old = self.folder / f"a.log.{number}"
            if old.exists() and old.stat().st_size:
                packed = Path(f"{old}.gz")
                packed.write_bytes(gzip.compress(old.read_bytes()))
                if look_between:
                    self.reader.look()
                old.unlink()
                return

    @invariant()
    def nothing_is_counted_twice(self) -> None:
        assert not self.reader.lines - self.written

    @rule()
    def at_the_end_nothing_is_lost(self) -> None:
        self.reader.look()
        assert self.reader.lines == self.written
        assert self.reader.cut == []


TestRotating = Rotating.TestCase
TestRotating.settings = settings(max_examples=60, stateful_step_count=30, deadline=None)


def test_a_file_begun_anew_does_not_lose_what_its_packed_copy_takes_over() -> None:
    logs = Rotating()
    try:
        logs.half_a_line()
        logs.copy_and_truncate(look_between=True)
        logs.half_a_line()
        logs.pack(look_between=False)
        logs.rename()
        for _ in range(2):
            logs.at_the_end_nothing_is_lost()
    finally:
        logs.teardown()


def test_files_of_a_log_are_told_from_other_logs(tmp_path: Path) -> None:
    names = ["a.log", "a.log.1", "a.log.2.gz", "a.log-20310401", "a.log-20310401.gz", "a-20310402.log",
             "a.1.log", "a.log.bz2x", "a-b.log", "a.log.old", "ba.log", "a-2.log", "a.log.3.xz"]  # fmt: skip
    for age, name in enumerate(names):
        (tmp_path / name).write_text("x\n")
        os.utime(tmp_path / name, (1000 - age, 1000 - age))
    files, unread = Folders({str(tmp_path / "a-2.log")}).files_of(str(tmp_path / "a.log"))
    assert [Path(path).name for path in files] == [
        "a.1.log", "a-20310402.log", "a.log-20310401.gz", "a.log-20310401", "a.log.2.gz", "a.log.1",
        "a.log",
    ]  # fmt: skip
    assert [Path(path).name for path in unread] == ["a.log.3.xz"]


@given(
    stem=st.text("ab.-1", min_size=1, max_size=6),
    ending=st.sampled_from(["", ".log", ".l-1"]),
    mark=st.sampled_from([".1", "-20310401", ".2031-04-01", "-31", ".20310401-0600"]),
    packed=st.sampled_from(["", ".gz", ".xz"]),
)
def test_older_parts_are_known_by_their_log(stem: str, ending: str, mark: str, packed: str) -> None:
    assert stem + ending in logs_of(stem + ending + mark + packed)
    if len(mark) < 14:
        assert stem + ".log" in logs_of(stem + mark + ".log" + packed)
    # What is taken off holds a number.
    for log in logs_of(stem + ending):
        assert re.sub(r"\D", "", log) != re.sub(r"\D", "", stem + ending)


def test_a_packed_file_that_was_cut_keeps_its_last_line_as_cut(tmp_path: Path) -> None:
    log = tmp_path / "a.log"
    (tmp_path / "a.log.1.gz").write_bytes(gzip.compress(b"one\ntwo\nthr"))
    reader = Reader(log)
    reader.look()
    reader.look()
    assert (reader.lines, reader.cut) == (Counter({b"one": 1, b"two": 1}), [b"thr"])


def test_a_line_that_is_too_long_moves_no_other(tmp_path: Path) -> None:
    log = tmp_path / "a.log"
    log.write_bytes(b"one\n" + b"x" * (3 * LONGEST_LINE) + b"\ntwo\nthree\n")
    (part,) = parts_of([str(log)], [])
    found = list(chunks(part))
    assert found[-1].mark.offset == log.stat().st_size
    last = found[-1]
    data = log.read_bytes()
    assert data[last.start :] == last.data == b"two\nthree\n"
    assert max(len(chunk.data) for chunk in found) <= 2 * LONGEST_LINE + 3


@pytest.mark.parametrize("word", [b"", b"seven"])
def test_raw_lines_are_read_between_two_places(tmp_path: Path, word: bytes) -> None:
    log = tmp_path / "a.log"
    lines = [b"line %d %s" % (n, b"SEVEN" if n % 7 == 0 else b"") for n in range(90_000)]
    log.write_bytes(b"\n".join(lines) + b"\n")
    places, at = [], 0
    for line in lines:
        places.append((at, line))
        at += len(line) + 1
    low, high = places[1000][0], places[80_000][0]
    wanted = [p for p in places[1000:80_000] if word in p[1].lower()]
    assert list(lines_between(str(log), False, low, high, word)) == wanted
