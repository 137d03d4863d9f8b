"""Changes, asked of the agent: rehearsed before on the latest survey, looked at again afterwards.

The application itself changes nothing: it holds no right to. What stands in for the demo's server
has an agent of its own kind.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import Any

from django.utils.module_loading import import_string

from ecumen.audit import Audit, audit
from ecumen.errors import EcumenError, RequestError
from ecumen.operations import Operation, Plan, PlanGround, read_operation
from ecumen.passage.request import read_request
from ecumen.rehearsal import Rehearsal, rehearse
from ecumen_agent import client
from ecumen_machine.spread import spread
from ecumen_web.explaining.replies import ask_server
from ecumen_web.explaining.visited import most_asked
from ecumen_web.reached import now_at, reach_of
from ecumen_web.store.models import JobRecord, PlanRecord, SurveyRecord
from ecumen_web.store.translate import clean
from ecumen_web.surveys.loading import LoadCancelledError, keep_file, load_kept, scene_of

Progress = Callable[[str, int, int], None]
MOST_CHECKED = 20


class ChangeError(EcumenError):
    """A change that was not made, and why."""


def asked_of_agent(
    record: SurveyRecord, method: str, params: dict[str, Any], progress: Progress
) -> Any:
    """What the agent of a survey's server answers. Raises EcumenError."""
    if record.origin == SurveyRecord.Origin.HERE:
        return client.call(method, params, lambda doing, done, total: progress(doing, done, total))
    reach = reach_of(record.origin)
    if reach is None or not reach.changed_by:
        raise ChangeError(
            "only the server is changed on which the latest survey was taken: take one here with "
            "ecumen survey, and load it"
        )
    # Its clock is not this machine's.
    params = {"at": int(now_at(record.origin).timestamp()), **params}
    return import_string(reach.changed_by)(Path(reach.state), method, params, progress)


def operations_of(plan: PlanRecord) -> tuple[Operation, ...]:
    """Raises PlanError."""
    return tuple(read_operation(each) for each in plan.operations)


@lru_cache(maxsize=1)
def _found(file: str) -> Audit:
    """What is found on a kept survey: once for all plans that are rehearsed on it."""
    return audit(scene_of(file), spread=spread)


def rehearsed(record: SurveyRecord, operations: tuple[Operation, ...]) -> Rehearsal:
    """Raises ChangeError for what the survey does not hold."""
    scene = scene_of(record.file)
    known = _found(record.file)
    visited = list(most_asked(record.host, scene))
    try:
        return rehearse(scene, operations, spread=spread, known=known, visited=visited)
    except LookupError as error:
        raise ChangeError(str(error.args[0] if error.args else error)) from error


def make_change(job: JobRecord, progress: Progress) -> SurveyRecord:
    """Does what a job asks: a plan, or taking an entry back. Returns the survey that was taken
    afterwards. Raises EcumenError, which says what became of it.
    """
    asked = job.asked
    record = SurveyRecord.objects.first()
    if record is None:
        raise ChangeError("no survey is loaded yet")
    found = None
    plan = job.plan
    if asked["method"] == "apply":
        if plan is None:
            raise ChangeError("the plan was thrown away meanwhile")
        progress("rehearsing", 0, 0)
        operations = operations_of(plan)
        found = rehearsed(record, operations)
        worse = [name for name in found.worsened if name not in asked.get("although", [])]
        if worse:
            raise ChangeError(f"Not done: nobody said yes to what gets worse: {', '.join(worse)}")
        ground = PlanGround(record.host, int(record.taken_at.timestamp()))
        written = Plan(plan.title, ground, operations, tuple(plan.why)).write()
        params = {
            "plan": written,
            "who": asked["who"],
            "within": asked.get("within", 0),
            "pages": found.trial,
        }
    else:
        params = {"entry": asked["entry"], "who": asked["who"]}
    given_up = False

    def followed(doing: str, done: int, total: int) -> None:
        """Nothing of it may stop half way: the agent itself takes back what it began."""
        nonlocal given_up
        try:
            progress(doing, done, total)
        except LoadCancelledError:
            # Where it is not heard now it is asked again at the next step.
            with suppress(EcumenError):
                if not given_up:
                    asked_of_agent(record, "cancel", {}, lambda *step: None)
                given_up = True

    outcome = asked_of_agent(record, asked["method"], params, followed)
    if plan is not None and outcome["entry"]:
        PlanRecord.objects.filter(pk=plan.pk).update(entry=outcome["entry"])
    if outcome["state"] not in ("done", "undone"):
        if given_up:
            raise LoadCancelledError(outcome["said"])
        raise ChangeError(outcome["said"])
    after = surveyed(record, followed)
    if found is not None and plan is not None:
        followed("asking the server", 0, 0)
        checked = list(_checked(after, found))
        PlanRecord.objects.filter(pk=plan.pk).update(checked=checked)
    return after


def surveyed(record: SurveyRecord, progress: Progress) -> SurveyRecord:
    """A new survey of the same server, taken by its agent."""
    path = asked_of_agent(record, "survey", {}, progress)["path"]
    with open(path, "rb") as stream:
        name = keep_file(stream)
    demo = SurveyRecord.Origin.DEMO
    return load_kept(name, progress, demo if record.origin == demo else None)


def _checked(record: SurveyRecord, found: Rehearsal) -> list[dict[str, Any]]:
    """The addresses that were to fare differently, asked of the server: what was rehearsed, and
    what came.
    """
    scene, rows = scene_of(record.file), []
    for each in [each for each in found.addresses if each.after.decided][:MOST_CHECKED]:
        row = {"url": clean(each.url), "rehearsed": each.after.status, "came": None, "trouble": ""}
        try:
            reply = ask_server(scene, read_request(each.url, to=each.to or None), record.origin)
            row["came"] = next((r.observed for r in reply.rows if r.what == "status"), None)
            row["trouble"] = reply.trouble
        except RequestError as error:
            row["trouble"] = str(error)
        rows.append(json.loads(json.dumps(row)))
    return rows
