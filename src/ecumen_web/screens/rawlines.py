"""Raw lines, read from the logs when they are asked for: the last of a range first, or those that
hold a word. Only the stretches of the files that hold the range are read.
"""

from __future__ import annotations

import time
import zlib
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from ecumen.audit.scene import Scene, Site
from ecumen.causes import LogOfSites, SourceKind, sources
from ecumen.errors import RequestError
from ecumen.logs.entry import EntryReader, LogEntry
from ecumen.logs.forms import DirectiveError, form_of
from ecumen.passage.front import request_to
from ecumen_machine.following import content, lines_between, lines_of
from ecumen_machine.logdoor import LogDoor
from ecumen_web.reading.lines import log_door, log_root
from ecumen_web.screens.figures import HOUR, Selection
from ecumen_web.store.models import LogFile, LogSpan, SurveyRecord
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import scene_of

_PACKED_AT_ONCE = 64 << 20  # bytes of content that are unpacked once
_MOST_ASKED = 5_000  # files at once
_FEW = 100  # logs that are named in a question
PATIENCE = 0.8  # seconds after which what was found so far is shown


@dataclass(frozen=True, slots=True)
class RawLine:
    """One line as it stands. url: the request, to be followed; "" where there is none."""

    path: str
    offset: int
    text: str
    site: str
    url: str
    at: int
    client: str
    user: str
    method: str
    target: str
    protocol: str
    status: int
    size: int
    referrer: str
    agent: str
    host: str
    took: int | None


@dataclass(frozen=True, slots=True)
class RawLines:
    """searched_to: everything from this moment on was looked at; None where all of it was."""

    lines: list[RawLine]
    searched_to: int | None


@dataclass(frozen=True, slots=True)
class _Book:
    """A log with what reads it. root: what stands before its path here."""

    root: str
    source: LogOfSites
    reader: EntryReader
    by_key: dict[bytes, Site]


