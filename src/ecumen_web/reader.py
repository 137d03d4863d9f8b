"""Reads logs in a process of its own: `python -m ecumen_web.reader JOB DEMO_LOGS`."""

from __future__ import annotations

import os
import sys

from ecumen_web import server


def main() -> None:
    server.prepare()
    from django.conf import settings

    from ecumen_web import queue
    from ecumen_web.store.models import JobRecord

    settings.DEMO_LOGS = sys.argv[2] or None
    job = JobRecord.objects.get(pk=int(sys.argv[1]))
    assert job.survey is not None
    queue.started_by = os.getppid()
    queue.work_on_logs(job, job.survey)


if __name__ == "__main__":
    main()
