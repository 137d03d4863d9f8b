"""The ledger: what was done to this server, written before it is done.

A commit is on the disk when it returns (SQLite's journal with full syncing: one fdatasync each), so
that whoever starts next knows what may have been begun, and what is needed to go back.
"""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from ecumen.operations import Before, Operation, Plan, read_plan


class State(StrEnum):
    """What became of an entry. The first two are on their way: whoever starts next ends them."""

    BEGUN = "begun"
    GOING_BACK = "going back"
    DONE = "done"
    TAKEN_BACK = "taken back"
    UNDONE = "undone"
    REFUSED = "refused"


@dataclass(frozen=True, slots=True)
class Record:
    """One entry. at: seconds since 1970, UTC. who: whoever asked for it. said: how it went, in
    words. back_to: what it is once it has gone back. steps: by the number of the operation, what is
    needed to go back. until: when it is taken back unless somebody keeps it, in seconds as `at`;
    None where it stays.
    """

    id: int
    plan: Plan
    who: str
    at: int
    state: State
    said: str
    back_to: State
    steps: tuple[tuple[int, Before], ...]
    until: int | None = None

    @property
    def done(self) -> Iterator[tuple[Operation, Before]]:
        """The operations that were begun, and what is needed to go back."""
        for number, kept in self.steps:
            yield self.plan.operations[number], kept


_TABLES = """
create table if not exists entries (
  id integer primary key, plan text not null, who text not null, at integer not null,
  state text not null, said text not null, back_to text not null, until integer
);
create table if not exists steps (
  entry integer not null references entries, number integer not null, kept text not null,
  primary key (entry, number)
) without rowid;
"""


class Ledger:
    """In one file that is its owner's alone. Raises sqlite3.Error where the disk fails."""

    def __init__(self, path: str) -> None:
        os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600))
        self._base = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        self._base.execute("pragma journal_mode = wal")
        self._base.execute("pragma synchronous = full")
        self._base.executescript(_TABLES)
        columns = {row[1] for row in self._base.execute("pragma table_info(entries)")}
        if "until" not in columns:
            # A ledger of before there was such a thing.
            self._base.execute("alter table entries add column until integer")

    def close(self) -> None:
        self._base.close()

    def begin(self, plan: Plan, who: str, at: int) -> int:
        """Writes a plan down that is about to be done. Returns its number."""
        return self._added(plan, who, at, State.BEGUN, "")

    def refuse(self, plan: Plan, who: str, at: int, why: str) -> int:
        """Writes a plan down of which nothing is done."""
        return self._added(plan, who, at, State.REFUSED, why)

    def _added(self, plan: Plan, who: str, at: int, state: State, said: str) -> int:
        with self._at_once():
            row = self._base.execute(
                "insert into entries (plan, who, at, state, said, back_to) values (?,?,?,?,?,?)",
                (plan.write(), _kept(who), at, state, _kept(said), State.TAKEN_BACK),
            )
        assert row.lastrowid is not None
        return row.lastrowid

    def step(self, entry: int, number: int, kept: Before) -> None:
        """What is needed to go back from a step that is about to be done."""
        with self._at_once():
            self._base.execute(
                "insert into steps (entry, number, kept) values (?, ?, ?)",
                (entry, number, json.dumps(kept)),
            )

    def go_back(self, entry: int, to: State, said: str) -> None:
        """Writes down that an entry is about to be taken back."""
        with self._at_once():
            self._base.execute(
                "update entries set state = ?, back_to = ?, said = ? where id = ?",
                (State.GOING_BACK, to, _kept(said), entry),
            )

    def end(self, entry: int, state: State, said: str, until: int | None = None) -> None:
        """Writes down what became of an entry."""
        with self._at_once():
            self._base.execute(
                "update entries set state = ?, said = ?, until = ? where id = ?",
                (state, _kept(said), until, entry),
            )

    def record(self, entry: int) -> Record | None:
        found = self._records("where id = ?", (entry,))
        return found[0] if found else None

    def on_their_way(self) -> list[Record]:
        """What somebody was stopped at, the latest first."""
        states = (State.BEGUN, State.GOING_BACK)
        return self._records("where state in (?, ?) order by id desc", states)

    def waiting(self) -> Record | None:
        """What is taken back unless somebody keeps it; there is one at most."""
        found = self._records("where state = ? and until is not null", (State.DONE,))
        return found[0] if found else None

    def done_since(self, entry: int) -> list[Record]:
        """What was done after an entry, the latest first."""
        return self._records("where id > ? and state = ? order by id desc", (entry, State.DONE))

    def latest(self, most: int) -> list[Record]:
        """The latest first."""
        return self._records("order by id desc limit ?", (most,))

    def _records(self, where: str, values: Sequence[Any]) -> list[Record]:
        rows = self._base.execute(
            f"select id, plan, who, at, state, said, back_to, until from entries {where}", values
        ).fetchall()
        return [
            Record(
                row[0], read_plan(row[1]), _told(row[2]), row[3], State(row[4]), _told(row[5]),
                State(row[6]), self._steps(row[0]), row[7],
            )
            for row in rows
        ]  # fmt: skip

    def _steps(self, entry: int) -> tuple[tuple[int, Before], ...]:
        rows = self._base.execute(
            "select number, kept from steps where entry = ? order by number", (entry,)
        )
        return tuple((number, tuple(map(tuple, json.loads(kept)))) for number, kept in rows)

    @contextmanager
    def _at_once(self) -> Iterator[None]:
        self._base.execute("begin immediate")
        try:
            yield
        except BaseException:
            self._base.execute("rollback")
            raise
        self._base.execute("commit")


def _kept(text: str) -> str:
    """Names of hostile owners are no texts to a database."""
    return json.dumps(text)


def _told(text: str) -> str:
    return str(json.loads(text))
