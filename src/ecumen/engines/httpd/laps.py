"""Laps: the server begins anew with another address, after rewriting in a folder or for the page of
an error, until something goes out.

Source: httpd 2.4, "Request Processing in the Apache HTTP Server 2.x", core ("ErrorDocument",
"LimitInternalRecursion"); measured.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from ecumen import codes
from ecumen.engines.httpd.access import Judged
from ecumen.engines.httpd.asking import Asking
from ecumen.engines.httpd.callers import Callers
from ecumen.engines.httpd.deciding import ErrorPage, Goes, error_page
from ecumen.engines.httpd.modules import JUDGE_AGAIN
from ecumen.engines.httpd.overrides import OverrideReader
from ecumen.engines.httpd.phases import Looked, Phases
from ecumen.engines.httpd.server import Server
from ecumen.engines.httpd.serving import Serving
from ecumen.engines.httpd.settings import EMPTY, Settings
from ecumen.engines.httpd.statuses import WITHOUT_CONTENT
from ecumen.engines.httpd.targets import Target, Targets
from ecumen.engines.httpd.typeheaders import typed_by
from ecumen.engines.httpd.types import ERROR_PAGE
from ecumen.engines.httpd.uri import Address
from ecumen.engines.httpd.walk import Walked
from ecumen.engines.httpd.way import BY_RULE, REDIRECT, AddressWays
from ecumen.engines.sites import (
    Answer,
    Block,
    Doubt,
    Handling,
    Part,
    Phase,
    Rank,
    Weighed,
    proof_of,
    weigh,
)
from ecumen.rights import Walker
from ecumen.survey import Survey

MOST_LAPS = 10  # "LimitInternalRecursion"


@dataclass(slots=True)
class _Lap:
    """What one lap found. looked: the question that it ended with."""

    handling: Handling
    first: Looked
    looked: Looked | None


class Laps:
    """The laps of one server."""

    def __init__(self, survey: Survey, server: Server, walker: Walker | None) -> None:
        self.survey = survey
        self.server = server
        self.walker = walker
        if walker is not None:
            ways = AddressWays(survey, server, walker)
            again = not JUDGE_AGAIN.isdisjoint(server.reader.modules)
            targets = Targets(walker, OverrideReader(server.reader), judges_again=again)
            self.phases = Phases(server, ways, targets, Callers(survey))

    def run(self, asking: Asking, handling: Handling) -> None:
        """Follows a question to its end; what is found goes into `handling`."""
        if self.walker is None:
            name = self.server.user or ""
            doubt = Doubt(codes.LADDER_NO_WORKER, Rank(Phase.WALK), {"worker": name})
            handling.ladder.doubts.append(doubt)
            for part in (handling.way, handling.rule, handling.ladder, handling.serve):
                part.code = codes.PASSAGE_NOT_REACHED
            return
        laps: list[_Lap] = []
        begun = asking.lap
        while True:
            lap = self._lap(asking)
            laps.append(lap)
            _merge(handling, lap.handling, asking.lap, first=asking.lap == begun)
            looked = lap.looked
            if looked is None or looked.goes_on is None:
                break
            # "LimitInternalRecursion": the server gives up with a fault of its own.
            if asking.lap - begun >= MOST_LAPS:
                rank = Rank(Phase.RULES, 2).on_lap(asking.lap)
                handling.way.blocks.append(Block(codes.WAY_LOOPS, rank, 500, {}))
                break
            asking = _next(looked, asking.method)
        # An error on the way to the page of an error gets no page of its own; but a rule of
        # rewriting that ends it makes the server forget the first one (r->status; measured).
        if asking.status == 200 or _ended_by_rule(handling, laps[-1].first):
            self._error_page(handling, laps)

    # --- one lap ---

    def _lap(self, asking: Asking) -> _Lap:
        looked = self.phases.look(asking)
        handling = Handling.begun("", asking.host.place)
        handling.way = looked.part
        handling.take([], looked.doubts)
        if looked.target is None:
            for part in (handling.rule, handling.ladder, handling.serve):
                part.code = codes.PASSAGE_NOT_REACHED
            return _Lap(handling, looked, None)
        target = looked.target
        handling.rule.picture = list(target.lines)
        handling.rule.proofs = [
            line for rule in target.lines if rule.effective for line in rule.lines
        ]
        handling.rule.code = (
            codes.RULE_OPEN if target.settings.access is None else codes.RULE_GRANTED
        )
        handling.take(target.blocks, target.doubts)
        handling.ladder.picture = list(target.walked.rungs)
        if looked.way.upstream is not None:
            self._upstream(handling, looked)
            return _Lap(handling, looked, None)
        entry = target.walked.entry
        handling.file = target.walked.path if entry is not None else None
        serving = Serving(self.phases, handling, looked, target)
        serving.decide()
        return _Lap(handling, looked, serving.goes_on)

    def _upstream(self, handling: Handling, looked: Looked) -> None:
        url = looked.way.upstream or ""
        handling.upstream = url
        handling.way.code = codes.WAY_UPSTREAM
        handling.way.facts |= {"upstream": url}
        for part in (handling.ladder, handling.serve):
            part.code = codes.PASSAGE_NOT_REACHED
        rank = Rank(Phase.CONTENT)
        facts = {"upstream": url}
        proofs = tuple(handling.way.proofs[-1:])
        fault = self.phases.ways.upstream_fault(url)
        if fault is not None:
            handling.way.blocks.append(Block(fault[0], rank, fault[1], facts, proofs))
            return
        handling.way.doubts.append(Doubt(codes.WAY_UPSTREAM_ANSWERS, rank, facts, proofs))

    # --- pages of errors ---

    def _error_page(self, handling: Handling, laps: list[_Lap]) -> None:
        """What goes out in place of the server's own page for the error that comes first, or for
        whatever else ends a request with a status: to the server all of these are errors (ap_die).
        """
        weighed = weigh(handling.course)
        ends = weighed.block or _status_alone(handling, weighed.answer)
        if ends is None or ends.status is None:
            return
        lap = next((lap for lap in laps if lap.first.asking.lap == ends.rank.lap), laps[-1])
        settings = _settings_at(lap, ends.rank)
        page = error_page(settings, ends.status)
        try:
            shown = None if page is None else self._shown(handling, ends, ends.status, page, lap)
        except _GoesRound:
            if lap.first.asking.status != 200:
                raise
            # In the end the server falls back on the first error, with a page of its own.
            shown = None
        if settings.type_headers and (shown is None or shown.location is not None):
            shown = _own_page(handling, ends, ends.status, shown, settings)
        if shown is None:
            return
        if weighed.part is not None and weighed.block is not None:
            _replace(weighed.part, weighed.block, replace(weighed.block, page=shown))
        for part in handling.course:
            if part.answer is not None and part.answer is weighed.answer:
                # Another error takes the place of being sent on; a page does not.
                kept = part.answer.location if shown.status == ends.status else None
                part.answer = replace(shown, location=shown.location or kept)

    def _shown(
        self, handling: Handling, ends: Block | Answer, status: int, page: ErrorPage, lap: _Lap
    ) -> Answer | None:
        """None for the server's own page, and where it is not known what goes out."""
        asking = lap.first.asking
        if page.goes is Goes.LOCAL and asking.lap >= MOST_LAPS:
            raise _GoesRound
        if status == 200 and page.goes is Goes.LOCAL:
            # Nothing went wrong, so what goes wrong on the way to the page counts, and has a page.
            self._unknown_page(handling, ends, page)
            return None
        match page.goes:
            case Goes.UNKNOWN:
                self._unknown_page(handling, ends, page)
            case Goes.SENT:
                return Answer(302, ends.rank, REDIRECT, page.where)
            case Goes.LOCAL:
                return self._local_page(handling, ends, status, page, lap)
        return None

    def _unknown_page(
        self, handling: Handling, ends: Block | Answer, page: ErrorPage, *, stays: bool = True
    ) -> None:
        facts = {"status": ends.status, "page": page.where}
        proofs = (proof_of(page.directive),)
        # What begins with a slash stays here, so that the status is the error's.
        stays = stays and page.where.startswith("/") and ends.status != 200
        doubt = Doubt(codes.SERVE_ERROR_PAGE, ends.rank, facts, proofs, only_type=stays)
        handling.serve.doubts.append(doubt)

    def _local_page(
        self, handling: Handling, ends: Block | Answer, status: int, page: ErrorPage, lap: _Lap
    ) -> Answer | None:
        path, mark, query = page.where.partition("?")
        asking = lap.first.asking.again(
            lap.first.asking.read(path),
            query if mark else None,
            status=status,
            method="GET",
            judged=_judged(lap, ends.rank),
            before=_walked(lap, ends.rank),
        )
        inner = Handling.begun("", asking.host.place)
        self.run(asking, inner)
        weighed = weigh(inner.course, of_types=True)
        by_rule = _ended_by_rule(inner, None)
        if not weighed.sure:
            self._unknown_page(handling, ends, page, stays=not by_rule)
            return None
        answer = weighed.answer
        if by_rule:
            return _afresh(weighed, ends.rank)
        if answer is None or answer.status != 200:
            if lap.first.asking.status != 200:
                # The page of an error on the way to a page: the first of all is told (ap_die).
                raise _GoesRound
            return None
        kind = None if status in WITHOUT_CONTENT else answer.content_type
        return Answer(status, ends.rank, kind)


