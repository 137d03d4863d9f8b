"""Applies plans, one at a time: each step is written ahead and on the disk before the next, and
where anything is not as expected all of it is taken back.
"""

from __future__ import annotations

import fcntl
import os
import sqlite3
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass

from ecumen.errors import ChangedError, EcumenError
from ecumen.operations import Before, Hands, Operation, Plan, Standing
from ecumen.operations.plan import standings
from ecumen.operations.reload import Reload
from ecumen.operations.running import Running, Start
from ecumen_agent.bounds import Bounds
from ecumen_agent.ledger import Ledger, Record, State
from ecumen_agent.resting import meet, replaces, resting, touches
from ecumen_machine.cage import CageError
from ecumen_machine.service import try_out

Progress = Callable[[str, int, int], None]
# Pages that must be served, each with the address to ask at.
Pages = Sequence[tuple[str, str]]
# An engine's kind, what makes the planned changes, and what must be served then; as
# `ecumen_machine.service.try_out`.
TryOut = Callable[[str, Callable[[], None], Pages], None]
_FAULTS = (OSError, EcumenError, LookupError, sqlite3.Error)


class RefusedError(EcumenError):
    """Nothing was done."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came of a plan. entry: its number in the ledger, 0 for one of which nothing was due."""

    entry: int
    state: State
    said: str


