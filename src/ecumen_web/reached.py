"""Servers that are not this machine and can be reached all the same: what stands in for them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.utils import timezone
from django.utils.module_loading import import_string


@dataclass(frozen=True, slots=True)
class Substitute:
    """logs: the folder that holds the server's logs at their own paths. made_by: the dotted name of
    what puts them there, a function of the folder and of how it goes; "" for nothing. answers_at:
    address and port of what answers for it, None where nothing does. ahead: by how many seconds
    the server's clock goes before this machine's. changed_by: the dotted name of what changes it, a
    function of the folder of its state, a method of the agent, its parameters and of how it goes;
    "" for nothing. state: that folder.
    """

    logs: str
    made_by: str = ""
    answers_at: tuple[str, int] | None = None
    ahead: float = 0.0
    changed_by: str = ""
    state: str = ""


def reach_of(origin: str) -> Substitute | None:
    """What stands in for the server of surveys of this origin; None where nothing does."""
    found = settings.REACHED.get(origin)
    return None if found is None else Substitute(**found)


def now_at(origin: str) -> datetime:
    """What the clock of the server says by now."""
    reach = reach_of(origin)
    return timezone.now() + timedelta(seconds=reach.ahead if reach is not None else 0)


def make_logs(reach: Substitute, progress: object) -> None:
    """Puts the logs where they are read, where they are not there yet."""
    if reach.made_by:
        import_string(reach.made_by)(Path(reach.logs), progress)
