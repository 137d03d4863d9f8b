"""Templates of access lines, in either engine's own language, and how a line is taken apart.

A template of nginx may begin with `escape=json` or `escape=none`, as it does there.

Fields that stand in quotes end at the first quote without a backslash. A user's name stands bare
and may hold anything, so that it ends where the exact form of what follows begins.

Source: httpd 2.4, mod_log_config ("Custom Log Formats"); nginx, ngx_http_log_module
("log_format"); measured.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from ecumen.errors import EcumenError

COMMON = '%h %l %u %t "%r" %>s %b'
COMBINED = f'{COMMON} "%{{Referer}}i" "%{{User-Agent}}i"'
NAMES = {
    "common": COMMON,
    "combined": COMBINED,
    "vhost_common": f"%v {COMMON}",
    "vhost_combined": f"%v:%p {COMBINED}",
}
USUAL = ("combined", "common")

DATE = rb"\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}"
_ISO = rb"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:[+-]\d\d:\d\d|Z)"
_QUOTED = rb'(?:[^"\\]|\\.)*'
_WORD = rb"\S*"
_ANY = rb".*?"
# More digits than any size has; a number of thousands of them is none.
_NUMBER = rb"\d{1,18}|-"
_STATUS = rb"\d{3}"

# A name, or an address of IPv6, which has colons of its own, in brackets or not.
_SERVER = rb"(?:\[[^]\s]*\]|[^\s:]*(?::[0-9A-Fa-f:.]*:[0-9A-Fa-f.]*)?)"
# What a field of httpd's language holds, and its form where it stands bare.
_HTTPD: dict[str, tuple[str, bytes]] = {
    "h": ("client", rb"\S+"), "a": ("client", rb"\S+"), "l": ("", rb"\S+"), "u": ("user", _ANY),
    "t": ("time", rb"\[" + DATE + rb"\]"), "r": ("request", _ANY), "s": ("status", _STATUS),
    "b": ("bytes", _NUMBER), "B": ("bytes", _NUMBER), "O": ("sent", _NUMBER),
    "m": ("method", _WORD), "U": ("path", _ANY), "q": ("query", rb"(?:\?.*?)?"),
    "H": ("protocol", _WORD), "v": ("site", _SERVER), "V": ("host", _SERVER),
    "f": ("", _ANY), "R": ("", _ANY), "p": ("port", rb"\d+"),
    "D": ("microseconds", rb"\d{1,18}|-"), "T": ("seconds", rb"\d{1,18}|-"),
}  # fmt: skip
_NGINX: dict[str, tuple[str, bytes]] = {
    "remote_addr": ("client", rb"\S+"), "remote_user": ("user", _ANY),
    "time_local": ("time", DATE), "time_iso8601": ("iso", _ISO), "request": ("request", _ANY),
    "status": ("status", _STATUS), "body_bytes_sent": ("bytes", _NUMBER),
    "bytes_sent": ("sent", _NUMBER), "request_method": ("method", _WORD),
    "request_uri": ("target", _ANY), "uri": ("path", _ANY), "host": ("host", _SERVER),
    "http_host": ("host", _ANY), "server_name": ("site", _SERVER), "msec": ("iso", rb"\d+\.\d{3}"),
    "http_referer": ("referrer", _ANY), "http_user_agent": ("agent", _ANY),
    "server_protocol": ("protocol", _WORD), "server_port": ("port", rb"\d+"),
    "args": ("query", _ANY), "query_string": ("query", _ANY),
    "request_time": ("seconds", rb"[\d.]{1,24}|-"),
}  # fmt: skip
_HEADERS = {"referer": "referrer", "user-agent": "agent", "host": "host"}
_UNITS = {"s": "seconds", "ms": "milliseconds", "us": "microseconds"}
_HTTPD_FIELD = re.compile(r"%(?:[!<>]|\d{3},?)*(?:\{([^}]*)\})?([<>]?)(\^[A-Za-z]{2}|[A-Za-z%])")
_NGINX_FIELD = re.compile(r"\$(?:\{(\w+)\}|(\w+))")


# In front of the name of a field that only some lines hold.
_AT_TIMES = "?"
# Times since 1970, and parts of a second, which are left out (mod_log_config, "%{format}t").
_SINCE = {
    "sec": ("iso", rb"\d{9,10}"), "msec": ("t.msec", rb"\d{1,16}"),
    "usec": ("t.usec", rb"\d{1,19}"), "msec_frac": ("", rb"\d{3}"), "usec_frac": ("", rb"\d{6}"),
}  # fmt: skip
# What stands for several, and for what (strftime(3), in the locale of the server's own: "C").
_MEANS = {
    "c": "%a %b %e %H:%M:%S %Y", "D": "%m/%d/%y", "x": "%m/%d/%y", "F": "%Y-%m-%d",
    "r": "%I:%M:%S %p", "R": "%H:%M", "T": "%H:%M:%S", "X": "%H:%M:%S", "h": "%b",
    "n": "\n", "t": "\t",
}  # fmt: skip
_TOGETHER = re.compile(r"%([cDxFrRTXhnt])")
_TIMES: dict[str, tuple[str, bytes]] = {
    "Y": ("t.Y", rb"\d{4}"), "y": ("t.y", rb"\d\d"), "m": ("t.m", rb"\d\d"),
    "b": ("t.b", rb"[A-Z][a-z]{2}"), "B": ("t.B", rb"[A-Z][a-z]+"), "d": ("t.d", rb"\d\d"),
    "e": ("t.d", rb"[ \d]\d"), "j": ("t.j", rb"\d{3}"), "H": ("t.H", rb"\d\d"),
    "k": ("t.H", rb"[ \d]\d"), "I": ("t.I", rb"\d\d"), "l": ("t.I", rb"[ \d]\d"),
    "M": ("t.M", rb"\d\d"), "S": ("t.S", rb"\d\d"), "p": ("t.p", rb"[AP]M"),
    "P": ("t.p", rb"[ap]m"), "z": ("t.z", rb"[+-]\d{4}"), "s": ("iso", rb"\d{9,10}"),
}  # fmt: skip


class TemplateError(EcumenError):
    """A template that cannot be understood; says what and where."""


class Form(Protocol):
    """One way in which lines are written."""

    @property
    def name(self) -> str: ...

    @property
    def has(self) -> frozenset[str]:
        """The names of the fields that its lines hold."""

    def fields(self, line: bytes) -> Mapping[str, bytes] | None:
        """The known fields of a line, escapes undone; None for a line that is not of this form."""


@dataclass(frozen=True, slots=True)
class LineFormat:
    """A template, ready to take lines apart. at: the number of each known field's group.

    undo: takes back the escapes of one field. at_times: fields that only some lines hold.
    """

    name: str
    code: re.Pattern[bytes]
    at: dict[str, int]
    undo: Callable[[bytes], bytes]
    at_times: tuple[str, ...] = ()

    @property
    def has(self) -> frozenset[str]:
        return frozenset(name.lstrip(_AT_TIMES) for name in self.at)

    def fields(self, line: bytes) -> Mapping[str, bytes] | None:
        match = self.code.match(line)
        if match is None:
            return None
        found = dict(zip(self.at, match.groups(), strict=True))
        for name in self.at_times:
            text = found.pop(name)
            if text != b"-":
                found[name[1:]] = text
        if b"\\" in line:
            return {name: self.undo(text) for name, text in found.items()}
        return found


def line_format(given: str) -> LineFormat:
    """By name or template. Raises TemplateError."""
    template = NAMES.get(given, given)
    if "%" not in template and "$" not in template:
        known = ", ".join(NAMES)
        raise TemplateError(f"{given!r} is no template, and no name of one: {known}")
    if template.startswith("escape="):
        kind, _, template = template.removeprefix("escape=").partition(" ")
        undo = _UNDO.get(kind)
        if undo is None:
            raise TemplateError(f"{given!r}: there is no escape={kind}")
    else:
        undo = unescaped
    # In JSON as in the usual form, a quote within a field stands behind a backslash.
    pieces = list(_httpd(template) if _is_httpd(template) else _nginx(template))
    code, at = _compiled(pieces)
    return LineFormat(given, code, at, undo, tuple(n for n in at if n[0] == _AT_TIMES))


def _is_httpd(template: str) -> bool:
    return "$" not in template or _HTTPD_FIELD.search(template) is not None


# A piece of a template: literal text, or a field with its form.
_Piece = tuple[str, bytes, bool]


def _httpd(template: str) -> Iterator[_Piece]:
    text = template.replace('\\"', '"').replace("\\t", "\t").replace("\\n", "\n")
    at = 0
    for match in _HTTPD_FIELD.finditer(text):
        if match.start() > at:
            yield "", _literal(text[at : match.start()], template), False
        at = match.end()
        argument, _, letter = match.groups()
        if letter == "%":
            yield "", b"%", False
        elif letter in _HTTPD and re.match(r"%!?\d", match[0]):
            # For some statuses alone: for all others a dash stands there.
            name, form = _HTTPD[letter]
            yield f"{_AT_TIMES}{name}", b"(?:" + form + b"|-)", True
        elif argument is not None and letter == "i":
            yield _HEADERS.get(argument.lower(), ""), _ANY, True
        elif argument is not None and letter == "t":
            yield from _strftime(argument, template)
        elif letter == "T" and argument in _UNITS:
            yield _UNITS[argument], rb"\d{1,18}|-", True
        elif argument is not None and letter == "a":
            yield "client", rb"\S+", True
        elif argument is not None:
            yield "", _ANY, True
        else:
            name, form = _HTTPD.get(letter, ("", _WORD))
            yield name, form, True
    if at < len(text):
        yield "", _literal(text[at:], template), False


def _strftime(argument: str, template: str) -> Iterator[_Piece]:
    """A time by the patterns of strftime(3), in parts that `Moments` puts together; `begin:` and
    `end:` say which time of the request it is.
    """
    pattern = argument.removeprefix("begin:").removeprefix("end:")
    if pattern in _SINCE:
        name, form = _SINCE[pattern]
        yield name, form, True
        return
    for at, piece in enumerate(_TOGETHER.sub(lambda m: _MEANS[m[1]], pattern).split("%")):
        if at == 0 or not piece:
            literal = piece if at == 0 else "%"
        else:
            name, form = _TIMES.get(piece[0], ("", _WORD))
            yield name, form, True
            literal = piece[1:]
        if literal:
            yield "", literal.encode("utf-8", "surrogateescape"), False


def _literal(text: str, template: str) -> bytes:
    if "%" in text:
        raise TemplateError(f"{template!r}: {text!r} cannot be understood")
    return text.encode("utf-8", "surrogateescape")


def _nginx(template: str) -> Iterator[_Piece]:
    at = 0
    for match in _NGINX_FIELD.finditer(template):
        if match.start() > at:
            yield "", template[at : match.start()].encode("utf-8", "surrogateescape"), False
        at = match.end()
        name, form = _NGINX.get(match[1] or match[2], ("", _ANY))
        yield name, form, True
    if at < len(template):
        yield "", template[at:].encode("utf-8", "surrogateescape"), False


def _compiled(pieces: Sequence[_Piece]) -> tuple[re.Pattern[bytes], dict[str, int]]:
    whole = b""
    at: dict[str, int] = {}
    group = 0
    for number, (name, form, is_field) in enumerate(pieces):
        if not is_field:
            whole += re.escape(form)
            continue
        before = pieces[number - 1][1][-1:] if number and not pieces[number - 1][2] else b""
        behind = pieces[number + 1] if number + 1 < len(pieces) else ("", b"", False)
        quoted = before == b'"' and not behind[2] and behind[1][:1] == b'"'
        pattern = _QUOTED if quoted and form in (_ANY, _WORD) else form
        if name.lstrip(_AT_TIMES) and name not in at:
            group += 1
            at[name] = group
            whole += b"(" + pattern + b")"
        else:
            whole += b"(?:" + pattern + b")"
    return re.compile(whole + rb"\Z", re.DOTALL), at


# --- escapes ---

_ESCAPE = re.compile(rb"\\(x[0-9A-Fa-f]{2}|[\"\\nrtvbf])")
_PLAIN = {b'"': b'"', b"\\": b"\\", b"n": b"\n", b"r": b"\r", b"t": b"\t", b"v": b"\v",
          b"b": b"\b", b"f": b"\f"}  # fmt: skip


def unescaped(text: bytes) -> bytes:
    """With the log's own escapes undone, once."""
    if b"\\" not in text:
        return text
    return _ESCAPE.sub(_one, text)


def _one(match: re.Match[bytes]) -> bytes:
    what = match[1]
    return bytes([int(what[1:], 16)]) if what[:1] == b"x" else _PLAIN[what]


_JSON_ESCAPE = re.compile(rb"\\(u[0-9A-Fa-f]{4}|[\"\\/bfnrt])")
_JSON_PLAIN = {b"b": b"\b", b"f": b"\f", b"n": b"\n", b"r": b"\r", b"t": b"\t"}


def unescaped_json(text: bytes) -> bytes:
    """With the escapes of JSON strings undone, once; other bytes stand as they are."""
    return _JSON_ESCAPE.sub(_one_json, text)


def _one_json(match: re.Match[bytes]) -> bytes:
    what = match[1]
    if what[:1] == b"u":
        return chr(int(what[1:], 16)).encode("utf-8", "surrogatepass")
    return _JSON_PLAIN.get(what, what)


def _as_it_stands(text: bytes) -> bytes:
    return text


_UNDO: dict[str, Callable[[bytes], bytes]] = {
    "default": unescaped, "json": unescaped_json, "none": _as_it_stands,
}  # fmt: skip
