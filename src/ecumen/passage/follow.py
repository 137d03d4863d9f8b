"""Follows a request through the gates and says what comes of it.

The engine has found everything that stops, answers or is in doubt, each with its rank: what comes
first decides, and what stands behind it is what one would meet next.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from ecumen.caches import Bounded
from ecumen.codes import Code, Facts, Verdict
from ecumen.contexts.confinement import Confinement
from ecumen.contexts.guard import guard_of
from ecumen.engines.engine import Engine, engines_of
from ecumen.engines.sites import Answer, Block, Doubt, Part, weigh
from ecumen.engines.source import SurveySource
from ecumen.operations.opens import Opener
from ecumen.passage.gates import GATES
from ecumen.passage.gates.serve import GATE as SERVE
from ecumen.passage.gates.way import GATE as WAY
from ecumen.passage.present import Presenter
from ecumen.passage.request import Request
from ecumen.passage.short import Shortly
from ecumen.passage.situation import Gate, Situation
from ecumen.passage.verdict import (
    GateResult,
    LifetimeView,
    Obstacle,
    Passage,
    SiteRef,
    Uncertainty,
)
from ecumen.passage.words import mend, say
from ecumen.rights import Subject, Walker
from ecumen.survey import Survey

MOST_ANSWERED = 200_000


@dataclass(frozen=True, slots=True)
class Outcome:
    """What comes of a request, without the words and pictures. premise: what it holds under, where
    nothing else is unsure; "" else.
    """

    decided: bool
    status: int | None
    answer: Answer | None
    blocks: list[tuple[str, Block]]
    doubts: list[tuple[str, Doubt]]
    premise: str = ""


@dataclass(frozen=True, slots=True)
class Ran:
    """The bare facts of a passage. results: by the gates' names, in the order of the gates."""

    now: Situation
    results: Mapping[str, Part]
    outcome: Outcome

    def at(self, gate: Gate) -> Part:
        """What came of the request at a gate."""
        return self.results[gate.name]


