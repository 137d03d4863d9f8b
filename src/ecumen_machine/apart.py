"""A survey in two processes: one that may look at the machine and parses nothing, and one that
understands what owners wrote and may do nothing.

The first one answers questions from a list; the second one sends them as JSON, and gets what was
found. What it makes of it, it writes into the file that it was given.
"""

from __future__ import annotations

import io
import json
import os
import pickle
import signal
import socket
import struct
import traceback
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from typing import IO, Any, cast

from ecumen.errors import EcumenError
from ecumen.survey import (
    ConfigCheck,
    EngineRecord,
    FileTable,
    Gap,
    NameRecord,
    SealFile,
    Survey,
    read_survey,
    write_survey,
)
from ecumen_machine.confine import confine
from ecumen_machine.filtering import FilterText
from ecumen_machine.ground import Ground, GroundFacts
from ecumen_machine.probe import EngineSpec, ProbeError, Progress, understood
from ecumen_machine.quiet import no_collecting

MOST_AT_ONCE = 200  # files that are fetched together
LARGEST_QUESTION = 64 << 20  # bytes
_SIZE = struct.Struct("!Q")


@dataclass(frozen=True, slots=True)
class Taken:
    """What came of a survey. holds: what the process that understood it was kept from."""

    paths: int
    texts: int
    engines: int
    gaps: tuple[Gap, ...]
    holds: tuple[str, ...] = ()


def survey_apart(
    stream: IO[bytes],
    specs: Sequence[EngineSpec] = (),
    scan: Sequence[str] = (),
    progress: Progress = lambda doing, count: None,
) -> Taken:
    """Takes a survey and has it written to a seekable stream. Raises ProbeError, and EcumenError
    where the other process ended or asked for what there is not.
    """
    given = [(spec.kind, spec.config) for spec in specs]
    _load_all()
    ours, theirs = socket.socketpair()
    child = os.fork()
    if child == 0:
        ours.close()
        _understand(theirs, stream, given, scan)
    theirs.close()
    try:
        with ours, cast(IO[bytes], ours.makefile("rwb")) as link:
            return _answer(link, Ground(progress), given, progress)
    except (OSError, EOFError) as error:
        raise EcumenError(
            "what owners wrote could not be read: the process for it ended"
        ) from error
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


def _load_all() -> None:
    """Has all code loaded that is needed later: by then no file can be opened."""
    stream = io.BytesIO()
    write_survey(Survey("", 0, "", (), FileTable()), stream)
    read_survey(stream)
    "é".encode("cp437")


# --- the one that looks ---


def _answer(
    link: IO[bytes], ground: Ground, specs: Sequence[tuple[str, str]], progress: Progress
) -> Taken:
    """Answers until the other process is done. What it asks is checked like a stranger's."""
    questions: dict[str, Callable[..., Any]] = {
        "engines": lambda: ground.engines(specs),
        "check": lambda number, files, modules: ground.check(
            records[_number(number)], _texts(files), _texts(modules)
        ),
        "facts": ground.facts,
        "read": lambda path, by: ground.read(_path(path), None if by is None else _path(by)),
        "read_many": lambda paths, by: ground.read_many(_paths(paths), _path(by)),
        "names": lambda folder: ground.names(_path(folder)),
        "exists": lambda path: ground.exists(_path(path)),
        "look": lambda paths: ground.look(_paths(paths)),
        "look_into": lambda paths: ground.look_into(_paths(paths)),
        "trees": lambda paths: ground.trees(_paths(paths)),
        "follow_links": ground.follow_links,
        "read_named": lambda leaves: ground.read_named(_texts(leaves)),
        "resolve": lambda names: ground.resolve(_texts(names)),
        "filter": ground.filter,
        "seals": lambda asked: ground.seals(_pairs(asked)),
        "texts": ground.texts,
        "table": ground.table,
        "gaps": ground.gaps,
    }
    records: list[EngineRecord] = []
    while True:
        what, *words = _heard(link)
        if what == "progress":
            progress(str(words[0])[:200], int(words[1]))
            continue
        if what == "done":
            row = dict(words[0])
            return Taken(
                int(row["paths"]), int(row["texts"]), int(row["engines"]),
                (*ground.gaps(), *_broken(row["broken"])),
                tuple(map(str, row["holds"])),
            )  # fmt: skip
        if what == "failed":
            raise ProbeError(str(words[0]))
        if what not in questions:
            raise EcumenError(f"the process that understands asked for {what!r}")
        found = questions[what](*words)
        if what == "engines":
            records = found
        _say(link, pickle.dumps(found, pickle.HIGHEST_PROTOCOL))


