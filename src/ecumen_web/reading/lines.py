"""Reads the logs that a survey names: what is new in them is added up, failures are explained."""

from __future__ import annotations

import gc
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import cast

from django.conf import settings
from django.db import transaction

from ecumen.causes import LogOfSites, SourceKind, sources
from ecumen.logs.ledger import Ledger
from ecumen_machine import logreader
from ecumen_machine.following import FileMark, FilePart, Folders
from ecumen_machine.logdoor import OWN, LogDoor
from ecumen_machine.logreader import MOST_REJECTED, LogReader, Stretch
from ecumen_web.explaining.causes import explain_failures
from ecumen_web.reached import reach_of
from ecumen_web.reading.logbook import ErrorCount, Logbook, error_counts
from ecumen_web.store.bulk import put_back
from ecumen_web.store.models import LogFile, LogSource, LogSpan, RejectedLine, SurveyRecord
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import scene_of

Progress = Callable[[str, int, int], None]
_COUNTED = ("lines", "rejected", "first", "last", "zone", "unread")  # of a log, by reading it


@dataclass(slots=True)
class _Batch:
    """What was read since something was last written down."""

    ledgers: list[Ledger] = field(default_factory=list)
    errors: list[ErrorCount] = field(default_factory=list)
    files: dict[int, tuple[LogFile, FileMark]] = field(default_factory=dict)
    spans: dict[tuple[int, int], tuple[int, int]] = field(default_factory=dict)
    rejected: list[RejectedLine] = field(default_factory=list)
    sources: dict[int, LogSource] = field(default_factory=dict)
    entries: int = 0


@contextmanager
def _without_collecting() -> Iterator[None]:
    """Entries hold no cycles: looking for them takes longer than reading the lines."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def read_logs(record: SurveyRecord, progress: Progress = lambda *step: None) -> int:
    """Reads what is new in the logs of a server, and explains what fails. Returns the number of
    lines that were new.
    """
    scene = scene_of(record.file)
    under = log_root(record)
    if under is None:
        return 0
    door = log_door(record)
    found = [source for source in sources(scene) if not source.trouble]
    rows = _rows(record.host, sources(scene))
    own = {under + source.path for source in found}
    reader = LogReader(found, door)
    reading = _Reading(record.host, Folders(own, door), reader)
    try:
        with _without_collecting():
            for number, source in enumerate(found):
                progress(f"reading {source.path}", number, len(found))
                reading.read(number, source, rows[_key(source)], under)
            reading.write()
    finally:
        reader.close()
    progress("explaining what failed", 0, 0)
    explain_failures(record, progress)
    return reading.lines


def log_root(record: SurveyRecord) -> str | None:
    """What stands before the paths of a server's logs here: nothing where this is the server, the
    folder of what stands in for it, or None where they lie elsewhere, for all that is proven.
    """
    reach = reach_of(record.origin)
    if reach is not None:
        return reach.logs
    return "" if record.origin == SurveyRecord.Origin.HERE else None


def log_door(record: SurveyRecord) -> LogDoor:
    """The way to a server's logs: through the keeper, where there is one and they are real."""
    keeper = settings.KEEPER
    if keeper is None or record.origin != SurveyRecord.Origin.HERE:
        return OWN
    keeper.take_in(settings.SURVEYS / record.file)
    return cast(LogDoor, keeper)


def _key(source: LogOfSites) -> tuple[str, ...]:
    return (clean(source.path), source.kind, source.engine)


def _rows(host: str, found: Iterable[LogOfSites]) -> dict[tuple[str, ...], LogSource]:
    """The row of each log, made where there is none, with what keeps it from being read."""
    troubles = {_key(source): source.trouble for source in found}
    known = {(r.path, r.kind, r.engine): r for r in LogSource.objects.filter(host=host)}
    LogSource.objects.bulk_create(
        [
            LogSource(host=host, path=path, kind=kind, engine=engine, trouble=trouble)
            for (path, kind, engine), trouble in troubles.items()
            if (path, kind, engine) not in known
        ],
        batch_size=500,
    )
    changed = [row for key, row in known.items() if troubles.get(key, row.trouble) != row.trouble]
    for row in changed:
        row.trouble = troubles[row.path, row.kind, row.engine]
    put_back(changed, "trouble")
    rows = LogSource.objects.filter(host=host).prefetch_related("files")
    return {(row.path, row.kind, row.engine): row for row in rows}