class Follower:
    """Follows requests on one survey; what can be worked out once is worked out once."""

    def __init__(self, survey: Survey, engines: tuple[Engine, ...] | None = None) -> None:
        self.survey = survey
        self.engines = engines_of(survey) if engines is None else engines
        self.source = SurveySource(survey)
        self.presenter = Presenter(survey)
        # The engines ask the policy while they walk; one and the same object must answer here, or
        # what it remembers would be worked out twice.
        known = [engine.confinement for engine in self.engines]
        self.confinement = known[0] if known else Confinement(survey)
        self.short = Shortly(self.confinement, self._begin)
        self._answered: dict[object, dict[str, object]] = Bounded(MOST_ANSWERED)

    @cached_property
    def walker(self) -> Walker:
        """The file system as root sees it: what is there, whoever may see it."""
        return Walker(self.survey, Subject("root", 0, frozenset({0})))

    @cached_property
    def opener(self) -> Opener:
        """What plans open; the policy keeps the engines' own accounts from some of it."""
        workers = (engine.worker.name for engine in self.engines if engine.worker)
        return Opener(self.survey, guard=guard_of(self.confinement, workers))

    def _begin(self, request: Request) -> Situation:
        return Situation(self.survey, self.source, self.engines, request, self.confinement)

    def run(self, request: Request) -> Ran:
        """The passage's bare facts; never raises."""
        now = self._begin(request)
        # Every gate is judged even behind one that blocks: an administrator who mends the first
        # obstacle wants to know of the second one beforehand.
        results = {gate.name: gate.judge(now) for gate in GATES}
        return Ran(now, results, _weigh(results))

    def brief(self, request: Request) -> dict[str, object]:
        """The answer of the batch format, without gates and obstacles.

        Many requests are asked again and again: what was answered once is remembered.
        """
        key = request.key
        known = self._answered.get(key)
        if known is None:
            known = self._answered[key] = self._brief(request)
        return dict(known)

    def _brief(self, request: Request) -> dict[str, object]:
        short = self.short.answer(request)
        if short is None:
            return self.at_length(request)
        site = short.site
        return {
            "decided": True,
            "status": short.status,
            "site": {"engine": site.engine, "name": site.name, "declared_at": site.declared_at},
            "file": short.file,
            "content_type": _field(short.content_type),
            "location": _field(short.location),
            "upstream": None,
            "log": site.log,
            "unsure_because": [],
        }

    def at_length(self, request: Request) -> dict[str, object]:
        """The same answer by the whole evaluation, whatever is asked."""
        ran = self.run(request)
        now, outcome = ran.now, ran.outcome
        site = _site(now)
        return {
            "decided": outcome.decided,
            "status": outcome.status,
            "site": None
            if site is None
            else {"engine": site.engine, "name": site.name, "declared_at": site.declared_at},
            **_seen(now, outcome),
            "unsure_because": [
                {"gate": gate, "reason": say(doubt.code, doubt.facts), "at": _at(doubt)}
                for gate, doubt in outcome.doubts
            ],
        }

    def follow(self, request: Request) -> Passage:
        """The whole passage with its evidence."""
        ran = self.run(request)
        now, outcome = ran.now, ran.outcome
        gates = [self._gate(name, part) for name, part in ran.results.items()]
        obstacles = [
            Obstacle(
                gate,
                block.code,
                block.status,
                say(block.code, block.facts),
                mend(block.code, block.facts),
                [self.presenter.evidence(proof) for proof in block.proofs],
            )
            for gate, block in outcome.blocks
        ]
        seen = _seen(now, outcome)
        deciding = _deciding_gate(outcome, gates)
        return Passage(
            url=request.url,
            decided=outcome.decided,
            status=outcome.status,
            site=_site(now),
            summary=_summary(outcome, obstacles, gates),
            deciding_gate=deciding,
            gates=gates,
            obstacles=obstacles,
            unsure_because=[
                Uncertainty(
                    gate,
                    doubt.code,
                    say(doubt.code, doubt.facts),
                    [self.presenter.evidence(proof) for proof in doubt.proofs],
                )
                for gate, doubt in outcome.doubts
            ],
            kept=self._kept(now, outcome, seen["file"]),
            address=now.address,
            premise=outcome.premise,
            **seen,
        )

    def _kept(self, now: Situation, outcome: Outcome, file: str | None) -> LifetimeView | None:
        """How long browsers may go on showing what they got before; only for what goes out."""
        handling = now.handling
        if handling is None or handling.lifetime is None or file is None:
            return None
        if outcome.answer is None or outcome.answer.status != 200:
            return None
        return self.presenter.lifetime(handling.lifetime)

    def _gate(self, name: str, part: Part) -> GateResult:
        verdict, code, facts = _verdict(part)
        proofs = list(part.proofs)
        for more in [each.proofs for each in part.blocks] + [each.proofs for each in part.doubts]:
            proofs += [proof for proof in more if proof not in proofs]
        return GateResult(
            gate=name,
            verdict=verdict,
            code=code,
            reason=say(code, facts),
            evidence=[self.presenter.evidence(proof) for proof in proofs],
            **self.presenter.picture(part),  # type: ignore[arg-type]
        )


def follow(survey: Survey, request: Request) -> Passage:
    """The passage of one request. For many requests keep a Follower."""
    return Follower(survey).follow(request)


def _verdict(part: Part) -> tuple[Verdict, Code, Facts]:
    if part.blocks:
        first = min(part.blocks, key=lambda block: block.rank)
        return Verdict.BLOCKED, first.code, first.facts
    # A doubt about the type alone leaves the status sure, and is told only where there is no graver
    # one.
    doubts = [doubt for doubt in part.doubts if not doubt.only_type] or part.doubts
    if doubts:
        first_doubt = min(doubts, key=lambda doubt: doubt.rank)
        return Verdict.UNSURE, first_doubt.code, first_doubt.facts
    verdict = part.code.verdict
    if verdict is Verdict.CLEAR and part.answer is not None and part.answer.status >= 300:
        verdict = Verdict.DIVERTED
    return verdict, part.code, part.facts


