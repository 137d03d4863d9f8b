"""What a plan would change: what visitors get, what accounts may do, what is found wrong.

Nothing is touched: the plan is done on the survey, and both are asked the same. Asked are the front
page of every site, what visitors ask most, and every address by which a site serves what the plan
changes or what lies in it, up to so many.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import chain, islice

from ecumen.audit import Audit
from ecumen.audit.finding import Finding, Impact
from ecumen.audit.neighbours import Neighbour, neighbours
from ecumen.audit.roots import roots, sites_of
from ecumen.audit.run import Progress, audit
from ecumen.audit.scene import Front, Part, Scene, Site, Spread, by_itself, outcome_words
from ecumen.engines.engine import renewed
from ecumen.operations.opens import Opening
from ecumen.operations.operation import Operation, Standing
from ecumen.operations.plan import standings
from ecumen.operations.trial import simulated
from ecumen.passage import Follower, Request, read_request
from ecumen.passage.request import escaped_path
from ecumen.rehearsal.carrying import carried
from ecumen.rehearsal.listening import listening
from ecumen.survey import Delta, Kind, after

MOST_WITHIN = 200  # paths below a folder that are looked at
MOST_ASKED = 5000  # addresses beside the front pages
MOST_TRIED = 40  # pages that an engine must serve which is tried out
_WORSE = (Impact.OUTAGE, Impact.EXPOSURE)


class Fate(StrEnum):
    """What becomes of an address."""

    OPENS = "opens"
    CLOSES = "closes"
    OTHERWISE = "answered otherwise"
    UNSURE = "unsure"
    NEW = "new"


@dataclass(frozen=True, slots=True)
class Meets:
    """What comes of a request. status: None for no answer. site: which answers. words: the status,
    and why.
    """

    decided: bool
    status: int | None
    site: str
    file: str | None
    content_type: str | None
    words: str

    @property
    def served(self) -> bool:
        """Whether a visitor gets what was asked for, or is sent on."""
        return self.status is not None and self.status < 400


# What came of an address that no site claimed.
NOBODYS = Meets(True, None, "", None, None, "no site claims it")


@dataclass(frozen=True, slots=True)
class Fared:
    """An address that fares differently. front: the front page of a site. to: the address of the
    server it is asked at. of: the site that it is an address of.
    """

    fate: Fate
    front: bool
    of: str
    url: str
    to: str
    before: Meets
    after: Meets


@dataclass(frozen=True, slots=True)
class Step:
    """One operation of the plan, and how it stands to the server."""

    words: str
    standing: Standing


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """addresses: those that fare differently, what closes first, front pages in front. asked: how
    many were asked.
    openings: what accounts gain and lose. exposed, hidden: what accounts can do to others' private
    files, and could. mended, new: findings. reloads: the engines that must read their configuration
    again. founded: the sites that there are none of before. trial: pages that are served then to
    the server itself, too, each with the address to ask it at: an engine that is tried out with the
    plan must serve them.
    """

    steps: list[Step]
    asked: int
    addresses: list[Fared]
    openings: list[Opening]
    exposed: list[Neighbour]
    hidden: list[Neighbour]
    mended: list[Finding]
    new: list[Finding]
    reloads: list[str]
    founded: tuple[str, ...] = ()
    trial: tuple[tuple[str, str], ...] = ()

    @property
    def stale(self) -> bool:
        """Whether the server is not as the plan expects it: it cannot be done then."""
        return any(step.standing is Standing.STALE for step in self.steps)

    @property
    def worse(self) -> bool:
        """Whether anything gets worse: for visitors, or for those whose files are private."""
        return bool(self.worsened)

    @property
    def worsened(self) -> dict[str, str]:
        """What gets worse, in words, by the names by which somebody says yes to it: sites of which
        something closes, accounts whose files are exposed, findings that are new.
        """
        # Whose pages they were: an address without a name of its own is somebody's, too.
        lost = [each for each in self.addresses if each.fate is Fate.CLOSES]
        closed = {each.before.site or each.of: "pages close" for each in lost}
        exposed = {each.owner: "private files are exposed" for each in self.exposed}
        return closed | exposed | {e.key: e.title for e in self.new if self._worsens(e)}

    def _worsens(self, finding: Finding) -> bool:
        """A site that was not there before cannot fail worse than then."""
        if finding.impact is Impact.OUTAGE and finding.sites:
            return not set(finding.sites) <= set(self.founded)
        return finding.impact in _WORSE

    @property
    def summary(self) -> str:
        """One sentence that sums it up."""
        if self.stale:
            count = sum(step.standing is Standing.STALE for step in self.steps)
            return (
                f"The plan is stale: at {count} of {len(self.steps)} steps the server is not as it "
                "expects."
            )
        if all(step.standing is Standing.DONE for step in self.steps):
            return "All of it is done already."
        said = [_told(fate, self.addresses) for fate in _WORDS]
        said = [words for words in said if words]
        if self.exposed:
            accounts = _count(len({each.other for each in self.exposed}), "account")
            said.append(f"{accounts} could read or change what is private")
        new = sum(map(self._worsens, self.new))
        if new:
            said.append(f"{_count(new, 'finding')} of the worse kind {_is(new)} new")
        return f"{', '.join(said) or 'No page fares differently'}."


_WORDS = {
    Fate.CLOSES: ("closes", "close"),
    Fate.UNSURE: ("is not sure", "are not sure"),
    Fate.OTHERWISE: ("is answered otherwise", "are answered otherwise"),
    Fate.OPENS: ("comes back", "come back"),
    Fate.NEW: ("is new", "are new"),
}


def _told(fate: Fate, addresses: Sequence[Fared]) -> str:
    """How many front pages and others have a fate; "" for none."""
    counts = Counter(each.front for each in addresses if each.fate is fate)
    kinds = ((True, "front page"), (False, "other page"))
    found = [_count(counts[front], what) for front, what in kinds if counts[front]]
    several = counts.total() != 1
    return f"{' and '.join(found)} {_WORDS[fate][several]}" if found else ""


def _is(number: int) -> str:
    return "is" if number == 1 else "are"


def _count(number: int, what: str) -> str:
    return f"{number} {what}" if number == 1 else f"{number} {what}s"


def rehearse(
    before: Scene,
    operations: Sequence[Operation],
    progress: Progress = lambda doing, done, total: None,
    spread: Spread = by_itself,
    known: Audit | None = None,
    visited: Iterable[tuple[Site, Request]] = (),
    *,
    anew: bool = False,
) -> Rehearsal:
    """Rehearses a plan on a survey. known: what is found on it, where that was worked out. visited:
    addresses that are asked as well, with the sites that they are of. anew: what the plan cannot
    touch is evaluated again, too. Raises LookupError for what the survey does not hold.
    """
    follower, survey = before.follower, before.survey
    steps = [
        Step(operation.describe(), standing)
        for operation, standing in zip(operations, standings(survey, operations), strict=True)
    ]
    if any(step.standing is Standing.STALE for step in steps):
        return Rehearsal(steps, 0, [], [], [], [], [], [], [])
    due = [
        each for each, step in zip(operations, steps, strict=True) if step.standing is Standing.DUE
    ]
    delta = simulated(survey, due)
    changed = after(survey, delta)
    engines = renewed(follower.engines, changed)
    doors = listening(follower.engines, engines, survey.listeners)
    if doors:
        delta = replace(delta, listeners=doors)
        changed = after(changed, Delta(listeners=doors))
        engines = renewed(engines, changed)
    then = Scene(Follower(changed, engines))
    scenes = before, then
    found_before = known or audit(before, progress, spread)
    before.look(spread)
    parts = {} if anew else carried(before, then, delta)
    then.look(spread, carried={part: before.looked[was][1] for part, was in parts.items()})
    same = _numbers(before, parts.values())
    audits = [found_before, audit(then, progress, spread)]
    found, later = ({each.key: each for each in audit.findings} for audit in audits)
    founded = _founded(scenes)
    asked = list(_asked(scenes, delta, founded, same, visited))
    fared = sorted(_fared(asked), key=lambda each: (_ORDER[each.fate], not each.front, each.url))
    kept = [neighbours(scene) for scene in scenes]
    return Rehearsal(
        steps=steps,
        asked=len(asked) + len(same),
        addresses=fared,
        openings=follower.opener.opens(due) if due else [],
        exposed=_beside(kept[1], kept[0]),
        hidden=_beside(kept[0], kept[1]),
        mended=[each for key, each in found.items() if key not in later],
        new=[each for key, each in later.items() if key not in found],
        reloads=_reloads(scenes),
        founded=tuple(site.name for site in founded),
        trial=tuple(islice(_trial(then, fared), MOST_TRIED)),
    )


def _trial(then: Scene, fared: Iterable[Fared]) -> Iterator[tuple[str, str]]:
    """Of what fares differently the files that go out plainly."""
    for each in fared:
        plain = each.url.startswith("http://") and each.to and each.after.file is not None
        if not plain or not each.after.decided or each.after.status != 200:
            continue
        # Whoever tries it out asks from the server itself.
        front = then.ask(replace(read_request(each.url, to=each.to), source=each.to))
        if front.decided and front.status == 200 and front.file == each.after.file:
            yield each.url, each.to


def _founded(scenes: tuple[Scene, Scene]) -> list[Site]:
    """Sites that there are none of before; one that is bound or lies elsewhere is no new one."""
    known = {(site.engine.kind, site.name) for site in scenes[0].sites}
    return [site for site in scenes[1].sites if (site.engine.kind, site.name) not in known]


def _was_claimed(before: Scene, then: Scene, site: Site) -> bool:
    """Whether the name of a new site was another's before, by a pattern, and not just answered by
    whoever answers what nobody claims.
    """
    number = then.engines.index(site.engine)
    here, summary = before.engines[number], site.summary
    names = (summary.asked_as, "nobody.invalid")
    return len({here.answers(summary.address, summary.port, name) for name in names}) > 1


_ORDER = {
    fate: number
    for number, fate in enumerate((Fate.CLOSES, Fate.UNSURE, Fate.OTHERWISE, Fate.OPENS, Fate.NEW))
}
# The site that it is about, whether it is its front page, the request, what comes of it before and
# after; before, nothing, where it was nobody's.
_Pair = tuple[Site, bool, Request, Meets, Meets]


def _numbers(scene: Scene, parts: Iterable[Part]) -> set[int]:
    """The sites of these parts, by their numbers."""
    found = (scene.looked[part] for part in parts)
    return {first + at for first, sites in found for at in range(len(sites))}


def _asked(
    scenes: tuple[Scene, Scene],
    delta: Delta,
    founded: Sequence[Site],
    same: set[int],
    visited: Iterable[tuple[Site, Request]],
) -> Iterator[_Pair]:
    """Requests, with what comes of each before and after. same: the sites, by their numbers, of
    which the front pages are what they were.
    """
    before, then = scenes
    seen = set()
    for site in before.sites:
        front = before.front(site)
        seen.add(front.request.key)
        if site.number in same:
            continue
        outcomes = _said(before, front), _said(then, then.ask(front.request))
        yield site, True, front.request, *outcomes
    new = {site.subject for site in founded}
    for site in founded:
        request = then.front(site).request
        seen.add(request.key)
        was = _said(before, before.ask(request)) if _was_claimed(before, then, site) else NOBODYS
        yield site, True, request, was, _said(then, then.front(site))
    for site in then.sites:
        # One that is bound elsewhere has a front page there.
        front = then.front(site)
        if front.request.key not in seen:
            seen.add(front.request.key)
            outcomes = _said(before, before.ask(front.request)), _said(then, front)
            yield site, True, front.request, *outcomes
    most = len(seen) + MOST_ASKED
    for site, request in chain(visited, _inside(scenes, delta)):
        # Of a new site its front page tells.
        if site.subject in new:
            continue
        if len(seen) >= most:
            return
        if request.key not in seen:
            seen.add(request.key)
            outcomes = _said(before, before.ask(request)), _said(then, then.ask(request))
            yield site, False, request, *outcomes


def _inside(scenes: tuple[Scene, Scene], delta: Delta) -> Iterator[tuple[Site, Request]]:
    """Addresses by which sites serve what is changed, or what lies in it: before, or after."""
    for scene in scenes:
        grounds = {root.physical for root in roots(scene).values() if root.entry is not None}
        for path in _below(scene, delta.entries):
            here = path
            while here != "/":
                if here in grounds:
                    for site in sites_of(scene, here):
                        request = _request(scene, site, path[len(here) :])
                        if request is not None:
                            yield site, request
                here = here.rpartition("/")[0] or "/"


def _below(scene: Scene, paths: Iterable[str]) -> Iterator[str]:
    """These paths, and of the first that lie in each folder those that are no folders."""
    files = scene.survey.files
    for path in paths:
        entry = files.get(path)
        if entry is None:
            continue
        yield path
        left, stack = MOST_WITHIN, [path] if entry.kind is Kind.DIR else []
        while stack and left > 0:
            folder = stack.pop()
            for name in files.children(folder)[:left]:
                left -= 1
                inner = files.get(f"{folder.rstrip('/')}/{name}")
                if inner is not None and inner.kind is Kind.DIR:
                    stack.append(inner.path)
                elif inner is not None:
                    yield inner.path


def _request(scene: Scene, site: Site, path: str) -> Request | None:
    prefix = site.summary.path.rstrip("/") if site.summary.personal else ""
    return scene.request_for(site, f"{prefix}{escaped_path(path)}" or "/")


def _said(scene: Scene, front: Front) -> Meets:
    place = front.answered_by
    answers = None if place is None else scene.site_at.get(place)
    kind = None if front.answer is None else front.answer.content_type
    return Meets(
        front.decided,
        front.status,
        answers.name if answers is not None else str(place or ""),
        front.file,
        kind,
        outcome_words(front),
    )


def _fared(asked: Iterable[_Pair]) -> Iterator[Fared]:
    for site, front, request, was, now in asked:
        fate = _fate(was, now)
        if fate is not None:
            yield Fared(fate, front, site.name, request.url, request.to or "", was, now)


def _fate(was: Meets, now: Meets) -> Fate | None:
    if was is NOBODYS:
        return Fate.NEW
    if not now.decided:
        # What was not known before either is no change that is known of.
        return Fate.UNSURE if was.decided or was.words != now.words else None
    if not was.decided:
        return Fate.OTHERWISE
    if was.served != now.served:
        return Fate.OPENS if now.served else Fate.CLOSES
    told = [(s.status, s.site, s.file, s.content_type) for s in (was, now)]
    return Fate.OTHERWISE if told[0] != told[1] else None


def _beside(these: Sequence[Neighbour], those: Sequence[Neighbour]) -> list[Neighbour]:
    """What accounts can do to others on the one side and not, or not as much, on the other."""
    known = {(each.owner, each.other): each for each in those}
    found = []
    for each in these:
        other = known.get((each.owner, each.other))
        if other is None or each.reads > other.reads or each.writes > other.writes:
            found.append(each)
    return found


def _reloads(scenes: tuple[Scene, Scene]) -> list[str]:
    """The engines whose configuration is another text, or made of other files."""
    texts = [scene.survey.texts for scene in scenes]
    found = []
    for was, now in zip(scenes[0].engines, scenes[1].engines, strict=True):
        files = [list(each.files) for each in (was, now)]
        same = files[0] == files[1] and all(texts[0].get(f) == texts[1].get(f) for f in files[0])
        if not same:
            found.append(was.kind)
    return found
