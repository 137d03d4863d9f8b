"""The job queue: jobs are kept in SQLite, and each is worked on by a process of its own, which is
ended where it stands still, takes more than its share, or is not wanted any more.
"""

from __future__ import annotations

import logging
import subprocess
import threading
import time
from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.utils import timezone
from huey import SqliteHuey
from huey.consumer import Consumer

from ecumen.errors import EcumenError
from ecumen_web import answering
from ecumen_web.apart import started
from ecumen_web.changing import make_change
from ecumen_web.locks import held
from ecumen_web.reached import make_logs, reach_of
from ecumen_web.reading.lines import read_logs
from ecumen_web.store.models import JobRecord, PlanRecord, SurveyRecord
from ecumen_web.surveys.loading import LoadCancelledError, leave_nothing, load_kept

queue = SqliteHuey("ecumen", filename=str(settings.HOME / "jobs.sqlite3"), results=False)
log = logging.getLogger("ecumen.queue")
STANDS_STILL = 600.0  # seconds without a step, after which a job is given up
_CANCELS_WITHIN = 5.0  # seconds that a job has to stop by itself
_LOOKS = 0.2  # seconds


@queue.task()  # type: ignore[untyped-decorator]
def load_job(number: int) -> None:
    """Loads the survey of a job, saying how far it is; then what its logs hold is read."""
    job = _begun(number)
    if job is None:
        return
    if queue.immediate:
        work_on_survey(job)
    else:
        _work_apart(job)
        job.refresh_from_db()
        threading.Thread(target=answering.know, daemon=True).start()
    if job.state == JobRecord.State.DONE and job.survey is not None:
        ask_for_logs(job.survey)


@queue.task()  # type: ignore[untyped-decorator]
def read_job(number: int) -> None:
    """Reads what is new in the logs of a survey's server."""
    job = _begun(number)
    if job is None:
        return
    if job.survey is None:
        _ended(job, JobRecord.State.FAILED, "The survey was removed.")
    elif queue.immediate:
        work_on_logs(job, job.survey)
    else:
        _work_apart(job)


@queue.task()  # type: ignore[untyped-decorator]
def change_job(number: int) -> None:
    """Has the agent make a change; then the server is surveyed anew."""
    job = _begun(number)
    if job is None:
        return
    if queue.immediate:
        work_on_change(job)
    else:
        _work_apart(job)
        threading.Thread(target=answering.know, daemon=True).start()


def work_on_change(job: JobRecord) -> None:
    _work(job, lambda: make_change(job, lambda *step: _progress(job, *step)))


def work_on_survey(job: JobRecord) -> None:
    _work(job, lambda: load_kept(job.file, lambda *step: _progress(job, *step)))


def work_on_logs(job: JobRecord, survey: SurveyRecord) -> None:
    """Reads what is new."""

    def read() -> SurveyRecord:
        reach = reach_of(survey.origin)
        if reach is not None:
            make_logs(reach, lambda *step: _progress(job, *step))
        # Two that read one log would count its lines twice.
        with held(settings.HOME / "reading.lock", "these logs are being read", 30.0):
            read_logs(survey, lambda *step: _progress(job, *step))
        return survey

    _work(job, read)


def _work_apart(job: JobRecord) -> None:
    """In a process of its own, so that the screen stays quick, and watched from here."""
    process = started("ecumen_web.worker", str(job.pk))
    try:
        state, why = _watched(job, process)
    finally:
        process.kill()
        process.wait()
    if state is not None:
        _ended(job, state, why)


def _watched(
    job: JobRecord, process: subprocess.Popen[bytes]
) -> tuple[JobRecord.State | None, str]:
    """Until the process is done, or has to be ended: what is to be said of the job, if it did not
    say it itself.
    """
    step: tuple[object, ...] = ()
    moved = time.monotonic()
    cancelled: float | None = None
    while True:
        try:
            status = process.wait(_LOOKS)
            break
        except subprocess.TimeoutExpired:
            now = time.monotonic()
        seen = JobRecord.objects.values_list("doing", "done", "total", "cancel").get(pk=job.pk)
        if seen != step:
            step, moved = seen, now
        # The agent goes on by itself, and takes back what it has begun.
        if seen[3] and job.kind != JobRecord.Kind.CHANGE:
            cancelled = now if cancelled is None else cancelled
            if now - cancelled > _CANCELS_WITHIN:
                return JobRecord.State.CANCELLED, ""
        if now - moved > STANDS_STILL:
            what = f"Given up: nothing moved for {STANDS_STILL / 60:.0f} minutes ({seen[0]})."
            return JobRecord.State.FAILED, what
    if JobRecord.objects.filter(pk=job.pk, state=JobRecord.State.RUNNING).exists():
        log.error("job %s: its process ended with %s", job.pk, status)
        return JobRecord.State.FAILED, "Given up: it took more than its share of memory or time."
    return None, ""


