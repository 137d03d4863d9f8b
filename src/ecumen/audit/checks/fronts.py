"""What stops front pages: each obstacle of a passage is a finding, by its code.

So that no front page fails without one that says why.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterator

from ecumen import codes
from ecumen.audit.check import Found, Look, check, mended, remedy_of
from ecumen.audit.finding import Impact, Remedy
from ecumen.audit.scene import Front, Scene, Site
from ecumen.audit.stopped import stopped
from ecumen.engines.sites import Block
from ecumen.passage.remedies import mending
from ecumen.passage.words import mend, say

Cause = Callable[[Block], str]
Keep = Callable[[Site, Block], bool]


def _always(site: Site, block: Block) -> bool:
    return True


def _reported(id: str, cause: Cause, keep: Keep) -> Look:
    def look(scene: Scene) -> Iterator[Found]:
        for site, front, block in stopped(scene):
            if id not in block.code.findings or not keep(site, block):
                continue
            proofs = [scene.evidence(proof) for proof in block.proofs]
            yield Found(
                f"{site.subject} {block.code}",
                [site],
                [*proofs, scene.asked(front)],
                f"{site.name}: {say(block.code, block.facts)}",
                group=cause(block),
                remedies=_remedies(scene, front, block),
            )

    return look


# How each check that reports by code puts blocks together.
_CAUSES: dict[str, Cause] = {}


def groups_of(block: Block) -> list[str]:
    """The groups of findings that a block may belong to."""
    known = [(id, _CAUSES[id]) for id in block.code.findings if id in _CAUSES]
    return [f"{id} {cause(block)}".rstrip() for id, cause in known]


def _fronts(id: str, impact: Impact, title: str, cause: Cause, keep: Keep = _always) -> None:
    """A check that reports what the codes say that name it among their findings."""
    _CAUSES[id] = cause
    check(id, impact, title)(_reported(id, cause, keep))


def _remedies(scene: Scene, front: Front, block: Block) -> list[Remedy]:
    """Plans, where owners, modes and contexts are all that it takes; else words."""
    # Plans are made for what lies on the disk; a line of configuration is a person's to write.
    if block.code.gate == "ladder":
        found = mending(scene.follower, front.request)
        if found.ways:
            return [remedy_of(way) for way in found.ways]
    return mended(*filter(None, (mend(block.code, block.facts),)))


def _path(block: Block) -> str:
    """Homes and folders of one kind that are closed are one cause: what holds them."""
    return block.path.rpartition("/")[0]


def _line(block: Block) -> str:
    place = next((proof.place for proof in block.proofs if proof.place is not None), None)
    return "" if place is None else str(place)


def _code(block: Block) -> str:
    return block.code


def _own_rule(site: Site, block: Block) -> bool:
    """Whether a line of the site itself refuses, and not the one for the server as a whole."""
    begin = site.summary.place
    places = [proof.place for proof in block.proofs if proof.place is not None]
    return any(place.file == begin.file and place.line >= begin.line for place in places)


def _no_own_rule(site: Site, block: Block) -> bool:
    return not _own_rule(site, block)


def _root_is_there(site: Site, block: Block) -> bool:
    """A root that is missing is a finding of its own."""
    if block.code not in (codes.SERVE_MISSING, codes.SERVE_NO_FOLDER):
        return True
    return block.path.rstrip("/") != (site.summary.root or "").rstrip("/")


_fronts("ladder.shut", Impact.OUTAGE, "The engine's worker may not pass a folder on the way", _path)
_fronts("ladder.unreadable", Impact.OUTAGE, "The worker may not read the file", _path)
_fronts("ladder.link", Impact.OUTAGE, "A link on the way is not followed, or leads nowhere", _path)
_fronts(
    "rule.still-closed",
    Impact.OUTAGE,
    "The site is closed to visitors from outside",
    _line,
    _own_rule,
)
_fronts(
    "rule.no-rule",
    Impact.OUTAGE,
    "No rule opens the folder, so the refusal for all stands",
    _line,
    _no_own_rule,
)
_fronts(
    "rule.override-refused",
    Impact.OUTAGE,
    "A per-folder override holds something not allowed",
    _line,
)
_fronts("rule.sign-in", Impact.OUTAGE, "Signing in is asked for in a way that cannot work", _line)
_fronts("way.fails", Impact.OUTAGE, "The configuration itself turns the front page away", _line)
_fronts(
    "index.gone",
    Impact.OUTAGE,
    "The front page leads to a file that is not there",
    _path,
    _root_is_there,
)
_fronts(
    "site.refuses", Impact.OUTAGE, "The engine refuses what a visitor of this site sends", _code
)
_fronts(
    "seal.unspoken",
    Impact.OUTAGE,
    "A sealed site stands behind a door that does not speak TLS",
    _code,
)


@check("rule.override-ignored", Impact.DRIFT, "A per-folder override that is not read",
       needs=("files",))  # fmt: skip
def ignored(scene: Scene) -> Iterator[Found]:
    """Override files in document roots; what lies deeper is the owner's own business."""
    for site in scene.sites:
        root = (site.summary.root or "").rstrip("/")
        entry = scene.survey.files.get(f"{root}/.htaccess")
        if not root or entry is None or not scene.root_rules(site).passed_over:
            continue
        yield Found(
            f"{site.subject} {entry.path}",
            [site],
            [scene.entry(entry), scene.declared(site)],
            f"{entry.path} is not read: nothing that it says holds",
            group=site.engine.kind,
            remedies=mended(
                "Say in the site's configuration what it says",
                "Have such files read for this folder",
            ),
        )


@check("rule.wider-than-used", Impact.UPKEEP, "A site opens more than it uses", needs=("files",))
def wider(scene: Scene) -> Iterator[Found]:
    for site in scene.hosts:
        root = (site.summary.root or "").rstrip("/")
        for what, line in scene.root_rules(site).opens:
            if _uses(scene, site, root, what):
                continue
            yield Found(
                f"{site.subject} {what}",
                [site],
                [scene.line(line)],
                f"{site.name} opens {what} and uses none",
                group=f"{what} {line}",
                remedies=mended(f"Turn {what} off for {root}"),
            )


def _uses(scene: Scene, site: Site, root: str, what: str) -> bool:
    names = scene.survey.files.children(root)
    match what:
        case "override files":
            return ".htaccess" in names or _anywhere(scene, root, ".htaccess")
        case "server-side includes":
            return _anywhere(scene, root, ".shtml")
        case "listings":
            return not any(name in names for name in site.summary.index)
    return True


def _anywhere(scene: Scene, root: str, ending: str) -> bool:
    found = scene.once(f"files {ending}", _ending(ending))
    at = bisect_left(found, f"{root}/")
    # In sorted paths, all that lies in a folder stands together, behind the folder's own path with
    # a slash.
    return at < len(found) and found[at].startswith(f"{root}/")


def _ending(ending: str) -> Callable[[Scene], list[str]]:
    return lambda scene: sorted(p for p in scene.survey.files.paths if p.endswith(ending))
