"""The demo's agent: the very one of a real server, with hands that change a survey."""

from __future__ import annotations

import io
import os
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict, replace
from itertools import count
from pathlib import Path
from typing import Any

from ecumen.engines.engine import renewed
from ecumen.errors import ChangedError
from ecumen.operations import Operation, Standing, read_plan
from ecumen.operations.acl import AclState
from ecumen.operations.digest import digest
from ecumen.operations.file import SPECIAL
from ecumen.operations.hosts import hosts_record
from ecumen.operations.making import placed
from ecumen.operations.mode import with_mode
from ecumen.operations.trial import Trial
from ecumen.passage import Follower
from ecumen.rehearsal.listening import listening
from ecumen.survey import (
    Acl,
    Delta,
    Entry,
    FileTable,
    Kind,
    Survey,
    acl_text,
    after,
    read_survey,
    write_survey,
)
from ecumen_agent.applier import Applier, Pages, RefusedError
from ecumen_agent.bounds import Bounds
from ecumen_agent.ledger import Ledger
from ecumen_agent.server import entry_row
from ecumen_demo.scenario import Moment, demo_survey
from ecumen_machine.service import ServiceError

Progress = Callable[..., None]
NOW, LOADED, CANCEL, ASIDE = "now.survey", "loaded.survey", "cancel", "/.ecumen-aside"
# Where the town's sites lie.
BOUNDS = Bounds(
    grounds=("/srv/*", "/srv/*/*", "/var/www/*", "/home/*/public_html", "/home/*/www"),
    owners=0,
    names=("*.example", "*.test"),
)
STEP = 0.35  # seconds, so that one sees what happens


class SurveyHands(Trial):
    """Does to a survey what the agent's hands do to a machine."""

    def __init__(self, survey: Survey, pause: float = 0.0) -> None:
        super().__init__(survey)
        self.survey, self.reloaded, self._numbers = survey, set[str](), count(1)
        self._pause = pause

    def aside(self, path: str) -> str:
        return f"{ASIDE}/{time.time_ns()}-{next(self._numbers)}"

    def text(self, path: str) -> bytes | None:
        return self.content(path)

    def _put(self, entry: Entry, **changes: Any) -> None:
        time.sleep(self._pause)
        now = self.entry(entry.path)
        if now is None or (now.kind, now.mode, now.uid) != (entry.kind, entry.mode, entry.uid):
            raise ChangedError(f"{entry.path} was changed by somebody else meanwhile")
        self.add(Delta({entry.path: replace(now, **changes)}))

    def set_mode(self, entry: Entry, mode: int) -> None:
        changed = with_mode(entry, mode)
        self._put(entry, mode=changed.mode, acl=changed.acl)

    def set_owner(self, entry: Entry, uid: int | None, gid: int | None) -> None:
        self._put(
            entry, uid=entry.uid if uid is None else uid, gid=entry.gid if gid is None else gid
        )

    def set_acl(self, entry: Entry, acl: Acl) -> None:
        changed = AclState.changed(entry, acl_text(acl))
        self._put(entry, mode=changed.mode, acl=changed.acl)

    def set_context(self, entry: Entry, context: str) -> None:
        self._put(entry, context=context or None)

    def turn(self, name: str, on: bool) -> None:
        self.add(Delta(switches={name: on}))

    def lead(self, name: str, addresses: tuple[str, ...], there: str) -> None:
        self.add(Delta(names={name.lower(): hosts_record(name, addresses)}))

    def make_folder(self, path: str, mode: int, uid: int, gid: int, there: str) -> None:
        self._make(Entry(path, Kind.DIR, mode, uid, gid, listed=True))

    def make_link(self, path: str, target: str) -> None:
        self._make(Entry(path, Kind.LINK, 0o777, 0, 0, target=target))

    def make_file(self, path: str, content: bytes, mode: int, uid: int, gid: int) -> None:
        self._make(Entry(path, Kind.FILE, mode, uid, gid, size=len(content)))
        self.add(Delta(texts={path: content}))

    def _make(self, entry: Entry) -> None:
        """What is new has the context of its folder, as the kernel gives it."""
        self.add(Delta({entry.path: placed(self, entry)}))

    def write(self, entry: Entry, was: str, content: bytes, there: str) -> None:
        held = self.content(entry.path) or b""
        if digest(held) != was:
            raise ChangedError(f"{entry.path} was changed by somebody else meanwhile")
        self.add(Delta({there: replace(entry, path=there)}, texts={there: held}))
        new = replace(entry, size=len(content), mode=entry.mode & ~SPECIAL)
        self.add(Delta({entry.path: new}, texts={entry.path: content}))

    def swap(self, path: str, there: str) -> None:
        one, other = self.entry(path), self.entry(there)
        texts = {path: self.content(there), there: self.content(path)}
        if one is not None and other is not None:
            moved = {path: replace(other, path=path), there: replace(one, path=there)}
            self.add(Delta(moved, texts=texts))

    def rename(self, path: str, to: str) -> None:
        entries: dict[str, Entry | None] = {}
        texts: dict[str, bytes | None] = {}
        for inner in (path, *self.below(path)):
            entry, there = self.entry(inner), to + inner[len(path) :]
            if entry is not None:
                entries[inner], entries[there] = None, replace(entry, path=there)
                texts[inner], texts[there] = None, self.content(inner)
        self.add(Delta(entries, texts=texts))

    def remove(self, path: str) -> None:
        self.add(Delta({path: None}))

    def put_aside(self, entry: Entry, there: str) -> None:
        self.rename(entry.path, there)

    def forget(self, there: str) -> None:
        gone = [there, *self.below(there)]
        self.add(Delta(dict.fromkeys(gone), texts=dict.fromkeys(gone)))

    def reload(self, engine: str) -> None:
        time.sleep(self._pause)
        self.reloaded.add(engine)

    def run(self, engine: str, on: bool) -> None:
        time.sleep(self._pause)
        self.add(Delta(running={engine: on}))

    @property
    def done(self) -> Survey:
        """The survey as it has become."""
        found = after(self.survey, self.delta)
        if not self.reloaded and not self.delta.running:
            return found
        before = Follower(self.survey).engines
        doors = listening(before, renewed(before, found), found.listeners)
        return after(found, Delta(listeners=doors))


