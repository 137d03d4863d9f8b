"""What is written, enabled, loaded and running: where these differ."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

from ecumen.audit.check import Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Scene, Site
from ecumen.engines.engine import Engine
from ecumen.engines.layout import enabled_folders, paired_folders
from ecumen.operations.link import Link
from ecumen.operations.quoting import quoted
from ecumen.operations.reload import Reload
from ecumen.operations.running import Start
from ecumen.passage.verdict import Evidence
from ecumen.survey import Entry, Kind
from ecumen.survey.archive import LAST_MOMENT


def _moment(seconds: float) -> str:
    # What no calendar holds is shown as its end.
    at = datetime.fromtimestamp(min(max(seconds, 0), LAST_MOMENT), UTC)
    return f"{at:%Y-%m-%d %H:%M} UTC"


@check(
    "state.fails-check",
    Impact.OUTAGE,
    "The configuration would not load: a restart takes every site down",
)
def fails_check(scene: Scene) -> Iterator[Found]:
    for engine in scene.engines:
        for broken in [each for each in engine.breaks if not each.unread][:1]:
            sites = [site for site in scene.hosts if site.engine is engine]
            yield Found(
                f"{engine.kind} {engine.record.config}",
                sites,
                [Evidence(broken.place.file, broken.place.line, broken.message)],
                f"{engine.kind} would not load its configuration: {broken.message}",
                remedies=mended(f"Mend {broken.place}, and check the configuration again"),
            )


@check("state.stopped", Impact.OUTAGE, "The engine is not running")
def stopped(scene: Scene) -> Iterator[Found]:
    for engine in scene.engines:
        if engine.record.running is False and not engine.record.declared:
            sites = [site for site in scene.hosts if site.engine is engine]
            yield Found(
                engine.kind,
                sites,
                [Evidence(path=engine.record.config)],
                f"{engine.kind} is not running",
                remedies=mended(
                    f"Start {engine.kind}, once its check passes",
                    operations=[Start(engine.kind, engine.programs[0])],
                ),
            )


def changed_since(scene: Scene, engine: Engine) -> Iterator[tuple[str, Entry]]:
    """Files of the configuration that changed after a running engine last read it."""
    read = engine.record.loaded_at if engine.record.running else None
    for file in dict.fromkeys(engine.files) if read is not None else ():
        entry = scene.walker.walk(file).entry
        if entry is not None and max(entry.mtime, entry.ctime) // 10**9 > (read or 0):
            yield file, entry


@check("state.not-reloaded", Impact.DRIFT, "Changed since the engine last read its configuration",
       needs=("files",))  # fmt: skip
def not_reloaded(scene: Scene) -> Iterator[Found]:
    for engine in scene.engines:
        record = engine.record
        if record.loaded_at is None:
            continue
        sites: dict[str, list[Site]] = {}
        for site in scene.hosts:
            if site.engine is engine:
                sites.setdefault(site.summary.place.file, []).append(site)
        for file, entry in changed_since(scene, engine):
            changed = _moment(entry.mtime / 1e9)
            yield Found(
                file,
                sites.get(file, []),
                [scene.entry(entry), Evidence(text=f"read on {_moment(record.loaded_at)}")],
                f"{file} changed on {changed}, and {engine.kind} has not read it since",
                group=engine.kind,
                remedies=mended(
                    f"Have {engine.kind} read its configuration again",
                    operations=[Reload(engine.kind, engine.programs[0])],
                ),
            )


@check("state.not-enabled", Impact.DRIFT, "Written, but not enabled", needs=("files",))
def not_enabled(scene: Scene) -> Iterator[Found]:
    """Where folders come in pairs: what is available, and links to what is enabled."""
    for engine in scene.engines:
        for pair in paired_folders(scene.survey, engine.record):
            available, enabled = pair.available, pair.enabled
            linked = {
                scene.walker.walk(f"{enabled}/{leaf}").physical
                for leaf in scene.survey.files.children(enabled)
            }
            for leaf in scene.survey.files.children(available):
                entry = scene.survey.files.get(f"{available}/{leaf}")
                if entry is None or entry.kind is not Kind.FILE or entry.path in linked:
                    continue
                if leaf.startswith(".") or leaf.endswith(("~", ".bak", ".dpkg-dist", ".dpkg-old")):
                    continue
                yield Found(
                    entry.path,
                    [],
                    [scene.entry(entry)],
                    f"{entry.path} is written, and not enabled",
                    group=available,
                    remedies=mended(
                        f"Link it from {enabled}, or remove it",
                        operations=[Link(f"{enabled}/{leaf}", f"../{pair.name}/{leaf}")],
                    ),
                )


@check("state.dangling", Impact.DRIFT, "Enabled, but what it points to is gone", needs=("files",))
def dangling(scene: Scene) -> Iterator[Found]:
    for engine in scene.engines:
        paths = {
            f"{enabled}/{leaf}": None
            for enabled in enabled_folders(scene.survey, engine.record)
            for leaf in scene.survey.files.children(enabled)
        }
        for path, place in {**paths, **engine.missing}.items():
            link = scene.survey.files.get(path)
            if link is None or link.kind is not Kind.LINK:
                continue
            walk = scene.walker.walk(link.path)
            if walk.problem is None or walk.problem == "unseen":
                continue
            yield Found(
                link.path,
                [],
                [scene.entry(link), *([scene.line(place)] if place else [])],
                f"{link.path} points to {link.target}, which is gone",
                group=path.rpartition("/")[0].rpartition("/")[2],
                remedies=mended(
                    f"Remove the link {link.path}", commands=[f"rm -- {quoted(link.path)}"]
                ),
            )
