"""The job queue: jobs are kept in SQLite, and worked on by a thread of the server."""

from __future__ import annotations

import logging

from django.conf import settings
from django.utils import timezone
from huey import SqliteHuey
from huey.consumer import Consumer

from ecumen.errors import EcumenError
from ecumen_web.store.loading import LoadCancelledError, load_kept
from ecumen_web.store.models import JobRecord

queue = SqliteHuey("ecumen", filename=str(settings.HOME / "jobs.sqlite3"), results=False)
log = logging.getLogger("ecumen.queue")


@queue.task()  # type: ignore[untyped-decorator]
def load_job(number: int) -> None:
    """Loads the survey of a job, saying how far it is."""
    job = JobRecord.objects.filter(pk=number, state=JobRecord.State.WAITING).first()
    if job is None:
        return
    job.state = JobRecord.State.RUNNING
    job.save(update_fields=["state"])
    try:
        job.survey = load_kept(job.file, lambda *step: _progress(job, *step))
        job.state, job.doing = JobRecord.State.DONE, "done"
    except LoadCancelledError:
        job.state, job.doing = JobRecord.State.CANCELLED, "cancelled"
    except EcumenError as error:
        job.state, job.doing, job.error = JobRecord.State.FAILED, "failed", str(error)
    except Exception:
        log.exception("job %s", number)
        job.state, job.doing = JobRecord.State.FAILED, "failed"
        job.error = "The survey could not be loaded; the server's log says why."
    job.save()


def _progress(job: JobRecord, doing: str, done: int, total: int) -> None:
    if JobRecord.objects.filter(pk=job.pk, cancel=True).exists():
        raise LoadCancelledError("cancelled")
    job.doing, job.done, job.total = doing, done, total
    job.save(update_fields=["doing", "done", "total"])


def ask_for_load(file: str) -> JobRecord:
    """Puts a job on the queue that loads a kept file."""
    job = JobRecord.objects.create(file=file)
    load_job(job.pk)
    return job


class QuietConsumer(Consumer):  # type: ignore[misc]
    """Signals are the server's to handle, not the queue's."""

    def _set_signal_handlers(self) -> None:
        return


def start_worker() -> QuietConsumer:
    """Starts the thread that works on jobs. What a stopped server left half done has failed."""
    JobRecord.objects.filter(state=JobRecord.State.RUNNING).update(
        state=JobRecord.State.FAILED,
        doing="failed",
        error=f"The server stopped before this was done ({timezone.now():%Y-%m-%d %H:%M} UTC). "
        "Load the file again.",
    )
    logging.getLogger("huey").setLevel(logging.WARNING)
    worker = QuietConsumer(queue, workers=1, worker_type="thread", periodic=False)
    worker.start()
    return worker
