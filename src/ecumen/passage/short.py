"""Short answers on one survey: the gates in front of the engine, the engine, and the policy.

A name, a door and a policy that are anything but clear leave a request to the whole evaluation.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ecumen.caches import Bounded, ByIdentity
from ecumen.contexts.confinement import FOLLOW, LIST, PASS, READ, Confinement
from ecumen.engines.engine import Engine
from ecumen.engines.short import MOST_KEPT, Question, Short
from ecumen.passage.gates import door, name
from ecumen.passage.request import Request, greeting
from ecumen.passage.situation import Situation
from ecumen.survey import Entry, Kind


class Shortly:
    """Answers plain requests on one survey; begin: a situation at its start."""

    def __init__(self, confinement: Confinement, begin: Callable[[Request], Situation]) -> None:
        self.confinement = confinement
        self._begin = begin
        self._filtered = True
        self._doors: dict[
            tuple[str | None, str, int, str, str | None], tuple[Engine, str, str | None] | None
        ] = Bounded(MOST_KEPT)
        self._lets: ByIdentity[Sequence[Entry], bool] = ByIdentity(MOST_KEPT)

    def answer(self, request: Request) -> Short | None:
        """None where the request is not plain."""
        # Any header may be asked for by a condition or a rule; only the whole evaluation looks for
        # that.
        if request.headers:
            return None
        sealed = request.scheme == "https"
        # The name in the greeting and the one in the request then differ: which site answers is a
        # question of its own (RFC 6066, section 3).
        if sealed and (request.host is not None or greeting(request) != request.name):
            return None
        host = request.host_header
        if host is None:
            return None
        reached = self._reached(request)
        if reached is None:
            return None
        engine, address, client = reached
        asked = Question(
            address,
            request.port,
            sealed,
            host,
            request.method,
            request.path,
            request.query,
            client if request.source is None else request.source,
        )
        short = engine.shortly(asked)
        if short is None or (self.confinement.enforced and not self._let_through(short)):
            return None
        return short

    def _reached(self, request: Request) -> tuple[Engine, str, str | None] | None:
        """Engine, address and the client that it sees, where the way there is clear."""
        # Where the server's address is given, the name leads nowhere else.
        named = request.name if request.to is None else ""
        # Who asks is nothing to a door, but to a filter in front of it.
        who = request.source if self._filtered else None
        key = (request.to, named, request.port, request.scheme, who)
        try:
            return self._doors[key]
        except KeyError:
            pass
        found = self._doors[key] = self._look(request)
        return found

    def _look(self, request: Request) -> tuple[Engine, str, str | None] | None:
        now = self._begin(request)
        for gate in (name.GATE, door.GATE):
            part = gate.judge(now)
            if part.blocks or part.doubts:
                return None
        if now.engine is None or now.address is None or now.arrival is None:
            return None
        if now.arrival.port != request.port:
            # Sent to another door.
            return None
        self._filtered = now.survey.filter is not None
        client = None if request.source is not None else now.arrival.client
        return now.engine, now.address, client

    # --- the policy ---

    def _let_through(self, short: Short) -> bool:
        """Whether the policy is known to allow every step."""
        confinement = self.confinement
        # No policy was read, or only the one that comes with Ecumen: neither makes anything sure.
        if confinement.policy is None or confinement.shipped:
            return False
        if short.read is not None:
            perms = LIST if short.read.kind is Kind.DIR else READ
            if not confinement.would(short.read.context, short.read.kind, perms):
                return False
        return all(self._passes(entries) for entries in short.passed)

    def _passes(self, entries: Sequence[Entry]) -> bool:
        known = self._lets.get(entries)
        if known is not None:
            return known
        would = self.confinement.would
        return self._lets.put(
            entries,
            all(
                would(entry.context, entry.kind, FOLLOW if entry.kind is Kind.LINK else PASS)
                for entry in entries
            ),
        )
