"""What a line of an error log says: who asked, which path, and the reason where we know it.

The line itself is read by its engine. Moments stand there in the server's own time, without a zone.
"""

from __future__ import annotations

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


def moment(year: str, month: int, *rest: str) -> int | None:
    """Seconds since 1970 as if the server's own time were UTC; None where there is no such moment.

    rest: day, hour, minute, second.
    """
    try:
        day, hour, minute, second = (int(each) for each in rest)
        at = datetime(int(year), month, day, hour, minute, min(second, 59), tzinfo=UTC)
    except (ValueError, OverflowError):
        return None
    return (at - _EPOCH) // timedelta(seconds=1)
