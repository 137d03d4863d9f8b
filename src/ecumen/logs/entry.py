"""One line of an access log as values: what came from whom, and what went out."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from ecumen.caches import Bounded
from ecumen.logs.forms import DirectiveError
from ecumen.logs.moments import Moments
from ecumen.logs.template import Form

LONGEST_LINE = 1 << 20  # bytes; a longer one is rejected
# RFC 9112, section 3: a request line. One without a protocol is of HTTP/0.9, or was cut.
_REQUEST = re.compile(
    rb"([!#$%&'*+.^_`|~0-9A-Za-z-]+) (/[^ ]*|\*|[A-Za-z][A-Za-z0-9+.-]*://[^ ]*|[^\s/]+:\d+)"
    rb"(?: (HTTP/\d(?:\.\d)?))?\Z"
)
_KEPT = 100_000
NOTHING = b"-"


class LogEntry(NamedTuple):
    """One request as it was logged. at: seconds since 1970, UTC; zone: seconds east of it.

    method, path: b"" for what is no request. path: without the query. status: 0 where the line
    does not say it. size: bytes. took: milliseconds, -1 where the line does not say it. Texts are
    b"" where the form of the line has none.
    """

    at: int
    zone: int
    client: bytes
    user: bytes
    method: bytes
    path: bytes
    query: bytes
    protocol: bytes
    status: int
    size: int
    referrer: bytes
    agent: bytes
    site: bytes
    host: bytes
    took: int


class Lines(NamedTuple):
    """Lines that were read. numbers: which line each entry was; rejected: which, and why."""

    entries: list[LogEntry]
    numbers: list[int]
    rejected: list[tuple[int, str]]


class Requests:
    """Reads request lines; the same ones come again and again."""

    def __init__(self) -> None:
        self._known: Bounded[bytes, tuple[bytes, bytes, bytes, bytes] | None] = Bounded(_KEPT)

    def read(self, text: bytes) -> tuple[bytes, bytes, bytes, bytes] | None:
        """Method, path, query and protocol; None for what is no request."""
        known = self._known.get(text, False)
        if known is not False:
            return known  # type: ignore[return-value]
        match = _REQUEST.match(text)
        found = None
        if match is not None:
            path, _, query = match[2].partition(b"?")
            found = (match[1], path, query, match[3] or b"")
        self._known[text] = found
        return found


class EntryReader:
    """Reads lines of one form, or of the first of several that fits."""

    def __init__(self, forms: Sequence[Form]) -> None:
        self.forms = forms
        self.moments = Moments()
        self.requests = Requests()

    def read(self, line: bytes) -> LogEntry | str:
        """A line without its end; where it is rejected, why.

        Raises DirectiveError for a line that is no entry and was not meant to be one.
        """
        if line.endswith(b"\r"):
            line = line[:-1]
        if not line:
            return "an empty line"
        if len(line) > LONGEST_LINE:
            return f"longer than {LONGEST_LINE} bytes"
        why = "not of the form that the configuration names"
        for form in self.forms:
            fields = form.fields(line)
            if fields is None:
                continue
            moment = self.moments.stamp(fields)
            if moment is None:
                why = "without a moment that can be"
                continue
            found = self._entry(fields, moment)
            if found is not None:
                return found
            why = "a number in it is none"
        return why

    def all(self, lines: Iterable[bytes]) -> Lines:
        """Reads lines; what is no entry and was not meant to be one is left out."""
        found = Lines([], [], [])
        for number, line in enumerate(lines):
            try:
                read = self.read(line)
            except DirectiveError:
                continue
            if isinstance(read, str):
                found.rejected.append((number, read))
            else:
                found.entries.append(read)
                found.numbers.append(number)
        return found

    def _entry(self, fields: Mapping[str, bytes], moment: tuple[int, int]) -> LogEntry | None:
        get = fields.get
        asked = asked_for(fields, self.requests)
        status = get("status", b"0")
        size = get("bytes", get("sent", b"0"))
        if not status.isdigit() or not (size.isdigit() or size in (NOTHING, b"")):
            return None
        method, path, query, protocol = asked or (b"", b"", b"", b"")
        return LogEntry(
            *moment, get("client", b""), get("user", b""), method, path, query,
            protocol, int(status[:4]), int(size[:18]) if size.isdigit() else 0,
            get("referrer", b""), get("agent", b""), get("site", b""), get("host", b"").lower(),
            _took(fields),
        )  # fmt: skip


def asked_for(
    fields: Mapping[str, bytes], requests: Requests
) -> tuple[bytes, bytes, bytes, bytes] | None:
    """Method, path, query and protocol, from the request as a whole or from its parts."""
    if "request" in fields:
        return requests.read(fields["request"])
    method = fields.get("method", b"")
    where = fields.get("target", fields.get("path", b""))
    if method in (b"", NOTHING):
        method = b""
    if where in (b"", NOTHING):
        where = b""
    path, _, query = where.partition(b"?")
    query = query or fields.get("query", b"").removeprefix(b"?")
    if not method and not path:
        return None
    return method, path, b"" if query == NOTHING else query, fields.get("protocol", b"")


_FACTORS = (("milliseconds", 1.0), ("microseconds", 0.001), ("seconds", 1000.0))


def _took(fields: Mapping[str, bytes]) -> int:
    for name, factor in _FACTORS:
        text = fields.get(name, b"")
        if text and text != NOTHING:
            try:
                return int(float(text) * factor)
            except (ValueError, OverflowError):
                return -1
    return -1
