"""Works on one job, in a process of its own with limits: `python -m ecumen_web.worker JOB`."""

from __future__ import annotations

import sys

from ecumen_web.apart import ready


def main() -> None:
    ready()
    from ecumen_web import queue
    from ecumen_web.store.models import JobRecord

    job = JobRecord.objects.get(pk=int(sys.argv[1]))
    if job.kind == JobRecord.Kind.SURVEY:
        queue.work_on_survey(job)
    elif job.kind == JobRecord.Kind.CHANGE:
        queue.work_on_change(job)
    elif job.survey is not None:
        queue.work_on_logs(job, job.survey)


if __name__ == "__main__":
    main()
