"""Other names for a site that is there: only the lines that say its names are changed, whoever
wrote them, and what comes of it is read before it is proposed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import unified_diff

from ecumen.audit.scene import Scene, Site
from ecumen.engines.draft import is_host_name
from ecumen.engines.engine import Engine, all_sites, renewed
from ecumen.engines.sites import SiteSummary
from ecumen.founding.habits import habits_of
from ecumen.founding.proposal import claimed
from ecumen.operations.file import File
from ecumen.operations.operation import Operation
from ecumen.operations.reload import Reload
from ecumen.operations.trial import Surveyed, done

MOST_NAMES = 100


@dataclass(frozen=True, slots=True)
class Naming:
    """lines: those that go and come, with `-` or `+` in front."""

    title: str
    lines: tuple[str, ...]
    operations: tuple[Operation, ...]


def naming(scene: Scene, site: Site, names: Sequence[str], *, leads_over: bool) -> Naming:
    """The operations by which a site is called so, and by no other name. leads_over: who asks for
    a name that it loses is sent on. Raises LookupError, which says why not, and ValueError for what
    is no name.
    """
    wanted = tuple(dict.fromkeys(name.lower() for name in names))
    for name in wanted:
        known = name in map(str.lower, site.summary.names)
        if not known and not is_host_name(name.removeprefix("*.")):
            raise ValueError(f"{name} is no name that a visitor could ask for")
    if not wanted or wanted[0].startswith("*"):
        raise ValueError("a site has one name of its own, and others behind it")
    if len(wanted) > MOST_NAMES:
        raise ValueError(f"more than {MOST_NAMES} names")
    _free(scene, site, wanted)
    place, engine = site.summary.place, site.engine
    text = "\n".join(scene.text(place.file))
    lost = [name for name in _exact(site) if name not in wanted] if leads_over else []
    behind = _sent_on(scene, site, lost, wanted[0]) if lost else ""
    now = engine.with_names(text, place.line, wanted, behind)
    if now is None:
        raise LookupError(f"{place} says its names in a way that only a person should change")
    path = scene.walker.walk(place.file).physical or place.file
    data = now.encode("utf-8", "surrogateescape")
    changed = File.of(Surveyed(scene.survey), path, data)
    _proved(scene, site, changed, wanted, lost)
    differ = unified_diff(text.split("\n"), now.split("\n"), lineterm="", n=0)
    shown = [line for line in list(differ)[2:] if not line.startswith("@@")]
    return Naming(
        f"{site.name} is called {' '.join(wanted)}",
        tuple(line for line in shown if line[1:].strip()),
        (changed, Reload(engine.kind, engine.programs[0])),
    )


def _free(scene: Scene, site: Site, wanted: Sequence[str]) -> None:
    """Raises LookupError for a name that another site claims where this one is bound."""
    doors = {(door.address, door.port) for door in site.summary.doors}
    for name in wanted:
        for other in scene.once("claimed names", claimed).get(name, ()):
            meets = any((door.address, door.port) in doors for door in other.summary.doors)
            if other != site and other.engine is site.engine and meets:
                raise LookupError(f"{name} is claimed by {other.name} ({other.summary.place})")


def _exact(site: Site) -> list[str]:
    """The names that it has, its own first, without those that stand for many."""
    own = site.summary.asked_as.lower()
    rest = sorted(claim.name for claim in site.summary.claims if claim.exact)
    return [name for name in dict.fromkeys([own, *rest]) if is_host_name(name) and "*" not in name]


def _sent_on(scene: Scene, site: Site, lost: Sequence[str], to: str) -> str:
    if site.summary.sealed:
        raise LookupError(
            f"{site.name} speaks TLS: leading over from {lost[0]} takes a certificate"
        )
    doors = dict.fromkeys((d.address, d.port or site.summary.port) for d in site.summary.doors)
    return site.engine.leading_over(list(doors), lost, to, habits_of(scene, site.engine).indent)


def _proved(
    scene: Scene, site: Site, changed: Operation, wanted: Sequence[str], lost: Sequence[str]
) -> None:
    """Whether just this comes of it, as the engine reads it. lost: names that are sent on. Raises
    LookupError.
    """
    was = site.engine
    engine = renewed(scene.engines, done(scene.survey, [changed]))[scene.engines.index(was)]
    file = site.summary.place.file
    if len(engine.breaks) > len(was.breaks):
        raise LookupError(f"{file} would not be read any more: {engine.breaks[0].message}")
    before = Counter(map(_as_it_is, _others(was, site)))
    after = Counter(map(_as_it_is, all_sites(engine)))
    if before - after:
        raise LookupError(f"{file} says more in these lines than the names of {site.name}")
    mine = [each for each in all_sites(engine) if _is_it(each, site, wanted)]
    sent = [each for each in all_sites(engine) if lost and set(each.names) == set(lost)]
    if len(mine) != 1 or len(sent) != bool(lost) or engine.blocks != was.blocks + len(sent):
        raise LookupError(f"{file} would not say just these names")
    for door in site.summary.doors:
        for name in (*wanted, *lost):
            asked = name.replace("*", "any", 1)
            winner = engine.answers(
                _concrete(scene, door.address), door.port or mine[0].port, asked
            )
            if winner != (sent[0].place if name in lost else mine[0].place):
                raise LookupError(f"{name} is another site's already ({winner})")


def _concrete(scene: Scene, address: str) -> str:
    return scene.own_addresses[0] if address == "*" else address


def _others(engine: Engine, site: Site) -> Iterator[SiteSummary]:
    own = site.summary
    # Personal sites and folders that are sites come with their block.
    return (each for each in all_sites(engine) if each.place != own.place)


def _as_it_is(site: SiteSummary) -> tuple[object, ...]:
    return site.name, site.names, site.root, site.bindings, site.personal


def _is_it(each: SiteSummary, site: Site, wanted: Sequence[str]) -> bool:
    own = site.summary
    same = (each.place.file, each.root, each.bindings, each.personal)
    known = (own.place.file, own.root, own.bindings, None)
    named = {name.lower() for name in each.names} == set(wanted) and each.asked_as == wanted[0]
    return same == known and named
