"""Error logs: who asked, which path, and the reason where it is one that we know.

Source: nginx, core ("error_log") and its sources; measured.
"""

from __future__ import annotations

import re

from ecumen.logs.errorlog import ErrorEntry, Reason, moment

_LINE = re.compile(
    r"(\d{4})/(\d\d)/(\d\d) (\d\d):(\d\d):(\d\d) \[(\w+)\] \d+#\d+: (?:\*\d+ )?(.*)\Z", re.DOTALL
)

_MESSAGES: tuple[tuple[re.Pattern[str], Reason], ...] = (
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
_FACT = re.compile(r', (client|server|request|host|referrer): ("[^"]*"|[^,]*)')


def error_entry(line: bytes) -> ErrorEntry | None:
    """A line in its usual form, without its end; None for any other."""
    text = line.rstrip(b"\r").decode("utf-8", "surrogateescape")
    match = _LINE.match(text)
    if match is None:
        return None
    at = moment(match[1], int(match[2]), *match.group(3, 4, 5, 6))
    if at is None:
        return None
    message = match[8]
    said = _FACT.search(message)
    head = message[: said.start()] if said else message
    facts = {name: value.strip('"') for name, value in _FACT.findall(message)}
    reason, path = Reason.OTHER, ""
    for pattern, known in _MESSAGES:
        found = pattern.search(head)
        if found:
            reason, path = known, found[1]
            break
    words = facts.get("request", "").split(" ")
    asked = words[1].partition("?")[0] if len(words) > 1 else ""
    site = facts.get("host", facts.get("server", ""))
    return ErrorEntry(at, match[7], facts.get("client", ""), site, asked, path, reason, message)