def _ended(job: JobRecord, state: JobRecord.State, why: str) -> None:
    job.state, job.doing, job.error = state, state.value, why
    job.save(update_fields=["state", "doing", "error"])


def _begun(number: int) -> JobRecord | None:
    waiting = JobRecord.objects.filter(pk=number, state=JobRecord.State.WAITING)
    if not waiting.update(state=JobRecord.State.RUNNING):
        return None
    return JobRecord.objects.get(pk=number)


def _work(job: JobRecord, do: Callable[[], SurveyRecord]) -> None:
    """Does what a job is for, and says what came of it."""
    try:
        job.survey = do()
        job.state, job.doing = JobRecord.State.DONE, "done"
    except LoadCancelledError:
        job.state, job.doing = JobRecord.State.CANCELLED, "cancelled"
    except EcumenError as error:
        job.state, job.doing, job.error = JobRecord.State.FAILED, "failed", str(error)
    except MemoryError:
        job.state, job.doing = JobRecord.State.FAILED, "failed"
        job.error = "Given up: it takes more memory than it is allowed to."
    except Exception:
        log.exception("job %s", job.pk)
        job.state, job.doing = JobRecord.State.FAILED, "failed"
        job.error = f"The {_FAILS[JobRecord.Kind(job.kind)]}; the server's log says why."
    job.save(update_fields=["survey", "state", "doing", "error"])


_FAILS = {
    JobRecord.Kind.SURVEY: "survey could not be loaded",
    JobRecord.Kind.LOGS: "logs could not be read",
    JobRecord.Kind.CHANGE: "change could not be followed to its end: see the ledger",
}


def _progress(job: JobRecord, doing: str, done: int, total: int) -> None:
    if JobRecord.objects.filter(pk=job.pk, cancel=True).exists():
        raise LoadCancelledError("cancelled")
    job.doing, job.done, job.total = doing[:200], done, total
    job.save(update_fields=["doing", "done", "total"])


def ask_for_load(file: str) -> JobRecord:
    """Puts a job on the queue that loads a kept file."""
    return _asked(JobRecord.objects.create(file=file))


def ask_for_change(plan: PlanRecord | None, asked: dict[str, Any]) -> JobRecord:
    """Puts a job on the queue that has the agent do a plan, or take an entry back."""
    kind = JobRecord.Kind.CHANGE
    return _asked(JobRecord.objects.create(kind=kind, plan=plan, asked=asked))


def ask_for_logs(survey: SurveyRecord) -> JobRecord:
    """Puts a job on the queue that reads the logs; one that waits already will do."""
    open_states = (JobRecord.State.WAITING, JobRecord.State.RUNNING)
    waiting = JobRecord.objects.filter(
        kind=JobRecord.Kind.LOGS, survey=survey, state__in=open_states
    ).first()
    if waiting is not None:
        return waiting
    kind = JobRecord.Kind.LOGS
    return _asked(JobRecord.objects.create(kind=kind, survey=survey, file=survey.file))


def _asked(job: JobRecord) -> JobRecord:
    """The record is what counts: a worker that starts puts on the queue what waits there."""
    try:
        _task(job)(job.pk)
    except Exception:
        log.exception("job %s", job.pk)
        _ended(job, JobRecord.State.FAILED, "It could not be put on the queue. Ask for it again.")
    return job


def _task(job: JobRecord) -> Callable[[int], object]:
    if job.kind == JobRecord.Kind.SURVEY:
        return load_job  # type: ignore[no-any-return]
    if job.kind == JobRecord.Kind.CHANGE:
        return change_job  # type: ignore[no-any-return]
    return read_job  # type: ignore[no-any-return]


class QuietConsumer(Consumer):  # type: ignore[misc]
    """Signals are the server's to handle, not the queue's."""

    def _set_signal_handlers(self) -> None:
        return


def start_worker() -> QuietConsumer:
    """Starts the threads that see to jobs. What a stopped server left half done has failed; what
    waited is put on the queue anew, whether it was there or not.
    """
    JobRecord.objects.filter(state=JobRecord.State.RUNNING).update(
        state=JobRecord.State.FAILED,
        doing="failed",
        error=f"The server stopped before this was done ({timezone.now():%Y-%m-%d %H:%M} UTC). "
        "Ask for it again.",
    )
    leave_nothing()
    logging.getLogger("huey").setLevel(logging.WARNING)
    queue.flush()
    for job in JobRecord.objects.filter(state=JobRecord.State.WAITING).order_by("pk"):
        _asked(job)
    # Two, so that a survey need not wait until logs are read.
    worker = QuietConsumer(queue, workers=2, worker_type="thread", periodic=False)
    worker.start()
    return worker