class Applier:
    """hands: on this machine. folder: where the lock lies, and the ledger."""

    def __init__(
        self,
        ledger: Ledger,
        hands: Hands,
        bounds: Bounds,
        folder: str,
        try_out: TryOut = try_out,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self.ledger, self.hands, self.bounds = ledger, hands, bounds
        self._try_out, self._clock = try_out, clock
        self._lock = os.path.join(folder, "lock")

    def apply(
        self,
        plan: Plan,
        who: str,
        progress: Progress = lambda doing, done, total: None,
        within: int = 0,
        pages: Pages = (),
    ) -> Outcome:
        """Does a plan. within: seconds after which it is taken back unless somebody keeps it; 0: it
        stays. pages: that must be served where it is tried out. Raises RefusedError where another
        is being done or waits to be kept, or where it goes beyond the bounds.
        """
        for operation in plan.operations:
            self.bounds.check(operation)
        with self._alone():
            self.recover()
            waiting = self.ledger.waiting()
            if waiting is not None:
                # What rests on it could not be taken back with it.
                raise RefusedError(f"entry {waiting.id} waits: keep it first, or take it back")
            operations = plan.operations
            if not self._left(operations):
                return Outcome(0, State.DONE, "All of it is done already; nothing was changed.")
            wrong = self._stale(operations)
            if wrong:
                return self._refused(plan, who, wrong)
            try:
                doubt = self._tried_out(operations, pages, progress)
            except EcumenError as error:
                return self._refused(plan, who, f"Nothing was done: {error}")
            entry = self.ledger.begin(plan, who, int(self._clock()))
            try:
                for number, operation in enumerate(operations):
                    progress(operation.describe(), number, len(operations))
                    self._step(entry, number, operation)
            except _FAULTS as fault:
                return self._back(entry, State.TAKEN_BACK, _words(fault))
            count = len(operations)
            said = f"{count} {'step' if count == 1 else 'steps'} done.{doubt}"
            until = int(self._clock()) + within if within else None
            return self._end(entry, State.DONE, said, until)

    def _refused(self, plan: Plan, who: str, why: str) -> Outcome:
        entry = self.ledger.refuse(plan, who, int(self._clock()), why)
        return Outcome(entry, State.REFUSED, why)

    def undo(self, number: int) -> Outcome:
        """Takes an entry back. Raises RefusedError where later ones rest on it, or where the server
        is not as it left it.
        """
        with self._alone():
            self.recover()
            record = self.ledger.record(number)
            if record is None:
                raise RefusedError(f"the ledger has no entry {number}")
            if record.state is not State.DONE:
                raise RefusedError(f"entry {number} is {record.state}: nothing to take back")
            later = [each.id for each in resting(record, self.ledger.done_since(number))]
            if later:
                first = ", ".join(map(str, later))
                raise RefusedError(f"later changes rest on entry {number}: take back {first} first")
            wrong = self._left([operation for operation, _ in record.done])
            if wrong:
                raise RefusedError(f"nothing was taken back: no longer as it was left is {wrong}")
            return self._back(number, State.UNDONE, "Taken back when it was asked for.")

    def keep(self, number: int) -> Outcome:
        """Has an entry stay that would be taken back. Raises RefusedError where none waits."""
        with self._alone():
            self.recover()
            waiting = self.ledger.waiting()
            if waiting is None or waiting.id != number:
                raise RefusedError(f"entry {number} does not wait to be kept")
            return self._end(number, State.DONE, f"{waiting.said} It was kept.")

    def lapse(self) -> list[Outcome]:
        """Takes back what nobody has kept in time, and what could not be taken back before."""
        with self._alone():
            return self.recover()

    def _lapsed(self) -> Outcome | None:
        waiting = self.ledger.waiting()
        if waiting is None or waiting.until is None or waiting.until > self._clock():
            return None
        wrong = self._left([operation for operation, _ in waiting.done])
        if wrong:
            said = (
                f"{waiting.said} Nobody kept it, and it stays: no longer as it was left is {wrong}."
            )
            return self._end(waiting.id, State.DONE, said)
        return self._back(waiting.id, State.TAKEN_BACK, "Taken back: nobody kept it in time.")

    def _left(self, operations: Sequence[Operation]) -> str:
        """Where the server is not as these operations left it; "" where it is."""
        if all(operation.follows for operation in operations):
            # Of what only has changes take effect, nothing tells whether it was done.
            return "; ".join(operation.describe() for operation in operations)
        for number, operation in enumerate(operations):
            later_ones = operations[number + 1 :]
            if operation.follows or any(replaces(later, operation) for later in later_ones):
                continue
            try:
                standing = operation.standing(self.hands)
            except _FAULTS as fault:
                # An owner may have put a link on the way, or anything else.
                return f"{operation.describe()}: {_words(fault)}"
            if standing is Standing.DUE:
                return operation.describe()
            later = [each for step in later_ones for each in touches(step)]
            over = any(meet(one, other) for one in touches(operation) for other in later)
            # What a later one has changed once more is as that one left it.
            if standing is Standing.STALE and not over:
                return operation.describe()
        return ""

    def recover(self) -> list[Outcome]:
        """Ends what somebody was stopped at: what is whole is finished, all else taken back. So is
        what nobody has kept in time.
        """
        ended = [self._ended(record) for record in self.ledger.on_their_way()]
        lapsed = self._lapsed()
        return [*ended, lapsed] if lapsed is not None else ended

    def _ended(self, record: Record) -> Outcome:
        if record.state is State.BEGUN:
            if not self._left(record.plan.operations):
                said = "It was stopped at its end; all of it is done."
                try:
                    for operation in record.plan.operations:
                        if operation.follows:
                            operation.forward(self.hands, ())
                except _FAULTS as fault:
                    return self._back(record.id, State.TAKEN_BACK, _words(fault))
                return self._end(record.id, State.DONE, said)
            said = "It was stopped in between, and taken back at the next start."
            return self._back(record.id, State.TAKEN_BACK, said)
        return self._back(record.id, record.back_to, record.said)

    def _stale(self, operations: tuple[Operation, ...]) -> str:
        """Where the server is not as the plan expects it; "" where it is."""
        try:
            found = standings(self.hands, operations)
        except _FAULTS as fault:
            return f"Nothing was done: {_words(fault)}."
        wrong = [
            operation.describe()
            for operation, standing in zip(operations, found, strict=True)
            if standing is Standing.STALE
        ]
        if not wrong:
            return ""
        return (
            f"Nothing was done: the server is not as expected where it was to {'; '.join(wrong)}."
        )

    def _tried_out(self, operations: Sequence[Operation], pages: Pages, progress: Progress) -> str:
        """Has each engine that is to read its configuration again started with it, where it reaches
        nobody. Returns what could not be found out. Raises EcumenError where one does not start.
        """

        def change() -> None:
            for operation in operations:
                acts = operation.follows or isinstance(operation, Running)
                if not acts and operation.standing(self.hands) is Standing.DUE:
                    operation.forward(self.hands, operation.keep(self.hands))

        doubts = []
        for operation in operations:
            if isinstance(operation, Reload | Start):
                progress(f"try out {operation.engine}", 0, len(operations))
                try:
                    self._try_out(operation.engine, change, pages)
                except CageError as error:
                    doubts.append(f" {operation.engine} was not tried out before: {error}.")
        return "".join(doubts)

    def _step(self, entry: int, number: int, operation: Operation) -> None:
        standing = operation.standing(self.hands)
        if standing is Standing.STALE:
            raise ChangedError(f"somebody else was there before it was to {operation.describe()}")
        if standing is Standing.DUE:
            kept = operation.keep(self.hands)
            self.ledger.step(entry, number, kept)
            operation.forward(self.hands, kept)

    def _back(self, entry: int, to: State, said: str) -> Outcome:
        """Takes back what was done. Where even that fails, the next start tries again."""
        try:
            # Where the ledger itself cannot be written, what was begun still stands in it.
            with suppress(sqlite3.Error):
                self.ledger.go_back(entry, to, said)
            record = self.ledger.record(entry)
            assert record is not None
            # What has changes take effect comes last in this direction, too.
            steps = list(record.done)
            steps.reverse()
            faults = []
            for operation, kept in sorted(steps, key=_follows):
                try:
                    operation.backward(self.hands, kept)
                except _FAULTS as fault:
                    # What one owner makes of his files holds up nobody else's.
                    faults.append(fault)
            if faults:
                raise faults[0]
            return self._end(entry, to, said)
        except _FAULTS as fault:
            again = f"It is not all taken back, which the next start tries again: {_words(fault)}."
            return Outcome(entry, State.GOING_BACK, f"{said} {again}")

    def _end(self, entry: int, state: State, said: str, until: int | None = None) -> Outcome:
        self.ledger.end(entry, state, said, until)
        return Outcome(entry, state, said)

    @contextmanager
    def _alone(self) -> Iterator[None]:
        handle = os.open(self._lock, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        try:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                raise RefusedError("another change is being made; ask again in a moment") from None
            yield
        finally:
            os.close(handle)


def _follows(step: tuple[Operation, Before]) -> bool:
    return step[0].follows


def _words(fault: BaseException) -> str:
    if isinstance(fault, sqlite3.Error):
        return f"the ledger could not be written ({fault})"
    if isinstance(fault, OSError):
        where = f"{fault.filename}: " if fault.filename else ""
        return f"{where}{fault.strerror or fault}"
    return str(fault.args[0]) if fault.args else str(fault)
