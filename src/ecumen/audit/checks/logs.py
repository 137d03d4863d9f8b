"""Where access lines go: shared logs, logs that cannot be opened, sites without one."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from functools import lru_cache

from ecumen.audit.check import Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.roots import twins
from ecumen.audit.scene import Scene, Site
from ecumen.audit.users import root_of
from ecumen.logs.rotation import is_rotated, logs_of, rotated_by
from ecumen.logs.template import TemplateError, line_format
from ecumen.operations import Operation
from ecumen.operations.digest import digest
from ecumen.operations.quoting import quoted
from ecumen.operations.rotation import Rotation
from ecumen.operations.trial import Surveyed
from ecumen.rights.reach import Reacher
from ecumen.rights.walk import join
from ecumen.survey import ROTATION_ENTRIES, ROTATION_FILE, Entry

MOST_SHOWN = 5


@lru_cache(maxsize=1024)
def names_site(template: str) -> bool | None:
    """Whether a line says for which site it is; None for a template that is not understood."""
    try:
        return bool(line_format(template).has & {"site", "host"})
    except TemplateError:
        return None


@check("log.shared", Impact.CLASH, "Two sites write one log, and its lines do not say which")
def shared(scene: Scene) -> Iterator[Found]:
    for path, sites in _by_log(scene).items():
        own = [s for s in sites if s.summary.kept is not None and s.summary.kept.own]
        apart = [s for s in own[1:] if not twins(own[0], s)]
        told = {names_site(s.summary.kept.template) for s in own if s.summary.kept is not None}
        # Where any format is not understood, its lines may say for which site they are.
        if not apart or told != {False}:
            continue
        both = [own[0], *apart]
        names = " and ".join(site.name for site in both[:3])
        lines = [scene.evidence(s.summary.kept.line) for s in both[:MOST_SHOWN] if s.summary.kept]
        yield Found(
            path,
            both,
            lines,
            f"{names} write {path}, and its lines do not say which",
            remedies=mended(
                "Give each site a log of its own", "Put the site's name into the lines"
            ),
        )


@check("log.nowhere", Impact.DRIFT, "A site has no log of its own")
def nowhere(scene: Scene) -> Iterator[Found]:
    """Only where the lines of the common log do not say for which site they are."""
    for path, sites in _by_log(scene).items():
        for site in sites:
            kept = site.summary.kept
            if kept is None or kept.own or names_site(kept.template) is not False:
                continue
            yield Found(
                site.subject,
                [site],
                [scene.declared(site), scene.evidence(kept.line)],
                f"{site.name} has no log of its own: its lines land in {path}",
                group=path,
                remedies=mended(f"Give {site.name} a log of its own"),
            )


@check("log.unwritable", Impact.OUTAGE, "A log cannot be opened", needs=("files",))
def unwritable(scene: Scene) -> Iterator[Found]:
    """The engine opens its logs as root, before it answers anything."""
    reacher = Reacher(scene.survey)
    for path, sites in _by_log(scene).items():
        # A program that takes lines, a log of the system, or a name made for each request.
        if not path.startswith("/") or "$" in path:
            continue
        there = scene.walker.walk(path)
        found = reacher.ask(root_of(), "w" if there.entry is not None else "create", path)
        if found.allowed is not False:
            continue
        folder = path.rpartition("/")[0]
        kept = sites[0].summary.kept
        missing = scene.walker.walk(folder).entry is None
        yield Found(
            path,
            sites,
            [scene.evidence(kept.line)] if kept else [],
            f"{path}, the log of {sites[0].name}, cannot be opened: {found.why}",
            remedies=mended(
                f"Make the folder {folder}" if missing else f"Let {path} be written",
                commands=[f"mkdir -p -- {quoted(folder)}"] if missing else [],
            ),
        )


LARGE = 100_000_000  # bytes: what grows to this has not been rotated for long


@check("log.unrotated", Impact.UPKEEP, "A log grows without being rotated", needs=("files",))
def unrotated(scene: Scene) -> Iterator[Found]:
    """Only where the folder of the log is wholly known, holds no older part of it, and no entry by
    which logs are rotated is known to mean it.
    """
    rotated: dict[str, set[str]] = {}
    entries = _entries(scene)
    for path, sites in _by_log(scene).items():
        folder, _, name = path.rpartition("/")
        entry = scene.walker.walk(path).entry if path.startswith("/") else None
        around = scene.walker.walk(folder).entry
        if entry is None or entry.size < LARGE or around is None or not around.listed:
            continue
        if around.path not in rotated:
            names = scene.survey.files.children(around.path)
            rotated[around.path] = {log for each in names for log in logs_of(each)}
        physical = join(around.path, name)
        if name in rotated[around.path] or any(is_rotated(each, physical) for each in entries):
            continue
        kept = sites[0].summary.kept
        yield Found(
            path,
            sites,
            [scene.entry(entry), *([scene.evidence(kept.line)] if kept else [])],
            f"{path} has {entry.size // 1_000_000} MB, and no older part of it lies beside it",
            remedies=mended(
                "Have it rotated each week, with 12 older parts kept",
                operations=_rotation(scene, physical, entry, around),
            ),
        )


def _entries(scene: Scene) -> set[str]:
    """The paths and patterns of all logs that entries mean."""
    texts = scene.survey.texts
    own = [path for path in texts if path.startswith(f"{ROTATION_ENTRIES}/")]
    return {
        each
        for path in (ROTATION_FILE, *own)
        for each in rotated_by(texts.get(path, b"").decode("utf-8", "surrogateescape"))
    }


def _rotation(scene: Scene, path: str, log: Entry, folder: Entry) -> list[Operation]:
    """None where who could do it is not plain: not root, where others write beside it; and not the
    owner of the folder, where the log is another's.
    """
    survey = scene.survey
    by = ("", "")
    if folder.uid != 0 or folder.mode & 0o022 or folder.acl:
        if folder.uid == 0 or log.uid != folder.uid:
            return []
        by = survey.user_name(folder.uid), survey.group_name(folder.gid)
    # A path can be longer than a name; what follows keeps two of them apart.
    name = re.sub(r"[^A-Za-z0-9]+", "-", path).strip("-")[-40:].lstrip("-")
    mark = digest(path.encode("utf-8", "surrogateescape"))[-8:]
    try:
        return [Rotation.of(Surveyed(survey), f"ecumen-{name}-{mark}", (path,), by=by)]
    except (ValueError, LookupError):
        return []


def _by_log(scene: Scene) -> dict[str, list[Site]]:
    found: dict[str, list[Site]] = defaultdict(list)
    for site in scene.hosts:
        if site.summary.log is not None:
            found[site.summary.log].append(site)
    return found
