"""Error logs of both engines: who asked, which path, and the reason where it is one that we know.

Moments stand there in the server's own time, without a zone.

Source: httpd 2.4, core ("ErrorLogFormat", its built-in form) and the numbers of its messages;
nginx, core ("error_log") and its sources; measured.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


class Reason(StrEnum):
    """Why a request failed, as the engine said. Each belongs to one gate of the passage."""

    SHUT = "a folder on the way may not be passed"
    UNREADABLE = "the file may not be read"
    PERMISSION = "the permission is missing"
    LINK = "a link on the way is not followed"
    MISSING = "there is no such file"
    NO_INDEX = "the folder has no index, and no list is shown"
    REFUSED = "the rules refuse it"
    LOGIN = "the name or the password is wrong"
    OVERRIDE = "an override file holds something that is not allowed, or cannot be read"
    LOOP = "the request was led in a circle"
    UPSTREAM = "the program behind the site does not answer"
    SCRIPT = "the script fails"
    REQUEST = "the request itself is wrong"
    OTHER = ""


GATE_OF: Mapping[Reason, tuple[str, ...]] = {
    Reason.SHUT: ("ladder", "context"),
    Reason.UNREADABLE: ("ladder", "context"),
    Reason.PERMISSION: ("ladder", "context"),
    Reason.LINK: ("ladder",),
    Reason.MISSING: ("serve", "way"),
    Reason.NO_INDEX: ("serve",),
    Reason.REFUSED: ("rule",),
    Reason.LOGIN: ("rule",),
    Reason.OVERRIDE: ("rule",),
    Reason.LOOP: ("way",),
    Reason.UPSTREAM: ("way", "context"),
    Reason.SCRIPT: ("serve",),
    Reason.REQUEST: ("site", "door"),
}


@dataclass(frozen=True, slots=True)
class ErrorEntry:
    """One line. at: seconds since 1970 as if the server's own time were UTC. client, site, asked,
    path: "" where the line does not say it. asked: the path of the request; path: on the disk.
    """

    at: int
    level: str
    client: str
    site: str
    asked: str
    path: str
    reason: Reason
    message: str


_HTTPD = re.compile(
    r"\[\w{3} (\w{3}) (\d{1,2}) (\d\d):(\d\d):(\d\d)(?:\.\d+)? (\d{4})\] \[([\w-]*:?\w+)\] "
    r"(?:\[pid [^\]]*\] )?(.*)\Z",
    re.DOTALL,
)
_CLIENT = re.compile(r"\[(?:client|remote) ([^\]]*?)(?::\d+)?\] ")
_NGINX = re.compile(
    r"(\d{4})/(\d\d)/(\d\d) (\d\d):(\d\d):(\d\d) \[(\w+)\] \d+#\d+: (?:\*\d+ )?(.*)\Z", re.DOTALL
)
_MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split()

# By number: the reason, and how the path is found in the message.
_IN_QUOTES = r"filesystem path '(.*)'\)"
_AT_END = r": (/.*?)(?:, referer: .*)?\Z"
_MESSAGES: dict[str, tuple[Reason, str]] = {
    "AH00035": (Reason.SHUT, _IN_QUOTES),
    "AH00036": (Reason.SHUT, _IN_QUOTES),
    "AH00529": (Reason.SHUT, r"ensure it is readable and that '(.*)' is executable"),
    "AH00132": (Reason.UNREADABLE, _AT_END),
    "AH00037": (Reason.LINK, _AT_END),
    "AH00128": (Reason.MISSING, _AT_END),
    "AH01276": (Reason.NO_INDEX, r"Cannot serve directory (.*): No matching"),
    "AH01275": (Reason.UNREADABLE, _AT_END),
    "AH01630": (Reason.REFUSED, _AT_END),
    "AH01797": (Reason.REFUSED, _AT_END),
    "AH01617": (Reason.LOGIN, ""),
    "AH01618": (Reason.LOGIN, ""),
    "AH00124": (Reason.LOOP, ""),
    "AH00957": (Reason.UPSTREAM, ""),
    "AH01114": (Reason.UPSTREAM, ""),
    "AH01102": (Reason.UPSTREAM, ""),
    "AH01264": (Reason.SCRIPT, _AT_END),
    "AH02811": (Reason.SCRIPT, _AT_END),
    "AH01215": (Reason.SCRIPT, ""),
    "AH00126": (Reason.REQUEST, ""),
    "AH00550": (Reason.REQUEST, ""),
    "AH02032": (Reason.REQUEST, ""),
}
_NUMBER = re.compile(r"\bAH\d{5}\b")
_OVERRIDE = re.compile(r"(/\S*): .*(?:Invalid command|not allowed here|takes|must be|Unknown)")

_NGINX_MESSAGES: tuple[tuple[re.Pattern[str], Reason], ...] = (
    (re.compile(r'"([^"]*)" (?:failed|is forbidden|is not found)? ?\(13: '), Reason.PERMISSION),
    (re.compile(r'"([^"]*)" (?:failed|is not found)? ?\((?:2|20): '), Reason.MISSING),
    (re.compile(r'"([^"]*)" failed \(40: '), Reason.LINK),
    (re.compile(r'directory index of "([^"]*)" is forbidden'), Reason.NO_INDEX),
    (re.compile(r"access forbidden by rule()"), Reason.REFUSED),
    (re.compile(r"(?:was not found in|password mismatch|no user/password)()"), Reason.LOGIN),
    (re.compile(r"(?:internal )?redirection cycle()"), Reason.LOOP),
    (re.compile(r"(?:upstream|while connecting to)()"), Reason.UPSTREAM),
    (re.compile(r"client (?:sent|intended)()"), Reason.REQUEST),
)  # fmt: skip
_NGINX_FACT = re.compile(r', (client|server|request|host|referrer): ("[^"]*"|[^,]*)')


def error_entry(line: bytes) -> ErrorEntry | None:
    """A line of either engine in its usual form, without its end; None for any other."""
    text = line.rstrip(b"\r").decode("utf-8", "surrogateescape")
    if text.startswith("["):
        return _of_httpd(text)
    return _of_nginx(text)


def _of_httpd(text: str) -> ErrorEntry | None:
    match = _HTTPD.match(text)
    if match is None or match[1] not in _MONTHS:
        return None
    month = _MONTHS.index(match[1]) + 1
    at = _seconds(match[6], month, *match.group(2, 3, 4, 5))
    if at is None:
        return None
    rest = match[8]
    client = _CLIENT.search(rest)
    message = rest[client.end() :] if client else rest
    number = _NUMBER.search(message)
    reason, path, asked = Reason.OTHER, "", ""
    if number is not None and number[0] in _MESSAGES:
        reason, where = _MESSAGES[number[0]]
        found = re.search(where, message) if where else None
        path = found[1] if found else ""
        of = re.search(r"access to (.*?) (?:denied|failed) \(filesystem", message)
        asked = of[1] if of else ""
    elif match[7].endswith("alert") and (found := _OVERRIDE.search(message)):
        reason, path = Reason.OVERRIDE, found[1]
    level = match[7].rpartition(":")[2]
    return ErrorEntry(at, level, client[1] if client else "", "", asked, path, reason, message)


def _of_nginx(text: str) -> ErrorEntry | None:
    match = _NGINX.match(text)
    if match is None:
        return None
    at = _seconds(match[1], int(match[2]), *match.group(3, 4, 5, 6))
    if at is None:
        return None
    message = match[8]
    said = _NGINX_FACT.search(message)
    head = message[: said.start()] if said else message
    facts = {name: value.strip('"') for name, value in _NGINX_FACT.findall(message)}
    reason, path = Reason.OTHER, ""
    for pattern, known in _NGINX_MESSAGES:
        found = pattern.search(head)
        if found:
            reason, path = known, found[1]
            break
    words = facts.get("request", "").split(" ")
    asked = words[1].partition("?")[0] if len(words) > 1 else ""
    site = facts.get("host", facts.get("server", ""))
    return ErrorEntry(at, match[7], facts.get("client", ""), site, asked, path, reason, message)


def _seconds(year: str, month: int, *rest: str) -> int | None:
    try:
        day, hour, minute, second = (int(each) for each in rest)
        at = datetime(int(year), month, day, hour, minute, min(second, 59), tzinfo=UTC)
    except (ValueError, OverflowError):
        return None
    return (at - _EPOCH) // timedelta(seconds=1)