def _own_page(
    handling: Handling, ends: Block | Answer, status: int, shown: Answer | None, settings: Settings
) -> Answer:
    """The server's own page, with the content type that the site gives to all answers."""
    plain = Answer(status, ends.rank, None if status in WITHOUT_CONTENT else ERROR_PAGE)
    page = plain if shown is None else shown
    kind, unknown = typed_by(settings.type_headers, page.content_type, own=True)
    if unknown is not None:
        facts = {"directive": unknown.directive.name}
        proofs = (proof_of(unknown.directive),)
        doubt = Doubt(codes.SERVE_TYPE_SET, ends.rank, facts, proofs, only_type=True)
        handling.serve.doubts.append(doubt)
    return replace(page, content_type=kind)


class _GoesRound(Exception):  # noqa: N818 - a signal, not an error of ours
    """Pages of errors lead to each other, or a later one of them to nothing."""


def _ended_by_rule(handling: Handling, last: Looked | None) -> bool:
    """Whether a rule of rewriting ended the request, in its last lap: not so where something else
    had stopped it before it came to the rule.
    """
    facts = handling.way.facts if last is None else last.part.facts
    if facts.get(BY_RULE) is not True:
        return False
    block = weigh(handling.course).block
    return block is None or block.rank.within >= Phase.RULES or block.rank.within == Phase.MAPPING


