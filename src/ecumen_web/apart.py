"""Processes of our own that evaluate what owners wrote: with bounds, and ended from outside.

Source: prctl(2), setrlimit(2).
"""

from __future__ import annotations

import ctypes
import json
import os
import resource
import signal
import socket
import subprocess
import sys
from contextlib import ExitStack
from typing import Any

MEMORY = 6 << 30  # bytes of address space
_PDEATHSIG, _NO_NEW_PRIVS = 1, 38
_GIVEN = "ECUMEN_GIVEN"


def started(module: str, *words: str, link: socket.socket | None = None) -> subprocess.Popen[bytes]:
    """A process that runs a module of ours. It gets what this one was told about the machine, and a
    way of its own to the keeper, where there is one. link: is its standard input.
    """
    from django.conf import settings

    given: dict[str, Any] = {
        "reached": settings.REACHED,
        "keeper": None,
    }
    handles = []
    with ExitStack() as stack:
        if settings.KEEPER is not None:
            way = stack.enter_context(settings.KEEPER.another())
            given["keeper"] = way.fileno()
            handles = [way.fileno()]
        environment = os.environ | {"ECUMEN_HOME": str(settings.HOME), _GIVEN: json.dumps(given)}
        return subprocess.Popen(
            [sys.executable, "-m", module, *words], stdout=subprocess.DEVNULL, env=environment,
            stdin=subprocess.DEVNULL if link is None else link.fileno(), pass_fds=handles,
        )  # fmt: skip


def ready() -> None:
    """The beginning of such a process: its bounds, then what it was given."""
    _limit()
    from ecumen_machine import matching

    matching.start()
    from ecumen_web import server

    server.prepare(migrate=False)
    from django.conf import settings

    from ecumen_machine.keeper import KeeperDoor

    given = json.loads(os.environ.pop(_GIVEN, "{}"))
    settings.REACHED = given.get("reached", {})
    if (handle := given.get("keeper")) is not None:
        settings.KEEPER = KeeperDoor(socket.socket(fileno=handle))


def _limit() -> None:
    """Ends with the server that started it; what it has written down by then holds."""
    libc = ctypes.CDLL(None)
    libc.prctl(_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    libc.prctl(_NO_NEW_PRIVS, 1, 0, 0, 0)
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    most = MEMORY if hard == resource.RLIM_INFINITY else min(MEMORY, hard)
    resource.setrlimit(resource.RLIMIT_AS, (most, hard))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
