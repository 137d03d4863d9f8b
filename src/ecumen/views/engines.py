"""The engines as they are: what runs, as whom, by which configuration, and what would be otherwise
if they read it again now.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ecumen.audit.checks.states import changed_since
from ecumen.audit.scene import Scene
from ecumen.engines.engine import PROGRAMS, Engine
from ecumen.engines.layout import enabled_folders
from ecumen.operations import Operation
from ecumen.operations.reload import Reload
from ecumen.operations.running import Start, Stop
from ecumen.passage.gates.door import covers
from ecumen.survey import Kind

MOST_FILES = 200  # of each kind


@dataclass(frozen=True, slots=True)
class ChangedFile:
    """A file of the configuration that is newer than what the engine has read. at: seconds since
    1970, UTC. sites: that are declared in it.
    """

    path: str
    at: float
    sites: list[str]


@dataclass(frozen=True, slots=True)
class UnreadFile:
    """What lies where enabled things lie, and that no line reads. why: in words."""

    path: str
    why: str


@dataclass(frozen=True, slots=True)
class Heard:
    """An address and port. wanted: the configuration says so; heard: the engine listens there."""

    address: str
    port: int
    wanted: bool
    heard: bool


@dataclass(frozen=True, slots=True)
class EngineState:
    """One engine. running, passes: None where nobody knows; said: what its own check says last.
    account: whose the workers are. domain: the type that its process has. read_at: when it last
    read its configuration; seen_at: when it was surveyed (seconds since 1970, UTC). stops_at: where
    reading would stop, and why. sites: how many it serves.
    """

    kind: str
    version: str
    config: str
    running: bool | None
    passes: bool | None
    said: str
    account: str
    domain: str
    read_at: int | None
    seen_at: int
    files: int
    sites: int
    stops_at: list[str]
    doors: list[Heard]
    changed: list[ChangedFile]
    unread: list[UnreadFile]


def engines(scene: Scene) -> list[EngineState]:
    """All that are read, in the order of the survey."""
    return [_state(scene, engine) for engine in scene.engines]


def _state(scene: Scene, engine: Engine) -> EngineState:
    record = engine.record
    declared: dict[str, list[str]] = {}
    count = 0
    for site in scene.sites:
        if site.engine is engine:
            count += 1
            if site.summary.personal is None:
                declared.setdefault(site.summary.place.file, []).append(site.name)
    changed = [
        ChangedFile(path, max(entry.mtime, entry.ctime) / 1e9, declared.get(path, []))
        for path, entry in changed_since(scene, engine)
    ]
    return EngineState(
        kind=engine.kind,
        version=record.version,
        config=record.config,
        running=record.running,
        passes=None if record.check is None else record.check.passes,
        said="" if record.check is None else record.check.output.strip(),
        account="" if engine.worker is None else engine.worker.name,
        domain=record.domain or "",
        read_at=record.loaded_at if record.running else None,
        seen_at=scene.survey.taken_at,
        files=len(engine.files),
        sites=count,
        stops_at=[f"{each.place}: {each.message}" for each in engine.breaks],
        doors=list(_doors(scene, engine)),
        changed=changed[:MOST_FILES],
        unread=list(_unread(scene, engine))[:MOST_FILES],
    )


def may_be_done(engine: Engine) -> Iterator[Operation]:
    """What an engine can be told by a plan."""
    program = engine.programs[0]
    if engine.record.running:
        yield Reload(engine.kind, program)
        yield Stop(engine.kind, program)
    elif engine.record.running is False:
        yield Start(engine.kind, program)


def _doors(scene: Scene, engine: Engine) -> Iterator[Heard]:
    """What is wanted in its order, and behind it what is heard besides."""
    own = [x for x in scene.survey.listeners if PROGRAMS.get(x.program or "") == engine.kind]
    wanted = dict.fromkeys((b.address, b.port) for b in engine.listens if b.port is not None)
    for address, port in wanted:
        fits = (x.port == port and _same(address, x.address) for x in own)
        yield Heard(address, port, wanted=True, heard=any(fits))
    for each in own:
        known = (port == each.port and _same(a, each.address) for a, port in wanted)
        if not any(known):
            yield Heard(each.address, each.port, wanted=False, heard=True)


def _same(address: str, heard: str) -> bool:
    return covers(address, heard) or covers(heard, address)


def _unread(scene: Scene, engine: Engine) -> Iterator[UnreadFile]:
    files, read = scene.survey.files, set(engine.files)
    main = engine.record.config.rpartition("/")[0]
    # Folders of which it reads some files, and those that are called so.
    folders = dict.fromkeys(path.rpartition("/")[0] for path in engine.files)
    folders |= dict.fromkeys(enabled_folders(scene.survey, engine.record))
    for folder in folders:
        if folder == main:
            continue
        for name in files.children(folder):
            path = f"{folder}/{name}"
            entry = files.get(path)
            if entry is None or entry.kind not in (Kind.FILE, Kind.LINK) or path in read:
                continue
            walk = scene.walker.walk(path)
            if walk.problem is not None:
                yield UnreadFile(path, "its link leads nowhere" if entry.target else "out of reach")
            elif walk.entry is not None and walk.entry.kind is Kind.FILE:
                hidden = name.startswith(".")
                yield UnreadFile(
                    path, "its name begins with a dot" if hidden else "no line names it"
                )