def _afresh(weighed: Weighed, rank: Rank) -> Answer | None:
    """What goes out where the way to the page of an error ends as if it were asked for itself."""
    if weighed.block is not None:
        page, status = weighed.block.page, weighed.block.status
        return page or (None if status is None else Answer(status, rank, ERROR_PAGE))
    return None if weighed.answer is None else replace(weighed.answer, rank=rank)


def _status_alone(handling: Handling, answer: Answer | None) -> Answer | None:
    """An answer that is nothing but its status: not what lies on the disk."""
    said = handling.way.answer is answer and handling.way.code == codes.WAY_SAID
    return answer if answer is not None and (answer.status != 200 or said) else None


def _judged(lap: _Lap, rank: Rank) -> Judged | None:
    """Of a request that came as far as being judged."""
    target = lap.first.target
    return target.judged if target is not None and rank.within >= Phase.ACCESS else None


def _walked(lap: _Lap, rank: Rank) -> Walked | None:
    """The walk of a request that came to its end: of others the server remembers nothing."""
    target = lap.first.target
    return target.walked if target is not None and rank.within > Phase.WALK else None


def _settings_at(lap: _Lap, rank: Rank) -> Settings:
    """The settings that the server holds by the time of this rank."""
    host = lap.first.asking.host.settings
    if rank.within in (Phase.MAPPING,):
        return lap.first.before
    target: Target | None = lap.first.target
    if rank.within > Phase.WALK and target is not None:
        return target.settings
    return host if rank.within != Phase.REACH else EMPTY


def _replace(part: Part, block: Block, by: Block) -> None:
    part.blocks = [by if each is block else each for each in part.blocks]


def _next(looked: Looked, method: str) -> Asking:
    """The question with which the server begins anew, by the method of the visitor also where it
    comes to that by a question of its own.
    """
    path = (looked.goes_on or "").partition("#")[0]
    path, mark, query = path.partition("?")
    if not mark and looked.way.query is not None:
        mark, query = "?", looked.way.query
    asked = looked.asking
    address = asked.read(path) if path.startswith("/") else Address(path, 400, codes.WAY_BAD_PATH)
    asking = replace(looked.asking, env=looked.way.env or looked.asking.env)
    rewrites = looked.asking.rewrites and not looked.way.ended
    target = looked.target
    judged = target.judged if target is not None else None
    before = target.walked if target is not None else None
    return asking.again(
        address, query if mark else None, method=method, rewrites=rewrites, judged=judged,
        before=before,
    )  # fmt: skip


def _merge(handling: Handling, lap: Handling, number: int, *, first: bool) -> None:
    """The parts of a lap beside those of the laps before it; what stopped those is listed once."""
    known = {
        b.same
        for part in (handling.way, handling.rule, handling.ladder, handling.serve)
        for b in part.blocks
    }
    handling.way = _whole_way(handling.way, lap.way, first)
    for name in ("way", "rule", "ladder", "serve"):
        part: Part = getattr(lap, name)
        whole: Part = handling.way if name == "way" else part
        earlier: Part = getattr(handling, name) if name != "way" else handling.way
        blocks = [
            replace(b, rank=b.rank.on_lap(number)) if number else b
            for b in part.blocks
            if first or b.same not in known
        ]
        doubts = [replace(d, rank=d.rank.on_lap(number)) if number else d for d in part.doubts]
        whole.blocks = earlier.blocks + blocks
        whole.doubts = earlier.doubts + doubts
        if part.answer is not None:
            whole.answer = replace(part.answer, rank=part.answer.rank.on_lap(number))
        setattr(handling, name, whole)
    handling.file, handling.upstream = lap.file, lap.upstream
    handling.lifetime = lap.lifetime


def _whole_way(before: Part, lap: Part, first: bool) -> Part:
    """The way of all laps so far. Blocks and doubts are added by the caller."""
    whole = Part(lap.code, dict(lap.facts), list(lap.proofs), list(lap.picture))
    whole.blocks, whole.doubts = list(before.blocks), list(before.doubts)
    if not first:
        whole.picture = before.picture + whole.picture
        whole.proofs = before.proofs + whole.proofs
        whole.facts = {**lap.facts, "address": before.facts.get("address", "")}
        if lap.code in (codes.WAY_ROOT, codes.WAY_ALIAS, codes.WAY_PERSONAL):
            whole.code = codes.WAY_REWRITTEN
    return whole
