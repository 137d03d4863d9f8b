"""Entries by which logs are rotated, beside the program that reads them."""

from __future__ import annotations

import random
import re
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from ecumen.logs.rotation import is_rotated, rotated_by
from ecumen.operations.rotation import EVERY, Rotation

NAMES = (
    "access.log", "error log", "é.log", "a,b", "#1.log", "x;y", "$HOME", "-v", "a&b", "%h.log",
    "long" * 40, "su", "rotate 1", "}x", "a'b", 'a"b', "a*b", "[x]", "a\\b", "a\nb", "a\tb",
)  # fmt: skip
OWNER = "games"


def _rotate(entry: Path, *more: str) -> subprocess.CompletedProcess[str]:
    command = ["logrotate", "-s", str(entry.parent / "state"), *more, str(entry)]
    return subprocess.run(command, capture_output=True, text=True, check=False)


@pytest.fixture
def ground() -> Iterator[Path]:
    """A folder that everybody may pass."""
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)
        yield Path(folder)


@pytest.mark.server
@pytest.mark.apart
def test_what_is_written_rotates_just_these_logs(ground: Path, seed: int) -> None:
    refused = 0
    for number in range(60):
        rng = random.Random(f"{seed} {number}")
        folder = ground / str(number) / "logs"
        folder.mkdir(parents=True)
        by = (OWNER, OWNER) if rng.random() < 0.5 else ("", "")
        names = rng.sample(NAMES, rng.randint(2, 5))
        wanted, left = names[:-1], names[-1]
        for name in names:
            (folder / name).write_text(name)
        if by[0]:
            for path in (folder, *folder.iterdir()):
                subprocess.run(["chown", f"{OWNER}:{OWNER}", str(path)], check=True)
        logs = tuple(f"{folder}/{name}" for name in wanted)
        try:
            one = Rotation(
                "/etc/logrotate.d/ecumen-x", "", logs, rng.choice(EVERY), rng.randint(1, 9), *by
            )
        except ValueError:
            # Whatever means something there, or ends a line.
            assert re.search(r"[*?\[\]{}\"'\\\n\t]", "".join(wanted)), wanted
            refused += 1
            continue
        entry = folder.parent / "entry"
        entry.write_bytes(one.data)
        entry.chmod(0o644)
        done = _rotate(entry, "-f")
        assert done.returncode == 0, (one.data, done.stderr)
        for name in wanted:
            assert (folder / name).read_text() == "", (one.data, name)
            assert (folder / f"{name}.1").read_text() == name
        assert (folder / left).read_text() == left
        assert sorted(rotated_by(one.data.decode())) == sorted(logs)
        owners = {path.stat().st_uid for path in folder.iterdir()}
        assert len(owners) == 1, "who owned the logs owns all of them still"
    assert 0 < refused < 60


_LINES = (
    "weekly", "rotate 4", "compress", "missingok", "# a } of a remark", "notifempty",
    "sharedscripts", "postrotate\n  echo {\n/none/x {\nendscript", "create 0640 root adm",
    "prerotate\n echo }\nendscript", "size 1M", "", "dateext",
)  # fmt: skip
_NAMED = (
    "a.log", "*.log", "sub/*.log", "b?.log", '"c d.log"', "'e.log'", "none/*.log", "b1.log *.txt",
    "a.log\nb1.log", '"c d.log" a.log', "f.log#x",
)  # fmt: skip
_THERE = (
    "a.log",
    "b1.log",
    "b22.log",
    "c d.log",
    "e.log",
    "x.txt",
    "sub/a.log",
    "f.log#x",
    "f.log",
)


@pytest.mark.server
@pytest.mark.apart
def test_what_an_entry_means_is_what_the_program_looks_at(tmp_path: Path, seed: int) -> None:
    found = 0
    for number in range(80):
        rng = random.Random(f"{seed} {number}")
        folder = tmp_path / str(number)
        (folder / "sub").mkdir(parents=True)
        for name in _THERE:
            (folder / name).write_text("x")
        parts = [rng.choice(["weekly\nrotate 2", "# one { more", "", "compress"])]
        for named in rng.sample(_NAMED, rng.randint(1, 2)):
            split = re.findall(r"\"[^\"]*\"|'[^']*'|\S+|\n", named)
            paths = "".join(
                "\n" if each == "\n" else f"{_put(each, folder)} " for each in split
            ).strip()
            inner = "\n".join(rng.sample(_LINES, rng.randint(0, 4)))
            brace = rng.choice([" {", "\n{", "{" if paths.endswith(('"', "'")) else " {"])
            parts.append(f"{paths}{brace}\n{inner}\n}}")
        text = "\n".join([*parts, ""])
        entry = folder / "entry"
        entry.write_text(text)
        entry.chmod(0o644)
        done = _rotate(entry, "-d", "-v")
        if "error:" in done.stderr and "duplicate" in done.stderr:
            continue
        looked = set(re.findall(r"considering log (.*)", done.stderr))
        looked = {path for path in looked if Path(path).exists()}
        meant = {
            str(folder / name)
            for name in _THERE
            if any(is_rotated(each, str(folder / name)) for each in rotated_by(text))
        }
        assert meant == looked, (text, done.stderr)
        found += len(meant)
    assert found > 50


def _put(name: str, folder: Path) -> str:
    """A name, quoted or not, in a folder."""
    quote = name[0] if name[0] in "\"'" else ""
    return f"{quote}{folder}/{name.strip(quote) if quote else name}{quote}"
