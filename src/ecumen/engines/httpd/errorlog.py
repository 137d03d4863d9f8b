"""Error logs: who asked, which path, and the reason where it is one that we know.

Source: httpd 2.4, core ("ErrorLogFormat", its built-in form) and the numbers of its messages.
"""

from __future__ import annotations

import re

from ecumen.logs.errorlog import ErrorEntry, Reason, moment

_LINE = re.compile(
    r"\[\w{3} (\w{3}) (\d{1,2}) (\d\d):(\d\d):(\d\d)(?:\.\d+)? (\d{4})\] \[([\w-]*:?\w+)\] "
    r"(?:\[pid [^\]]*\] )?(.*)\Z",
    re.DOTALL,
)
_CLIENT = re.compile(r"\[(?:client|remote) ([^\]]*?)(?::\d+)?\] ")
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


def error_entry(line: bytes) -> ErrorEntry | None:
    """A line in the built-in form, without its end; None for any other."""
    text = line.rstrip(b"\r").decode("utf-8", "surrogateescape")
    match = _LINE.match(text)
    if match is None or match[1] not in _MONTHS:
        return None
    month = _MONTHS.index(match[1]) + 1
    at = moment(match[6], month, *match.group(2, 3, 4, 5))
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
