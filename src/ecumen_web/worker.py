"""Works on one job, in a process of its own with limits: `python -m ecumen_web.worker JOB LOGS`."""

from __future__ import annotations

import ctypes
import os
import resource
import signal
import socket
import sys

from ecumen_machine import matching

MEMORY = 6 << 30  # bytes of address space
_PDEATHSIG, _NO_NEW_PRIVS = 1, 38


def _limited() -> None:
    """Ends with the server that started it; what it has written down by then holds."""
    libc = ctypes.CDLL(None)
    libc.prctl(_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    libc.prctl(_NO_NEW_PRIVS, 1, 0, 0, 0)
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    most = MEMORY if hard == resource.RLIM_INFINITY else min(MEMORY, hard)
    resource.setrlimit(resource.RLIMIT_AS, (most, hard))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def main() -> None:
    _limited()
    matching.start()
    from ecumen_web import server

    server.prepare(migrate=False)
    from django.conf import settings

    from ecumen_machine.keeper import KeeperDoor
    from ecumen_web import queue
    from ecumen_web.store.models import JobRecord

    settings.DEMO_LOGS = sys.argv[2] or None
    if handle := os.environ.get("ECUMEN_KEEPER"):
        settings.KEEPER = KeeperDoor(socket.socket(fileno=int(handle)))
    job = JobRecord.objects.get(pk=int(sys.argv[1]))
    if job.kind == JobRecord.Kind.SURVEY:
        queue.work_on_survey(job)
    elif job.survey is not None:
        queue.work_on_logs(job, job.survey)


if __name__ == "__main__":
    main()
