"""What a visitor can fetch that nobody should: proved by a passage each."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from ecumen.audit.check import MOST_SHOWN, Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.roots import SAMPLED, roots, sites_of, under
from ecumen.audit.scene import Front, Scene, Site
from ecumen.passage.request import escaped_path
from ecumen.survey import Entry

MOST_ASKED = 200  # of one root
MOST_SITES = 5  # of one root, through which a file is asked for
MOST_OWN_TYPES = 60  # lines of a file that lists an engine's types


@check(
    "root.served-secret",
    Impact.EXPOSURE,
    "A visitor can fetch what should not be served",
    needs=("files",),
)
def secrets(scene: Scene) -> Iterator[Found]:
    for physical, held in under(scene).items():
        fetched: dict[str, list[tuple[Entry, Front]]] = defaultdict(list)
        site = None
        for kind, row in held.suspects[:MOST_ASKED]:
            entry = scene.survey.files.entry(row)
            hit = _fetched(scene, physical, entry.path)
            if hit is not None:
                site, front = hit
                fetched[kind].append((entry, front))
        for kind, found in fetched.items():
            assert site is not None
            many = f" and {len(found) - 1} more" if len(found) > 1 else ""
            evidence = []
            for entry, front in found[:MOST_SHOWN]:
                evidence += [scene.entry(entry), scene.asked(front)]
            yield Found(
                f"{physical} {kind}",
                [site],
                evidence,
                f"{kind[0].upper()}{kind[1:]} is served: {found[0][0].path}{many}",
                group=kind,
                remedies=mended(
                    f"Move it out of {physical}",
                    "Refuse such names by a rule",
                ),
            )


def _fetched(scene: Scene, physical: str, path: str) -> tuple[Site, Front] | None:
    """The first site of a root through which a visitor gets this very file."""
    for site in sites_of(scene, physical)[:MOST_SITES]:
        prefix = site.summary.path.rstrip("/") if site.summary.personal else ""
        request = scene.request_for(site, prefix + escaped_path(path[len(physical) :]))
        if request is None:
            continue
        front = scene.ask(request)
        same = front.answered_by == site.summary.place
        if front.decided and same and front.status == 200 and front.block is None:
            return site, front
    return None


@check(
    "root.served-log", Impact.EXPOSURE, "The log lies where visitors can fetch it", needs=("files",)
)
def served_log(scene: Scene) -> Iterator[Found]:
    grounds = {r.physical for r in roots(scene).values() if r.entry is not None}
    logs: dict[str, list[Site]] = defaultdict(list)
    for site in scene.hosts:
        if site.summary.log and site.summary.log.startswith("/"):
            logs[site.summary.log].append(site)
    for log, sites in logs.items():
        for physical in _around(log, grounds):
            hit = _fetched(scene, physical, log)
            if hit is None:
                continue
            yield Found(
                log,
                [hit[0]],
                [scene.declared(sites[0]), scene.asked(hit[1])],
                f"{log}, the log of {sites[0].name}, is served",
                remedies=mended("Write the log to a folder outside every document root"),
            )
            break


def _around(path: str, grounds: set[str]) -> Iterator[str]:
    """The grounds that a path lies in, the innermost first."""
    folder = path
    while "/" in folder:
        folder = folder.rpartition("/")[0]
        if (folder or "/") in grounds:
            yield folder or "/"


# What browsers take, by ending (RFC 9239, RFC 7303; the HTML standard's rules on blocking).
_TAKEN: dict[str, tuple[str, ...]] = {
    "css": ("text/css",),
    "js": ("text/javascript", "application/javascript", "application/x-javascript"),
    "mjs": ("text/javascript", "application/javascript"),
    "svg": ("image/svg+xml",),
    "png": ("image/",), "jpg": ("image/",), "jpeg": ("image/",), "gif": ("image/",),
    "webp": ("image/",), "avif": ("image/",), "ico": ("image/",),
    "html": ("text/html", "application/xhtml+xml"), "htm": ("text/html", "application/xhtml+xml"),
}  # fmt: skip


@check(
    "kind.plain",
    Impact.OUTAGE,
    "Files go out with a content type that browsers refuse",
    needs=("files",),
)
def plain(scene: Scene) -> Iterator[Found]:
    """One file of each ending and site is asked for; a site's endings go out alike."""
    odd = _odd_kinds(scene)
    # Where the engines know the ending only a site's own lines could spoil it.
    usual = set() if "*" in odd else {e for e in SAMPLED - odd if _usual(e, scene)}
    for physical, held in under(scene).items():
        for ending, row in held.samples.items():
            if ending in usual:
                continue
            entry = scene.survey.files.entry(row)
            hit = _fetched(scene, physical, entry.path)
            kind = hit[1].answer.content_type if hit is not None and hit[1].answer else ""
            if hit is None or (kind is None and not hit[1].decided):
                continue
            if (kind or "").startswith(_TAKEN[ending]):
                continue
            shown = kind or "no content type"
            yield Found(
                f"{physical} .{ending}",
                [hit[0]],
                [scene.entry(entry), scene.asked(hit[1])],
                f".{ending} files of {hit[0].name} go out as {shown}, which browsers refuse",
                group=ending,
                remedies=mended(f"Have .{ending} go out as {_TAKEN[ending][0]}"),
            )


def _usual(ending: str, scene: Scene) -> bool:
    """Whether every engine gives this ending a type that browsers take, of itself."""
    for engine in scene.engines:
        known = engine.usual_type(ending)
        if known is None or not known.startswith(_TAKEN[ending]):
            return False
    return True


def _odd_kinds(scene: Scene) -> set[str]:
    """Endings that some line of a configuration speaks of; `*` where one speaks of all."""
    found: set[str] = set()
    # Configurations repeat their lines: each is looked at once.
    seen: set[bytes] = set()
    for text in scene.survey.texts.values():
        lines = text.splitlines()
        # The list of types that comes with an engine is no oddity.
        if len(lines) > MOST_OWN_TYPES:
            fresh = {line for line in lines if not line.strip().lower().startswith(b"types")}
        else:
            fresh = set(lines)
        for line in fresh - seen:
            words = line.decode("utf-8", "surrogateescape").strip().lower().rstrip(";").split()
            if not words:
                continue
            if words[0] in ("forcetype", "default_type", "types", "sethandler", "defaulttype"):
                found.add("*")
            elif words[0] in ("addtype", "removetype", "addhandler"):
                found |= {word.lstrip(".") for word in words[1:]}
        seen |= fresh
    return found
