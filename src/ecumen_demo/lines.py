"""Writes lines as the engines do, for the demo: by a site's template, and for error logs."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from functools import lru_cache
from typing import NamedTuple


class DemoLine(NamedTuple):
    """One request. at: seconds since 1970, UTC; the demo server's clock runs in UTC."""

    at: int
    client: str
    method: str
    path: str
    status: int
    size: int
    referrer: str
    agent: str
    site: str
    host: str


# Fields as Python's own format language names them.
_FIELDS = {
    "%h": "{1}", "%l": "-", "%u": "-", "%t": "[{stamp}]", "%r": "{2} {3} HTTP/1.1",
    "%>s": "{4}", "%O": "{5}", "%b": "{5}", "%v": "{8}", "%p": "80", "%{Referer}i": "{6}",
    "%{User-Agent}i": "{7}", "%{Host}i": "{9}",
}  # fmt: skip
_FIELD = re.compile(r"%(?:\{[A-Za-z-]+\})?>?[A-Za-z]")
_HOUR = 3600


def written(template: str, line: DemoLine) -> str:
    """A line with its end."""
    minute, second = divmod(line.at % _HOUR, 60)
    stamp = f"{_hour(line.at // _HOUR)}:{minute:02d}:{second:02d} +0000"
    return _pattern(template).format(*line, stamp=stamp)


@lru_cache(maxsize=1024)
def _hour(hour: int) -> str:
    return datetime.fromtimestamp(hour * _HOUR, UTC).strftime("%d/%b/%Y:%H")


@lru_cache(maxsize=64)
def _pattern(template: str) -> str:
    return _FIELD.sub(lambda match: _FIELDS[match[0]], template.replace('\\"', '"')) + "\n"


def error_line(engine: str, line: DemoLine, said: str) -> str:
    """What goes into the error log of an engine of this kind."""
    level, _, message = said.partition(" ")
    return _ERRORS[engine](line, datetime.fromtimestamp(line.at, UTC), level, message)


def _httpd_error(line: DemoLine, when: datetime, level: str, message: str) -> str:
    stamp = f"{when:%a %b %d %H:%M:%S}.000000 {when:%Y}"
    message = message.replace("{asked}", line.path)
    return f"[{stamp}] {level} [pid 612:tid 7] [client {line.client}:50000] {message}\n"


def _nginx_error(line: DemoLine, when: datetime, level: str, message: str) -> str:
    return (
        f"{when:%Y/%m/%d %H:%M:%S} {level} 640#640: *1 {message}, client: {line.client}, "
        f'server: {line.site}, request: "{line.method} {line.path} HTTP/1.1", '
        f'host: "{line.host}"\n'
    )


_ERRORS = {"httpd": _httpd_error, "nginx": _nginx_error}
