"""The process that reads log lines: it has only what it is given, and may end as it likes."""

from __future__ import annotations

import os
import pickle
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from ecumen.causes import LogOfSites, SourceKind
from ecumen.logs.ledger import Books
from ecumen_machine import logreader
from ecumen_machine.logdoor import OWN
from ecumen_machine.logreader import LogReader, Stretch

LINE = '192.0.2.9 - - [01/Apr/2031:10:00:00 +0000] "GET /{} HTTP/1.1" 200 9\n'
BOOKS = Books(lambda *_: b"a", lambda _: frozenset(), lambda *_: False)
COMMON = ('%h %l %u %t "%r" %>s %b',)


@pytest.fixture
def logs(tmp_path: Path) -> list[Path]:
    """Two logs, of 40 lines each; the first one is poison, where a test makes it that."""
    paths = [tmp_path / "poison.log", tmp_path / "good.log"]
    for path in paths:
        path.write_text("".join(LINE.format(n) for n in range(40)))
    return paths


@pytest.fixture
def reader(logs: list[Path]) -> Iterator[LogReader]:
    found = [LogOfSites(str(p), SourceKind.ACCESS, "httpd", COMMON, (), BOOKS) for p in logs]
    reader = LogReader(found, OWN)
    yield reader
    reader.close()


def poisoned(monkeypatch: pytest.MonkeyPatch, do: Callable[[logreader._Log], object]) -> None:
    """Has the process do something else with the first of the logs."""
    whole = logreader._Log._chunk

    def chunk(self: logreader._Log, *words: object) -> None:
        if "poison" in self._source.path:
            do(self)
        whole(self, *words)  # type: ignore[arg-type]

    monkeypatch.setattr(logreader._Log, "_chunk", chunk)


def both(reader: LogReader, logs: list[Path]) -> list[list[Stretch]]:
    return [list(reader.read(number, [str(path)], [])) for number, path in enumerate(logs)]


def test_what_is_read_is_handed_over(reader: LogReader, logs: list[Path]) -> None:
    for stretches in both(reader, logs):
        (stretch,) = stretches
        assert (stretch.lines, stretch.lost, stretch.unread) == (40, 0, [])
        assert stretch.ledger is not None
        assert stretch.ledger.entries == 40
        (_, mark) = stretch.parts[0]
        assert mark is not None
        assert mark.offset == logs[0].stat().st_size


@pytest.mark.server
@pytest.mark.apart
def test_it_has_no_files_no_account_and_few_calls(reader: LogReader, logs: list[Path]) -> None:
    both(reader, logs)
    status = Path(f"/proc/{reader._child}/status").read_text()
    assert "Seccomp:\t2" in status
    assert "NoNewPrivs:\t1" in status
    assert "Uid:\t0" not in status
    handles = [os.readlink(each) for each in Path(f"/proc/{reader._child}/fd").iterdir()]
    # Its way to whoever asks, and the three that every process has.
    assert len([name for name in handles if name.startswith("socket:")]) == 1
    assert len(handles) <= 4


@pytest.mark.parametrize("way", ["ended", "stands still", "raises", "hands over a gadget", "asks"])
def test_one_log_costs_itself_alone(
    way: str,
    reader: LogReader,
    logs: list[Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    secret, proof = tmp_path / "secret", tmp_path / "proof"
    secret.write_text("word of honour")

    class Gadget:
        def __reduce__(self) -> tuple[object, ...]:
            return os.mkdir, (str(proof),)

    def gadget(log: logreader._Log) -> None:
        log._hand_over.__closure__[0].cell_contents.send_bytes(pickle.dumps(Gadget()))  # type: ignore

    def asks(log: logreader._Log) -> None:
        link = log._hand_over.__closure__[0].cell_contents  # type: ignore[index]
        with pytest.raises(PermissionError):
            logreader._Handed(link).open(str(secret))
        with pytest.raises(PermissionError):
            secret.read_text()
        log._stretch.unread.append("was refused")

    ways: dict[str, Callable[[logreader._Log], object]] = {
        "ended": lambda _: os._exit(9),
        "stands still": lambda _: time.sleep(60),
        "raises": lambda _: 1 // 0,
        "hands over a gadget": gadget,
        "asks": asks,
    }
    poisoned(monkeypatch, ways[way])
    monkeypatch.setattr(logreader, "STANDS_STILL", 1.0)
    bad, good = both(reader, logs)
    assert [stretch.lines for stretch in good] == [40]
    assert not proof.exists()
    told = [line for stretch in bad for line in stretch.unread]
    if way == "asks":
        assert told == ["was refused"]
    else:
        assert len(told) == 1
        assert told[0].startswith(f"{logs[0]}: given up: ")
