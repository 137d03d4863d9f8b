"""What checks look at: the sites of one survey, their front pages, and evidence for all of it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol, TypeVar, cast

from ecumen.engines.engine import Engine, all_sites
from ecumen.engines.short import Short
from ecumen.engines.sites import Answer, Block, Door, Phase, Proof, Rank, SiteSummary
from ecumen.engines.source import SurveySource
from ecumen.engines.tree import Place
from ecumen.errors import RequestError
from ecumen.passage import Follower, Request, gates
from ecumen.passage.follow import Ran
from ecumen.passage.front import FrontPage, front_request, page_of, request_to, served_page
from ecumen.passage.verdict import Evidence
from ecumen.passage.words import say
from ecumen.rights.walk import join
from ecumen.survey import Entry, Kind, Survey

T = TypeVar("T")


class Spread(Protocol):
    """Works out many things, each by its number, in as many processes as whoever calls has."""

    def __call__(
        self, work: Callable[[int], T], count: int, told: Callable[[int], None], /
    ) -> Sequence[T]:
        """What work makes of each number from 0, in their order. told: how many have begun."""


def by_itself(work: Callable[[int], T], count: int, told: Callable[[int], None], /) -> Sequence[T]:
    """One after the other, here."""
    found = []
    for number in range(count):
        if number % 50 == 0:
            told(number)
        found.append(work(number))
    return found


@dataclass(frozen=True, slots=True)
class Site:
    """One site of one engine. Sites are compared by what they are, not by what they are called."""

    engine: Engine
    summary: SiteSummary
    number: int

    @property
    def name(self) -> str:
        return self.summary.name

    @property
    def subject(self) -> str:
        """The same from survey to survey: a site is known by its engine, name and bindings."""
        bindings = " ".join(sorted(self.summary.bindings))
        return f"{self.engine.kind} {self.name} {bindings}".rstrip()

    def __hash__(self) -> int:
        return self.number


@dataclass(frozen=True, slots=True)
class Front:
    """What comes of asking for a site's front page.

    block: what stops it; None where something goes out. answered_by: where the site is declared
    that answers. serve: the code of what goes out. file: what it ends at.
    """

    request: Request
    status: int | None
    decided: bool
    block: Block | None
    gate: str
    answer: Answer | None
    answered_by: Place | None
    serve: str
    file: str | None


@dataclass(frozen=True, slots=True)
class RootRules:
    """What holds in a site's root. opens: what it opens that few need, each with the line that
    does. passed_over: whether a per-folder override file that says something there is not read.
    """

    opens: tuple[tuple[str, Place], ...]
    passed_over: bool


@dataclass(frozen=True, slots=True)
class Seen:
    """What comes of one site. shown: its front page as it was answered, or in words.

    rests: folders that this rests on with all that lies right in them, and single paths; on what
    lies above either, with the override files there; and on what its part of the configuration
    says: on nothing else. None where that is not known.
    """

    summary: SiteSummary
    front: Front
    shown: Short | FrontPage
    rules: RootRules
    rests: tuple[str, ...] | None


# A part of the configuration: the number of its engine, and its own there.
Part = tuple[int, int]


class Scene:
    """One survey, ready to be looked at. Everything that several checks need is made once."""

    def __init__(self, follower: Follower) -> None:
        self.follower = follower
        self.survey: Survey = follower.survey
        self.engines = follower.engines
        self.evidence = follower.presenter.evidence
        self.walker = follower.walker
        self._fronts: dict[int, tuple[Front, Short | FrontPage]] = {}
        self._rules_of_root: dict[int, RootRules] = {}
        self._made: dict[str, object] = {}
        # What was looked at all at once, with the number of its first site.
        self.looked: dict[Part, tuple[int, Sequence[Seen]]] = {}
        self._source = SurveySource(self.survey)

    def holds(self, need: str) -> bool:
        """Whether the survey has what a check needs: files, listeners, names."""
        gaps = {gap.what for gap in self.survey.gaps}
        match need:
            case "listeners":
                return "listeners" not in gaps
            case "files":
                return len(self.survey.files) > 0
            case "names":
                return bool(self.survey.names)
        raise ValueError(need)

    @cached_property
    def sites(self) -> list[Site]:
        """Every site of every engine in file order, personal ones behind."""
        found: list[Site] = []
        for engine in self.engines:
            for summary in all_sites(engine):
                found.append(Site(engine, summary, len(found)))
        return found

    def look(
        self,
        spread: Spread = by_itself,
        told: Callable[[int, int], None] = lambda done, total: None,
        *,
        in_words: bool = False,
        carried: Mapping[Part, Sequence[Seen]] = {},
    ) -> None:
        """Has all sites and their front pages worked out at once. in_words: as the overview shows
        them, too. told: of how many parts of the configuration. carried: of parts of which it is
        known already, what comes of them.
        """
        if self.looked:
            return
        parts = [(e, at) for e, engine in enumerate(self.engines) for at in range(engine.blocks)]
        open_ = [part for part in parts if part not in carried] if carried else parts

        def seen(number: int) -> list[Seen]:
            e, at = open_[number]
            engine = self.engines[e]
            return [self._seen(engine, each, in_words=in_words) for each in engine.sites_of(at)]

        found = spread(seen, len(open_), lambda done: told(done, len(open_)))
        known = {**carried, **dict(zip(open_, found, strict=True))}
        sites: list[Site] = []
        for part in parts:
            self.looked[part] = len(sites), known[part]
            for each in known[part]:
                self._fronts[len(sites)] = each.front, each.shown
                self._rules_of_root[len(sites)] = each.rules
                sites.append(Site(self.engines[part[0]], each.summary, len(sites)))
        # Whoever has asked for the sites before has the same ones, in the same order.
        self.__dict__.setdefault("sites", sites)

    def _seen(self, engine: Engine, summary: SiteSummary, *, in_words: bool) -> Seen:
        front, shown = self._front(engine, summary, front_request(summary))
        rests = self._rests(engine, shown, summary) if isinstance(shown, Short) else None
        if in_words and isinstance(shown, Short):
            shown = served_page(self.follower, engine, summary, front.request, shown)
        return Seen(summary, front, shown, self._root_rules(engine, summary), rests)

    def _rests(self, engine: Engine, short: Short, summary: SiteSummary) -> tuple[str, ...] | None:
        passed = {entry.path for entries in short.passed for entry in entries}
        # What holds in the root is looked at by the path as it is written.
        if (summary.root or "").rstrip("/") not in passed:
            return None
        looked = {path.rstrip("/") for path in short.looked} - passed
        if any(path.rpartition("/")[0] not in passed for path in looked):
            return None
        overriding = {join(path, name) for path in passed for name in engine.override_names}
        # What a link leads to may lie anywhere.
        for path in looked | overriding:
            entry = self.survey.files.get(path)
            if entry is not None and entry.kind is Kind.LINK:
                return None
        above = {path.rpartition("/")[0] or "/" for path in passed}
        ends = {entries[-1].path for entries in short.passed if entries}
        return tuple(ends | looked | (passed - above))

    @cached_property
    def hosts(self) -> list[Site]:
        """The sites that have a block of their own in the configuration."""
        return [site for site in self.sites if site.summary.personal is None]

    @cached_property
    def bound(self) -> Mapping[tuple[int, str, int | None], list[tuple[Site, Door]]]:
        """The sites of each engine, by its number, by address and port, in file order."""
        found: dict[tuple[int, str, int | None], list[tuple[Site, Door]]] = defaultdict(list)
        for site in self.hosts:
            number = self.engines.index(site.engine)
            for door in {(d.address, d.port): d for d in reversed(site.summary.doors)}.values():
                found[number, door.address, door.port].append((site, door))
        return found

    @cached_property
    def site_at(self) -> Mapping[Place, Site]:
        return {site.summary.place: site for site in reversed(self.hosts)}

    def base(self, site: Site) -> Site:
        """The site of the block that serves this one, where that is one of its folders; else the
        site itself.
        """
        return site if site.summary.personal is not None else self.site_at[site.summary.place]

    @cached_property
    def own_addresses(self) -> list[str]:
        """Addresses of the server at which visitors come."""
        return [a for a in self.survey.addresses if not is_loopback(a)] or ["127.0.0.1"]

    def once(self, key: str, make: Callable[[Scene], T]) -> T:
        """What several checks need and none should make twice."""
        if key not in self._made:
            self._made[key] = make(self)
        return cast(T, self._made[key])

    # --- front pages ---

    def front(self, site: Site) -> Front:
        return self._asked(site)[0]

    def page(self, site: Site) -> FrontPage:
        """The same in words, for the overview."""
        front, known = self._asked(site)
        if isinstance(known, FrontPage):
            return known
        page = served_page(self.follower, site.engine, site.summary, front.request, known)
        self._fronts[site.number] = front, page
        return page

    def _asked(self, site: Site) -> tuple[Front, Short | FrontPage]:
        known = self._fronts.get(site.number)
        if known is None:
            request = front_request(site.summary)
            known = self._fronts[site.number] = self._front(site.engine, site.summary, request)
        return known

    def _front(
        self, engine: Engine, summary: SiteSummary, request: Request
    ) -> tuple[Front, Short | FrontPage]:
        """What is served plainly needs no evidence, and is put in words where these are asked for;
        all else is followed whole.
        """
        follower = self.follower
        short = follower.short.answer(request)
        if short is not None and short.status == 200 and short.site.place == summary.place:
            return _served(request, short), short
        ran = follower.run(request)
        page = page_of(follower, engine, summary, request, ran)
        return front_of(request, ran), page

    def root_rules(self, site: Site) -> RootRules:
        """What holds in a site's root."""
        known = self._rules_of_root.get(site.number)
        if known is None:
            known = self._rules_of_root[site.number] = self._root_rules(site.engine, site.summary)
        return known

    def _root_rules(self, engine: Engine, summary: SiteSummary) -> RootRules:
        root = (summary.root or "").rstrip("/")
        files = self.survey.files
        entry, override = files.get(root), files.get(f"{root}/.htaccess")
        return RootRules(
            tuple(engine.opens(summary.place, root))
            if entry is not None and entry.kind is Kind.DIR
            else (),
            bool(root)
            and override is not None
            and override.kind is Kind.FILE
            and override.size > 0
            # Not known is not passed over.
            and engine.reads_override(summary.place, root) is False,
        )

    def ask(self, request: Request) -> Front:
        """What comes of a request."""
        short = self.follower.short.answer(request)
        if short is not None and short.status == 200:
            return _served(request, short)
        return front_of(request, self.follower.run(request))

    def ask_if_served(self, request: Request) -> Front | None:
        """What comes of a request; None where that is surely no page."""
        short = self.follower.short.answer(request)
        if short is None:
            return self.ask(request)
        return _served(request, short) if short.status == 200 else None

    def request_for(self, site: Site, path: str) -> Request | None:
        """A visitor's request for a path of a site; None where no visitor can ask for it."""
        try:
            return request_to(site.summary, site.summary.asked_as, path)
        except RequestError:
            return None

    # --- evidence ---

    def text(self, file: str) -> list[str]:
        """The lines of a file of the configuration; none where the survey does not hold it."""
        return self._source.lines(file)

    def line(self, place: Place) -> Evidence:
        """A line of configuration as it stands."""
        return Evidence(place.file, place.line, self._source.line(place))

    def entry(self, entry: Entry) -> Evidence:
        return self.evidence(Proof(entry=entry))

    def asked(self, front: Front) -> Evidence:
        """A request and its outcome, as proof."""
        return Evidence(request=front.request.url, outcome=outcome_words(front))

    def declared(self, site: Site) -> Evidence:
        return self.line(site.summary.place)


def front_of(request: Request, ran: Ran) -> Front:
    """What came of a request that was followed already."""
    outcome, handling = ran.outcome, ran.now.handling
    gate, block = outcome.blocks[0] if outcome.blocks else (gates.serve.GATE.name, None)
    return Front(
        request,
        outcome.status,
        outcome.decided,
        block,
        gate,
        outcome.answer,
        handling.site_place if handling is not None else None,
        ran.at(gates.serve.GATE).code,
        handling.file if handling is not None else None,
    )


def _served(request: Request, short: Short) -> Front:
    """What came of a request that was answered shortly."""
    answer = Answer(short.status, Rank(Phase.CONTENT), short.content_type)
    return Front(
        request, short.status, True, None, "serve", answer, short.site.place, short.code, short.file
    )


def outcome_words(front: Front) -> str:
    """The status, and why."""
    status = "no answer" if front.status is None else str(front.status)
    if not front.decided:
        status += "?"
    if front.block is not None:
        return f"{status}: {say(front.block.code, front.block.facts)}"
    if front.answer is not None and front.answer.location:
        return f"{status}: sent to {front.answer.location}"
    return f"{status}: {front.file}" if front.file else status


def is_loopback(address: str) -> bool:
    return address.startswith("127.") or address == "::1"
