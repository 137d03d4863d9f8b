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

from ecumen.audit.scene import Site
from ecumen.causes import Source, SourceKind, sources
from ecumen.errors import RequestError
from ecumen.logs.entry import Entry, EntryReader
from ecumen.logs.forms import DirectiveError, form_of
from ecumen.passage.front import request_to
from ecumen_machine.following import content, lines_between, lines_of
from ecumen_web.store.figures import HOUR, Asked
from ecumen_web.store.loading import scene_of
from ecumen_web.store.models import LogFile, LogSpan, SurveyRecord
from ecumen_web.store.reading import log_root
from ecumen_web.store.translate import clean

_PACKED_AT_ONCE = 64 << 20  # bytes of content that are unpacked once
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
    source: Source
    reader: EntryReader
    by_key: dict[bytes, Site]


def raw_lines(record: SurveyRecord, asked: Asked, words: str, limit: int) -> RawLines:
    """The last lines of the range first. words: all stand in each line, in any case."""
    scene = scene_of(record.file)
    root = log_root(scene.survey) or ""
    books: dict[tuple[str, str], _Book] = {}
    by_key = {_bytes(site.subject): site for site in reversed(scene.hosts)}
    for source in sources(scene):
        if source.kind is SourceKind.ACCESS and not source.trouble:
            reader = EntryReader([form_of(template) for template in source.templates])
            books[clean(source.path), source.engine] = _Book(root, source, reader, by_key)
    files = {
        file.pk: (file, books[key])
        for file in LogFile.objects.filter(
            source__host=record.host, source__kind=SourceKind.ACCESS
        ).select_related("source")
        if (key := (file.source.path, file.source.engine)) in books
        and _may_hold(books[key].source, asked.site)
    }
    spans: dict[int, list[tuple[int, int, int]]] = defaultdict(list)
    rows = LogSpan.objects.filter(
        file__source__host=record.host,
        hour__gte=asked.begin // HOUR,
        hour__lt=-(-asked.end // HOUR),
    )
    for number, hour, low, high in rows.values_list("file_id", "hour", "low", "high"):
        if number in files:
            spans[hour].append((number, low, high))
    began = time.monotonic()
    found: list[RawLine] = []
    parts = [word.lower().encode("utf-8", "surrogateescape") for word in words.split()]
    unpacked = _Unpacked()
    for hour in sorted(spans, reverse=True):
        here: list[RawLine] = []
        for number, low, high in spans[hour]:
            file, book = files[number]
            lines = unpacked.lines(file, low, high, max(parts, key=len, default=b""))
            here += _of_span(book, file, hour, lines, asked, parts)
        here.sort(key=lambda line: (-line.at, line.path, -line.offset))
        found += here
        if len(found) >= limit:
            return RawLines(found[:limit], found[limit - 1].at)
        if time.monotonic() - began > PATIENCE and hour > min(spans):
            return RawLines(found, hour * HOUR)
    return RawLines(found, None)


class _Unpacked:
    """Reads stretches of files; what is packed is unpacked once for all of them."""

    def __init__(self) -> None:
        self._kept: dict[int, bytes] = {}

    def lines(self, file: LogFile, low: int, high: int, word: bytes) -> Iterator[tuple[int, bytes]]:
        if not file.packed or file.offset > _PACKED_AT_ONCE:
            yield from lines_between(file.path, file.packed, low, high, word)
            return
        if file.pk not in self._kept:
            self._kept[file.pk] = content(file.path)
        yield from lines_of(self._kept[file.pk][low:high], low, word)


def _may_hold(source: Source, site: str) -> bool:
    if not site:
        return True
    if source.books is None:
        return False
    keys = {source.books.site(b"", b""), *(_bytes(each.subject) for each in source.sites)}
    return site in {_key(key) for key in keys}


def _of_span(
    book: _Book, file: LogFile, hour: int, lines: Iterator[tuple[int, bytes]], asked: Asked,
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
    root: str, file: LogFile, at: int, line: bytes, entry: Entry, key: bytes, site: Site | None
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


def _address(site: Site | None, entry: Entry, target: str) -> str:
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
