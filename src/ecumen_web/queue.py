"""The job queue: jobs are kept in SQLite, and worked on by a thread of the server."""

from __future__ import annotations

import logging
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

from django.conf import settings
from django.utils import timezone
from huey import SqliteHuey
from huey.consumer import Consumer

from ecumen.errors import EcumenError
from ecumen_demo import DEMO
from ecumen_demo.visitors import ensure_logs
from ecumen_web.store.loading import LoadCancelledError, load_kept, scene_of
from ecumen_web.store.models import JobRecord, SurveyRecord
from ecumen_web.store.reading import read_logs, unread_bytes

queue = SqliteHuey("ecumen", filename=str(settings.HOME / "jobs.sqlite3"), results=False)
log = logging.getLogger("ecumen.queue")
_MUCH = 2 << 20  # bytes of logs


@queue.task()  # type: ignore[untyped-decorator]
def load_job(number: int) -> None:
    """Loads the survey of a job, saying how far it is; then what its logs hold is read."""
    job = _begun(number)
    if job is None:
        return
    _work(job, lambda: load_kept(job.file, lambda *step: _progress(job, *step)))
    if job.state == JobRecord.State.DONE and job.survey is not None:
        ask_for_logs(job.survey)


@queue.task()  # type: ignore[untyped-decorator]
def read_job(number: int) -> None:
    """Reads what is new in the logs of a survey's server."""
    job = _begun(number)
    if job is None or job.survey is None:
        return
    survey = job.survey

    if not queue.immediate and unread_bytes(survey) > _MUCH:
        # In a process of its own, so that the screen stays quick.
        command = [sys.executable, "-m", "ecumen_web.reader", str(job.pk), settings.DEMO_LOGS or ""]
        done = subprocess.run(
            command,
            stdout=subprocess.DEVNULL,
            env=os.environ | {"ECUMEN_HOME": str(settings.HOME)},
            check=False,
        )
        if done.returncode == 0:
            return
        log.error("job %s: the reader ended with %s", job.pk, done.returncode)
        job.state, job.doing = JobRecord.State.FAILED, "failed"
        job.error = "The logs could not be read; the server's log says why."
        job.save()
        return
    work_on_logs(job, survey)


def work_on_logs(job: JobRecord, survey: SurveyRecord) -> None:
    """Reads what is new; the demo's logs are made up first, where they are not there yet."""

    def read() -> SurveyRecord:
        if settings.DEMO_LOGS and scene_of(survey.file).survey.taken_by == DEMO:
            ensure_logs(Path(settings.DEMO_LOGS), lambda *step: _progress(job, *step))
        read_logs(survey, lambda *step: _progress(job, *step))
        return survey

    _work(job, read)


def _begun(number: int) -> JobRecord | None:
    job = JobRecord.objects.filter(pk=number, state=JobRecord.State.WAITING).first()
    if job is not None:
        job.state = JobRecord.State.RUNNING
        job.save(update_fields=["state"])
    return job


def _work(job: JobRecord, do: Callable[[], SurveyRecord]) -> None:
    """Does what a job is for, and says what came of it."""
    try:
        job.survey = do()
        job.state, job.doing = JobRecord.State.DONE, "done"
    except LoadCancelledError:
        job.state, job.doing = JobRecord.State.CANCELLED, "cancelled"
    except EcumenError as error:
        job.state, job.doing, job.error = JobRecord.State.FAILED, "failed", str(error)
    except Exception:
        log.exception("job %s", job.pk)
        job.state, job.doing = JobRecord.State.FAILED, "failed"
        what = (
            "survey could not be loaded"
            if job.kind == JobRecord.Kind.SURVEY
            else "logs could not be read"
        )
        job.error = f"The {what}; the server's log says why."
    job.save()


# Of a reader: the server that started it. Where that has ended, so does the reader; what it has
# written down holds.
started_by: int | None = None


def _progress(job: JobRecord, doing: str, done: int, total: int) -> None:
    orphaned = started_by is not None and os.getppid() != started_by
    if orphaned or JobRecord.objects.filter(pk=job.pk, cancel=True).exists():
        raise LoadCancelledError("cancelled")
    job.doing, job.done, job.total = doing, done, total
    job.save(update_fields=["doing", "done", "total"])


def ask_for_load(file: str) -> JobRecord:
    """Puts a job on the queue that loads a kept file."""
    job = JobRecord.objects.create(file=file)
    load_job(job.pk)
    return job


def ask_for_logs(survey: SurveyRecord) -> JobRecord:
    """Puts a job on the queue that reads the logs; one that waits already will do."""
    open_states = (JobRecord.State.WAITING, JobRecord.State.RUNNING)
    waiting = JobRecord.objects.filter(
        kind=JobRecord.Kind.LOGS, survey=survey, state__in=open_states
    ).first()
    if waiting is not None:
        return waiting
    job = JobRecord.objects.create(kind=JobRecord.Kind.LOGS, survey=survey, file=survey.file)
    read_job(job.pk)
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
        "Ask for it again.",
    )
    logging.getLogger("huey").setLevel(logging.WARNING)
    # Two, so that a survey need not wait until logs are read.
    worker = QuietConsumer(queue, workers=2, worker_type="thread", periodic=False)
    worker.start()
    return worker