def _broken(rows: object) -> list[Gap]:
    """What the process that understands says of a configuration that would not load."""
    found = rows if isinstance(rows, list) else []
    return [Gap("configuration", str(path)[:500], str(why)[:500]) for path, why in found[:100]]


def _heard(link: IO[bytes]) -> list[Any]:
    (size,) = _SIZE.unpack(_exactly(link, _SIZE.size))
    if size > LARGEST_QUESTION:
        raise EOFError
    found = json.loads(_exactly(link, size))
    if not isinstance(found, list) or not found:
        raise EOFError
    return found


def _exactly(link: IO[bytes], size: int) -> bytes:
    data = link.read(size)
    if len(data) < size:
        raise EOFError
    return data


def _say(link: IO[bytes], data: bytes) -> None:
    link.write(_SIZE.pack(len(data)))
    link.write(data)
    link.flush()


def _path(value: object) -> str:
    if not isinstance(value, str) or not value.startswith("/") or "\0" in value:
        raise EcumenError("the process that understands asked for what is no path")
    return value


def _paths(values: object) -> list[str]:
    return [_path(value) for value in _texts(values)]


def _texts(values: object) -> list[str]:
    if not isinstance(values, list) or not all(isinstance(value, str) for value in values):
        raise EcumenError("the process that understands asked for what is no list")
    return cast(list[str], values)


def _pairs(values: object) -> list[tuple[str, str]]:
    if not isinstance(values, list) or not all(isinstance(each, list) for each in values):
        raise EcumenError("the process that understands asked for what is no list")
    return [(_path(path), _path(by)) for path, by in values]


def _number(value: object) -> int:
    if not isinstance(value, int) or value < 0:
        raise EcumenError("the process that understands asked for what is no number")
    return value


# --- the one that understands ---


