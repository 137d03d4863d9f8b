"""Forms of lines that no template describes: JSON lines, and the extended log format.

Source: RFC 8259; the W3C working draft "Extended Log File Format" (WD-logfile-960323), an open
standard in which a line of the file itself names the fields.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from ecumen.errors import EcumenError
from ecumen.logs.template import NAMES, Form, TemplateError, line_format

# By what fields are usually called; what is asked for comes as a text.
_KEYS: dict[str, tuple[str, ...]] = {
    "client": ("remote_addr", "client", "client_ip", "ip", "clientip", "remote_ip"),
    "user": ("remote_user", "user"),
    "iso": ("time_iso8601", "time", "timestamp", "@timestamp", "datetime", "date"),
    "time": ("time_local",),
    "request": ("request", "request_line"),
    "method": ("request_method", "method", "verb"),
    "target": ("request_uri", "uri", "url", "path", "target"),
    "query": ("args", "query_string", "query"),
    "protocol": ("server_protocol", "protocol"),
    "status": ("status", "status_code", "code", "response"),
    "bytes": ("body_bytes_sent", "bytes", "size", "bytes_sent", "response_size"),
    "referrer": ("http_referer", "referer", "referrer"),
    "agent": ("http_user_agent", "user_agent", "agent", "useragent"),
    "host": ("http_host", "host", "vhost"),
    "site": ("server_name", "site"),
    "seconds": ("request_time", "duration", "seconds"),
    "milliseconds": ("duration_ms", "milliseconds"),
}
_FIELD_OF = {key: field for field, keys in _KEYS.items() for key in keys}
_RANK = {key: rank for keys in _KEYS.values() for rank, key in enumerate(keys)}


class DirectiveError(EcumenError):
    """A line of the file that is no entry of the log: it is not counted."""


class JsonLines:
    """One JSON object a line; its keys are known by what they are usually called."""

    name = "json"
    has = frozenset(_KEYS)

    def fields(self, line: bytes) -> Mapping[str, bytes] | None:
        try:
            whole = json.loads(line.decode("utf-8", "surrogateescape"))
        except (ValueError, RecursionError):
            return None
        if not isinstance(whole, dict):
            return None
        found: dict[str, bytes] = {}
        ranks: dict[str, int] = {}
        for key, value in whole.items():
            name = _FIELD_OF.get(key.lower())
            text = _text(value)
            if name is None or text is None:
                continue
            rank = _RANK[key.lower()]
            if name not in found or rank < ranks[name]:
                found[name], ranks[name] = text, rank
        return found if found.keys() & {"status", "request", "target"} else None


def _text(value: Any) -> bytes | None:
    if isinstance(value, bool) or not isinstance(value, (str, int, float)):
        return None
    try:
        return str(value).encode("utf-8", "surrogateescape")
    except UnicodeEncodeError:
        # An escape for half a character, which stands for no byte of the line.
        return str(value).encode("utf-8", "surrogatepass")


_W3C = {
    "c-ip": "client", "cs-username": "user", "cs-method": "method", "cs-uri": "target",
    "cs-uri-stem": "target", "cs-uri-query": "query", "cs-version": "protocol",
    "sc-status": "status", "sc-bytes": "bytes", "bytes": "bytes", "cs-host": "host",
    "cs(host)": "host", "cs(user-agent)": "agent", "cs(referer)": "referrer",
    "s-port": "port", "time-taken": "seconds",
}  # fmt: skip
_FIELDS = b"#fields:"


class ExtendedLog:
    """The form in which `#Fields:` names the columns. Times are in UTC; a field that is not known
    is `-`; a text with blanks stands in quotes, or with `+` in their place.
    """

    name = "w3c"
    has = frozenset({*_W3C.values(), "iso"})

    def __init__(self) -> None:
        self.columns: list[str] = []
        self.date = b""

    def fields(self, line: bytes) -> Mapping[str, bytes] | None:
        """Raises DirectiveError for a line that begins with `#`."""
        if line.startswith(b"#"):
            lower = line.lower()
            if lower.startswith(_FIELDS):
                names = line[len(_FIELDS) :].decode("ascii", "replace").lower()
                self.columns = names.split()
            elif lower.startswith(b"#date:"):
                self.date = line[6:].split()[0] if line[6:].split() else b""
            raise DirectiveError
        values = _columns(line)
        if not self.columns or len(values) != len(self.columns):
            return None
        row = dict(zip(self.columns, values, strict=True))
        found = {}
        for column, value in row.items():
            name = _W3C.get(column)
            if name is not None and name not in found:
                found[name] = value.replace(b"+", b" ") if name == "agent" else value
        at, day = row.get("time", b""), row.get("date", self.date)
        if at and day:
            found["iso"] = day + b"T" + at.partition(b".")[0] + b"Z"
        return found


def _columns(line: bytes) -> list[bytes]:
    """Fields between blanks; within quotes a doubled quote is one."""
    if b'"' not in line:
        return line.split()
    found, rest = [], line.strip()
    while rest:
        if rest.startswith(b'"'):
            end = rest.find(b'"', 1)
            while end > 0 and rest[end + 1 : end + 2] == b'"':
                end = rest.find(b'"', end + 2)
            end = len(rest) if end < 0 else end
            found.append(rest[1:end].replace(b'""', b'"'))
            rest = rest[end + 1 :].lstrip()
        else:
            word, _, rest = rest.partition(b" ")
            found.append(word)
            rest = rest.lstrip()
    return found


def form_of(given: str) -> Form:
    """By name or template; each call gives one that has read nothing yet. Raises TemplateError."""
    if given == JsonLines.name:
        return JsonLines()
    if given == ExtendedLog.name:
        return ExtendedLog()
    if given not in NAMES and "%" not in given and "$" not in given:
        known = ", ".join((*NAMES, JsonLines.name, ExtendedLog.name))
        raise TemplateError(f"{given!r} is no template, and no name of one: {known}")
    return line_format(given)