def agent(folder: Path, method: str, params: dict[str, Any], progress: Progress) -> Any:
    """What the agent of a real server answers. folder: where the stand-in keeps its state."""
    folder.mkdir(parents=True, exist_ok=True)
    hands = SurveyHands(_survey(folder, NOW, Moment.NOW), STEP)
    ledger = Ledger(str(folder / "ledger.db"))

    def try_out(engine: str, change: Callable[[], None], pages: Pages) -> None:
        """What the engine would say: as far as the core reads it."""
        tried = SurveyHands(hands.survey)
        for operation in operations:
            if not operation.follows and operation.standing(tried) is Standing.DUE:
                operation.forward(tried, operation.keep(tried))
        for each in Follower(tried.done).engines:
            for fault in each.breaks:
                if each.kind == engine:
                    where = f"{fault.place}: {fault.message}"
                    raise ServiceError(f"{engine} would not start with it: {where}")

    def step(doing: str, done: int, total: int) -> None:
        progress(doing, done, total)
        if (folder / CANCEL).exists():
            raise RefusedError("it was cancelled")

    operations: tuple[Operation, ...] = ()
    at = float(params.get("at", hands.survey.taken_at))
    one = Applier(ledger, hands, BOUNDS, str(folder), try_out, lambda: at)
    try:
        # While another change is being made nothing waits to be kept.
        with suppress(RefusedError):
            if one.lapse():
                _keep(folder, hands)
        match method:
            case "apply":
                plan = read_plan(params["plan"])
                operations = plan.operations
                who, within = str(params.get("who", "")), int(params.get("within", 0))
                (folder / CANCEL).unlink(missing_ok=True)
                outcome = one.apply(plan, who, step, within)
                _keep(folder, hands)
                return asdict(outcome)
            case "cancel":
                (folder / CANCEL).touch()
                return {}
            case "keep":
                return asdict(one.keep(int(params["entry"])))
            case "undo":
                outcome = one.undo(int(params["entry"]))
                _keep(folder, hands)
                return asdict(outcome)
            case "ledger":
                return [entry_row(each) for each in ledger.latest(int(params.get("most", 100)))]
            case "survey":
                path = folder / "taken.survey"
                _write(path, replace(hands.survey, taken_at=int(at)))
                return {"path": str(path)}
        raise LookupError(method)
    finally:
        ledger.close()


def loaded(folder: Path) -> Survey:
    """What the stand-in answers by: the files as they are, the configuration as it was read."""
    return _survey(folder, LOADED, Moment.AS_LOADED)


def _survey(folder: Path, name: str, moment: Moment) -> Survey:
    try:
        with (folder / name).open("rb") as stream:
            return read_survey(stream)
    except FileNotFoundError:
        return demo_survey(moment)


def _keep(folder: Path, hands: SurveyHands) -> None:
    before = loaded(folder)
    _write(folder / NOW, hands.done)
    delta = hands.delta
    if not hands.reloaded and not delta.running:
        delta = Delta(delta.entries, switches=delta.switches)
        _write(folder / LOADED, after(before, delta))
    else:
        _write(folder / LOADED, hands.done)


def _write(path: Path, survey: Survey) -> None:
    stream = io.BytesIO()
    # What was changed lies over what was there; a file holds one table.
    write_survey(replace(survey, files=FileTable(iter(survey.files))), stream)
    aside = path.with_suffix(".aside")
    aside.write_bytes(stream.getvalue())
    os.replace(aside, path)