def _weigh(results: Mapping[str, Part]) -> Outcome:
    """What decides, and what one would meet next."""
    weighed = weigh(list(results.values()))
    blocks = [(gate, block) for gate, part in results.items() for block in part.blocks]
    doubts = [(gate, doubt) for gate, part in results.items() for doubt in part.doubts]
    # Sorting is stable: what ranks alike stays in the order of the gates.
    blocks.sort(key=lambda item: item[1].rank)
    doubts.sort(key=lambda item: item[1].rank)
    deciding, answer = weighed.rank, weighed.answer
    status = _shown_status(weighed.block) if weighed.block is not None else None
    if answer is not None:
        status = answer.status
        # What ranks behind an answer that is given is not met.
        blocks = [item for item in blocks if item[1].rank < answer.rank]
    bearing = [
        (gate, doubt)
        for gate, doubt in doubts
        if deciding is None or doubt.rank <= deciding or doubt.only_type
    ]
    unsure = [doubt for _, doubt in bearing if not doubt.only_type]
    premises = {doubt.code.premise for doubt in unsure} if deciding is not None else set()
    premise = premises.pop() if len(premises) == 1 else ""
    return Outcome(weighed.sure, status, answer, blocks, bearing, premise)


def _shown_status(block: Block) -> int | None:
    return block.page.status if block.page is not None else block.status


def _site(now: Situation) -> SiteRef | None:
    if now.handling is None or now.engine is None:
        return None
    return SiteRef(now.engine.kind, now.handling.site_name, str(now.handling.site_place))


def _seen(now: Situation, outcome: Outcome) -> dict[str, str | None]:
    """What the visitor sees beside the status."""
    handling = now.handling
    answer = outcome.answer
    if answer is None and outcome.blocks:
        answer = outcome.blocks[0][1].page
    # The engine makes its own page for a choice of names, too (300).
    blocked = outcome.status is not None and bool(outcome.blocks)
    # A request that is stopped before it is one (no listener, a greeting that fails) has no page,
    # and so no type; every other refusal has the engine's own page.
    kind = answer.content_type if answer else (_error_type(now) if blocked else None)
    if any(doubt.only_type and doubt.code.of_type for _, doubt in outcome.doubts):
        kind = None
    return {
        "file": (answer and answer.file) or (handling.file if handling else None),
        "content_type": _field(kind),
        "location": _field(answer.location if answer else None),
        "upstream": handling.upstream if handling else None,
        "log": handling.log if handling and _is_logged(outcome) else None,
    }


def _field(value: str | None) -> str | None:
    """A header's value as it is read: blanks at its ends are none of it (RFC 9110, section 5.5)."""
    return None if value is None else value.strip(" \t")


def _error_type(now: Situation) -> str | None:
    return now.engine.error_type if now.engine is not None else None


def _is_logged(outcome: Outcome) -> bool:
    """What never comes to be a request leaves no line; a greeting that is not understood does."""
    if not outcome.blocks:
        return True
    return outcome.blocks[0][1].code.logged


def _at(doubt: Doubt) -> str | None:
    for proof in doubt.proofs:
        if proof.place is not None:
            return str(proof.place)
        if proof.path is not None:
            return proof.path
    return None


def _deciding_gate(outcome: Outcome, gates: list[GateResult]) -> str:
    if not outcome.decided and outcome.doubts and not outcome.premise:
        return outcome.doubts[0][0]
    if outcome.blocks:
        return outcome.blocks[0][0]
    diverted = [gate.gate for gate in gates if gate.verdict is Verdict.DIVERTED]
    return diverted[-1] if diverted else SERVE.name


def _summary(outcome: Outcome, obstacles: list[Obstacle], gates: list[GateResult]) -> str:
    if not outcome.decided and not outcome.premise:
        reason = (
            say(outcome.doubts[0][1].code, outcome.doubts[0][1].facts) if outcome.doubts else ""
        )
        return f"Not sure. {reason}".strip()
    by_name = {gate.gate: gate for gate in gates}
    way, serve = by_name[WAY.name], by_name[SERVE.name]
    reason = way.reason if way.verdict is Verdict.DIVERTED else serve.reason
    if obstacles:
        reason = obstacles[0].reason
    return f"If {outcome.premise}: {reason}" if outcome.premise else reason
