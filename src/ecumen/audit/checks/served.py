"""What a visitor can fetch that nobody should: proved by a passage each."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from functools import partial

from ecumen.audit.check import Found, check, mended
from ecumen.audit.checks.roots import MOST_SHOWN, roots, under
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Front, Scene, Site
from ecumen.passage.request import escaped_path
from ecumen.survey import Entry, Kind

# Names of things that are kept in a root by mistake. Their contents are never read.
_SECRETS: tuple[tuple[str, re.Pattern[str]], ...] = tuple(
    (kind, re.compile(pattern, re.IGNORECASE))
    for kind, pattern in (
        ("a version-control folder", r"/\.git/(?:HEAD|config|index)\Z"),
        ("a version-control folder", r"/\.(?:svn/(?:entries|wc\.db)|hg/(?:requires|dirstate))\Z"),
        ("a database dump", r"\.(?:sql|dump|sqlite3?|mdb)(?:\.(?:gz|bz2|xz|zst|zip))?\Z"),
        ("a key", r"/(?:id_(?:rsa|ed25519|ecdsa|dsa)|[^/]*\.(?:pem|key|p12|pfx|ppk))\Z"),
        ("an environment file", r"/\.env(?:\.[^/]*)?\Z"),
        ("a password file", r"/\.?(?:htpasswd|passwd|pgpass|my\.cnf|netrc)\Z"),
        ("a backup", r"(?:\.(?:bak|old|orig|save|swp|swo|tmp)|~)\Z"),
        ("an archive of the site", r"\.(?:tar|tgz|tar\.(?:gz|bz2|xz|zst))\Z"),
        ("an archive of the site", r"/(?:backup|site|www|html|public|home)[^/]*\.(?:zip|7z|rar)\Z"),
    )
)
_PUBLIC_KEYS = re.compile(r"\.pub\Z|/(?:public|cert|chain|fullchain|ca)[^/]*\.pem\Z", re.I)
MOST_ASKED = 200  # of one root
MOST_OWN_TYPES = 60  # lines of a file that lists an engine's types


def _kind(path: str) -> str | None:
    if _PUBLIC_KEYS.search(path):
        return None
    return next((kind for kind, pattern in _SECRETS if pattern.search(path)), None)


@check(
    "root.served-secret",
    Impact.EXPOSURE,
    "A visitor can fetch what should not be served",
    needs=("files",),
)
def secrets(scene: Scene) -> Iterator[Found]:
    for physical, entries in under(scene).items():
        suspects = [
            (kind, entry)
            for entry in entries
            if entry.kind is Kind.FILE and (kind := _kind(entry.path)) is not None
        ]
        if not suspects:
            continue
        fetched: dict[str, list[tuple[Entry, Front]]] = defaultdict(list)
        site = None
        for kind, entry in suspects[:MOST_ASKED]:
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
    for root in roots(scene).values():
        if root.physical != physical:
            continue
        for site in root.sites:
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
    grounds = sorted(r.physical for r in roots(scene).values() if r.entry is not None)
    logs: dict[str, list[Site]] = defaultdict(list)
    for site in scene.hosts:
        if site.summary.log and site.summary.log.startswith("/"):
            logs[site.summary.log].append(site)
    for log, sites in logs.items():
        for physical in grounds:
            if not log.startswith(physical.rstrip("/") + "/"):
                continue
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
    for physical, entries in under(scene).items():
        samples: dict[str, Entry] = {}
        for entry in entries:
            if entry.kind is Kind.FILE and entry.size:
                leaf = entry.path.rpartition("/")[2]
                ending = leaf.rpartition(".")[2].lower()
                if ending in _TAKEN and not leaf.startswith("."):
                    samples.setdefault(ending, entry)
        for ending, entry in samples.items():
            odd = scene.once("odd kinds", _odd_kinds).intersection({ending, "*"})
            if not odd and scene.once(f"kind {ending}", partial(_usual, ending)):
                # Where the engines know the ending only a site's own lines could spoil it.
                continue
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
    for text in scene.survey.texts.values():
        lines = text.decode("utf-8", "surrogateescape").splitlines()
        # The list of types that comes with an engine is no oddity.
        usual = {"types"} if len(lines) > MOST_OWN_TYPES else set()
        for line in lines:
            words = line.strip().lower().rstrip(";").split()
            if not words or words[0] in usual:
                continue
            if words[0] in ("forcetype", "default_type", "types", "sethandler", "defaulttype"):
                found.add("*")
            elif words[0] in ("addtype", "removetype", "addhandler"):
                found |= {word.lstrip(".") for word in words[1:]}
    return found