class _Reading:
    """One look at all logs of a server. lines: that were new."""

    def __init__(self, host: str, folders: Folders, reader: LogReader) -> None:
        self.host = host
        self.folders = folders
        self.reader = reader
        self.logbook = Logbook(host)
        self.batch = _Batch()
        self.lines = 0
        self.zone: dict[str, int] = {}

    def read(self, number: int, source: LogOfSites, row: LogSource, under: str) -> None:
        before = [getattr(row, name) for name in _COUNTED]
        files, row.unread = self.folders.files_of(under + source.path)
        known = {(file.device, file.inode): file for file in row.files.all()}
        marks = [
            FileMark(f.device, f.inode, f.offset, f.head, f.head_size, f.done)
            for f in known.values()
        ]
        self.batch.sources[row.pk] = row
        rows: dict[str, LogFile] = {}
        for stretch in self.reader.read(number, files, marks):
            for part, _ in stretch.parts:
                if part.path not in rows:
                    rows[part.path] = self._file(row, known, part)
            self._take(source, row, [rows[part.path] for part, _ in stretch.parts], stretch)
        if before == [getattr(row, name) for name in _COUNTED]:
            self.batch.sources.pop(row.pk, None)
        if source.kind is SourceKind.ACCESS and row.last is not None:
            self.zone[source.engine] = row.zone

    def _file(
        self, row: LogSource, known: dict[tuple[int, int], LogFile], part: FilePart
    ) -> LogFile:
        file = known.get((part.before.device, part.before.inode)) if part.before else None
        if file is None:
            file = LogFile(source=row, offset=0, head="", head_size=0)
        moved = (file.device, file.inode, file.path, file.packed) != (
            part.mark.device, part.mark.inode, part.path, part.packed,
        )  # fmt: skip
        if file.pk is None or moved:
            file.device, file.inode = part.mark.device, part.mark.inode
            file.path, file.packed, file.done = part.path, part.packed, part.mark.done
            # A file that is gone may have had this number.
            row.files.filter(device=file.device, inode=file.inode).exclude(pk=file.pk).delete()
            file.save()
        return file

    def _take(
        self, source: LogOfSites, row: LogSource, files: list[LogFile], stretch: Stretch
    ) -> None:
        """Puts a stretch to what is written down next, all of it or nothing."""
        batch = self.batch
        for file, (_, mark) in zip(files, stretch.parts, strict=True):
            if mark is not None:
                batch.files[file.pk] = (file, mark)
        kept = MOST_REJECTED - row.rejected - len(batch.rejected)
        batch.rejected += [
            RejectedLine(source=row, path=path, offset=at, why=why, text=text)
            for path, at, why, text in stretch.rejected[: max(0, kept)]
        ]
        row.lines += stretch.lines
        row.rejected += stretch.lost
        self.lines += stretch.lines
        row.unread = [*row.unread, *stretch.unread]
        for (place, hour), (low, high) in stretch.spans.items():
            key = (files[place].pk, hour)
            known = batch.spans.get(key, (low, high))
            batch.spans[key] = (min(low, known[0]), max(high, known[1]))
        # Error logs have no zone: that of the access logs holds.
        zone = self.zone.get(source.engine, 0)
        batch.errors += error_counts(
            row,
            [(at - zone, level, reason, path, clean(text))
             for at, level, reason, path, text in stretch.errors],
        )  # fmt: skip
        if stretch.ledger is not None:
            self._add(stretch.ledger, row)

    def _add(self, ledger: Ledger, row: LogSource) -> None:
        row.first = ledger.first if row.first is None else min(row.first, ledger.first)
        row.last = ledger.last if row.last is None else max(row.last, ledger.last)
        row.zone = ledger.zone
        self.batch.ledgers.append(ledger)
        self.batch.entries += ledger.entries
        # Two ledgers of one log must not be written together: a visit may go on in the second.
        if self.batch.entries >= logreader.AT_ONCE:
            self.write()
            self.batch.sources[row.pk] = row

    def write(self) -> None:
        """Writes down what was read, and how far, together: nothing is counted twice."""
        batch, self.batch = self.batch, _Batch()
        with transaction.atomic():
            self.logbook.write(batch.ledgers)
            if batch.errors:
                self.logbook.write_errors(batch.errors)
            for file, mark in batch.files.values():
                file.offset, file.head, file.head_size = mark.offset, mark.head, mark.head_size
                file.done = mark.done
            files = [file for file, _ in batch.files.values()]
            put_back(files, "offset", "head", "head_size", "done")
            _write_spans(batch.spans)
            RejectedLine.objects.bulk_create(batch.rejected, batch_size=500)
            put_back(batch.sources.values(), *_COUNTED)


def _write_spans(spans: dict[tuple[int, int], tuple[int, int]]) -> None:
    numbers = {file for file, _ in spans}
    known = {
        (span.file_id, span.hour): span for span in LogSpan.objects.filter(file_id__in=numbers)
    }
    fresh, changed = [], []
    for (file, hour), (low, high) in spans.items():
        span = known.get((file, hour))
        if span is None:
            fresh.append(LogSpan(file_id=file, hour=hour, low=low, high=high))
        elif low < span.low or high > span.high:
            span.low, span.high = min(low, span.low), max(high, span.high)
            changed.append(span)
    LogSpan.objects.bulk_create(fresh, batch_size=500)
    put_back(changed, "low", "high")