def raw_lines(record: SurveyRecord, asked: Selection, words: str, limit: int) -> RawLines:
    """The last lines of the range first. words: all stand in each line, in any case."""
    scene = scene_of(record.file)
    library = _Library(record, scene, asked.site)
    began = time.monotonic()
    found: list[RawLine] = []
    parts = [word.lower().encode("utf-8", "surrogateescape") for word in words.split()]
    unpacked = _Unpacked(log_door(record))
    searched: int | None = None
    for hour, spans in library.hours(asked.begin // HOUR, -(-asked.end // HOUR)):
        if searched is not None and time.monotonic() - began > PATIENCE:
            return RawLines(found, searched * HOUR)
        searched = hour
        here: list[RawLine] = []
        for file, book, low, high in spans:
            lines = unpacked.lines(file, low, high, max(parts, key=len, default=b""))
            here += _of_span(book, file, hour, lines, asked, parts)
        here.sort(key=lambda line: (-line.at, line.path, -line.offset))
        found += here
        if len(found) >= limit:
            return RawLines(found[:limit], found[limit - 1].at)
    return RawLines(found, None)


_Stretch = tuple[LogFile, _Book, int, int]


class _Library:
    """The access logs of a server, and where in them the lines of an hour lie. Files are looked up
    as they are come to: thousands of sites write a log each.
    """

    def __init__(self, record: SurveyRecord, scene: Scene, site: str) -> None:
        self._host = record.host
        self._root = log_root(record) or ""
        found: dict[tuple[str, str], LogOfSites] = scene.once("sources by path", _by_path)
        self._sources = {k: each for k, each in found.items() if _may_hold(each, site)}
        self._by_key: dict[bytes, Site] = scene.once("sites by log key", _by_key)
        self._books: dict[int, _Book | None] = {}
        self._files: dict[int, LogFile] = {}

    def hours(self, first: int, behind: int) -> Iterator[tuple[int, list[_Stretch]]]:
        """The hours that hold something, the last one first."""
        access = LogSpan.objects.filter(
            file__source__host=self._host, file__source__kind=SourceKind.ACCESS
        )
        if len(self._sources) <= _FEW:
            access = access.filter(file__source__path__in={path for path, _ in self._sources})
        width = 1
        while first < behind:
            begin = max(first, behind - width)
            here = access.filter(hour__gte=begin, hour__lt=behind)
            rows = list(here.values_list("hour", "file_id", "low", "high"))
            self._look_up({number for _, number, *_ in rows} - self._files.keys())
            by_hour: dict[int, list[_Stretch]] = defaultdict(list)
            for hour, number, low, high in rows:
                file = self._files.get(number)
                book = self._book(file) if file is not None else None
                if file is not None and book is not None:
                    by_hour[hour].append((file, book, low, high))
            yield from sorted(by_hour.items(), reverse=True)
            # Quiet hours are passed over in longer steps.
            behind, width = begin, width * 4

    def _look_up(self, numbers: set[int]) -> None:
        wanted = sorted(numbers)
        for begin in range(0, len(wanted), _MOST_ASKED):
            rows = LogFile.objects.filter(pk__in=wanted[begin : begin + _MOST_ASKED])
            self._files |= {file.pk: file for file in rows.select_related("source")}

    def _book(self, file: LogFile) -> _Book | None:
        """None where the log is none of this survey's, or holds nothing of the site."""
        if file.source_id not in self._books:
            source = self._sources.get((file.source.path, file.source.engine))
            self._books[file.source_id] = None
            if source is not None:
                reader = EntryReader([form_of(template) for template in source.templates])
                self._books[file.source_id] = _Book(self._root, source, reader, self._by_key)
        return self._books[file.source_id]


def _by_path(scene: Scene) -> dict[tuple[str, str], LogOfSites]:
    return {
        (clean(source.path), source.engine): source
        for source in sources(scene)
        if source.kind is SourceKind.ACCESS and not source.trouble
    }


def _by_key(scene: Scene) -> dict[bytes, Site]:
    return {_bytes(site.subject): site for site in reversed(scene.hosts)}


class _Unpacked:
    """Reads stretches of files; what is packed is unpacked once for all of them."""

    def __init__(self, door: LogDoor) -> None:
        self._door = door
        self._kept: dict[int, bytes] = {}

    def lines(self, file: LogFile, low: int, high: int, word: bytes) -> Iterator[tuple[int, bytes]]:
        if not file.packed or file.offset > _PACKED_AT_ONCE:
            yield from lines_between(file.path, file.packed, low, high, word, self._door)
            return
        if file.pk not in self._kept:
            self._kept[file.pk] = content(file.path, _PACKED_AT_ONCE, self._door)
        yield from lines_of(self._kept[file.pk][low:high], low, word)


def _may_hold(source: LogOfSites, site: str) -> bool:
    if not site:
        return True
    if source.books is None:
        return False
    keys = {source.books.site(b"", b""), *(_bytes(each.subject) for each in source.sites)}
    return site in {_key(key) for key in keys}


def _of_span(
    book: _Book, file: LogFile, hour: int, lines: Iterator[tuple[int, bytes]], asked: Selection,
    parts: Sequence[bytes],
) -> Iterator[RawLine]:  # fmt: skip
    books = book.source.books
    assert books is not None
    classes = {each // 100 for each in asked.classes}
    try:
        for at, line in lines:
            if len(parts) > 1 and not all(part in line.lower() for part in parts):
                continue
            try:
                entry = book.reader.read(line)
            except DirectiveError:
                continue
            if isinstance(entry, str) or entry.at // HOUR != hour:
                continue
            if not asked.begin <= entry.at < asked.end:
                continue
            if classes and entry.status // 100 not in classes:
                continue
            key = books.site(entry.site, entry.host)
            if asked.site and _key(key) != asked.site:
                continue
            yield _shown(book.root, file, at, line, entry, key, book.by_key.get(key))
    except (OSError, EOFError, zlib.error):
        return


def _shown(
    root: str, file: LogFile, at: int, line: bytes, entry: LogEntry, key: bytes, site: Site | None
) -> RawLine:
    target = entry.path + (b"?" + entry.query if entry.query else b"")
    return RawLine(
        path=clean(file.path.removeprefix(root)),
        offset=at,
        text=_text(line[:4000]),
        site=site.name if site is not None else _text(key),
        url=_address(site, entry, _text(target)),
        at=entry.at,
        client=_text(entry.client),
        user=_text(entry.user),
        method=_text(entry.method),
        target=_text(target),
        protocol=_text(entry.protocol),
        status=entry.status,
        size=entry.size,
        referrer=_text(entry.referrer),
        agent=_text(entry.agent),
        host=_text(entry.host),
        took=entry.took if entry.took >= 0 else None,
    )


def _address(site: Site | None, entry: LogEntry, target: str) -> str:
    if site is None or not target.startswith("/"):
        return target if "://" in target else ""
    host = _text(entry.host)
    name = host.partition(":")[0] if host and host != "-" else site.summary.asked_as
    try:
        url = request_to(site.summary, name, "/").url
    except RequestError:
        return ""
    return f"{urlsplit(url).scheme}://{urlsplit(url).netloc}{target}"


def _key(key: bytes) -> str:
    """As sites are called in the store."""
    return clean(key.decode("utf-8", "surrogateescape"))


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _text(data: bytes) -> str:
    return data.decode("utf-8", "backslashreplace")