class _Far:
    """The machine as the process sees it that may not look: it asks."""

    def __init__(self, link: IO[bytes]) -> None:
        self._link = link
        self._records: list[EngineRecord] = []
        # Where a path stands among those that a file names, by both; which file named it last;
        # what was fetched. One file's leave to read a path is not another's.
        self._expected: dict[tuple[str, str], tuple[list[str], int]] = {}
        self._named_by: dict[str, str] = {}
        self._fetched: dict[tuple[str, str], bytes | None] = {}
        self._names: dict[str, list[str] | None] = {}
        # What was asked for while there is something else to do, and not yet answered; what takes
        # each answer, in their order.
        self._coming: list[Callable[[Any], None]] = []

    def _ask(self, what: str, *words: object) -> Any:
        self._settle()
        self.tell(what, *words)
        return self._answer()

    def _answer(self) -> Any:
        # Made by the process that looks, which this one has no reason to doubt.
        (size,) = _SIZE.unpack(_exactly(self._link, _SIZE.size))
        return pickle.loads(_exactly(self._link, size))

    def tell(self, what: str, *words: object) -> None:
        _say(self._link, json.dumps([what, *words]).encode())

    def engines(self, specs: Sequence[tuple[str, str]]) -> list[EngineRecord]:
        self._records = self._ask("engines")
        return self._records

    def begin_check(
        self, record: EngineRecord, files: Sequence[str], modules: Sequence[str]
    ) -> Callable[[], ConfigCheck | None]:
        self._settle()
        found: list[ConfigCheck | None] = []
        self.tell("check", self._records.index(record), list(files), list(modules))
        self._coming.append(found.append)

        def said() -> ConfigCheck | None:
            self._settle()
            return found[0]

        return said

    def facts(self) -> GroundFacts:
        return cast(GroundFacts, self._ask("facts"))

    def expect(self, paths: Sequence[str], by: str) -> None:
        asked = list(filter(_is_path, paths))
        for number, path in enumerate(asked):
            self._expected[path, by] = asked, number
            self._named_by[path] = by

    def _is_fetched(self, path: str, by: str) -> bool:
        """Whether a path was fetched with others; where it is their turn, they are fetched now, and
        the next ones are asked for, to be looked at while these are understood.
        """
        if (path, by) in self._expected:
            self._settle()
        expected = self._expected.get((path, by))
        if expected is not None:
            paths, number = expected
            self._begin(paths, number, by)
            self._settle()
            while number < len(paths) and (paths[number], by) not in self._expected:
                number += 1
            self._begin(paths, number, by)
        return (path, by) in self._fetched

    def _begin(self, paths: list[str], number: int, by: str) -> None:
        coming = paths[number : number + MOST_AT_ONCE]
        if not coming:
            return

        def fetched(answer: Any) -> None:
            for path, (names, text) in zip(coming, answer, strict=False):
                self._names[path] = names
                self._fetched[path, by] = text
                self._expected.pop((path, by), None)

        self.tell("read_many", coming, by)
        self._coming.append(fetched)

    def _settle(self) -> None:
        while self._coming:
            take = self._coming.pop(0)
            take(self._answer())

    def read(self, path: str, by: str | None = None) -> bytes | None:
        # Each text is used once.
        if by is not None and self._is_fetched(path, by):
            return self._fetched.pop((path, by))
        return cast(bytes | None, self._ask("read", path, by) if _is_path(path) else None)

    def names(self, folder: str) -> list[str] | None:
        by = self._named_by.get(folder)
        if by is not None and self._is_fetched(folder, by):
            return self._names[folder]
        return cast(list[str] | None, self._ask("names", folder) if _is_path(folder) else None)

    def exists(self, path: str) -> bool | None:
        return cast(bool | None, self._ask("exists", path) if _is_path(path) else False)

    def stamps(self, paths: Sequence[str]) -> Sequence[Hashable | None]:
        return [None] * len(paths)

    def look(self, paths: Sequence[str]) -> None:
        self._ask("look", list(filter(_is_path, paths)))

    def look_into(self, folders: Sequence[str]) -> None:
        self._ask("look_into", list(filter(_is_path, folders)))

    def trees(self, paths: Sequence[str]) -> None:
        self._ask("trees", list(filter(_is_path, paths)))

    def follow_links(self) -> None:
        self._ask("follow_links")

    def read_named(self, leaves: Sequence[str]) -> None:
        self._ask("read_named", list(leaves))

    def resolve(self, names: Sequence[str]) -> list[NameRecord]:
        return cast(list[NameRecord], self._ask("resolve", list(names)))

    def filter(self) -> FilterText | None:
        return cast(FilterText | None, self._ask("filter"))

    def seals(self, asked: Sequence[tuple[str, str]]) -> list[SealFile]:
        plain = [(path, by) for path, by in asked if _is_path(path) and _is_path(by)]
        return cast(list[SealFile], self._ask("seals", plain))

    def texts(self) -> dict[str, bytes]:
        return cast(dict[str, bytes], self._ask("texts"))

    def table(self) -> FileTable:
        return cast(FileTable, self._ask("table"))

    def gaps(self) -> tuple[Gap, ...]:
        return cast(tuple[Gap, ...], self._ask("gaps"))


def _is_path(path: str) -> bool:
    return path.startswith("/") and "\0" not in path


def _understand(
    theirs: socket.socket,
    stream: IO[bytes],
    specs: Sequence[tuple[str, str]],
    scan: Sequence[str],
) -> None:
    """The whole of the other process. Never returns."""
    status = 1
    try:
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, signal.SIG_DFL)
        holds = confine()
        with cast(IO[bytes], theirs.makefile("rwb")) as link:
            far = _Far(link)
            try:
                with no_collecting():
                    survey = understood(far, specs, scan, lambda *step: far.tell("progress", *step))
                write_survey(survey, stream)
                stream.flush()
                far.tell(
                    "done",
                    {
                        "paths": len(survey.files),
                        "texts": len(survey.texts),
                        "engines": len(survey.engines),
                        "holds": holds,
                        "broken": [
                            [gap.path, gap.why]
                            for gap in survey.gaps
                            if gap.what == "configuration"
                        ],
                    },
                )
                status = 0
            except EcumenError as error:
                far.tell("failed", str(error))
            except MemoryError:
                far.tell("failed", "what owners wrote takes more memory than it is allowed to")
    except BaseException:
        traceback.print_exc()
    finally:
        os._exit(status)
