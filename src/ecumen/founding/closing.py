"""A site taken out of service: its files stay, and its configuration is read no more."""

from __future__ import annotations

from collections.abc import Iterator

from ecumen.audit.scene import Scene, Site
from ecumen.engines.engine import renewed
from ecumen.engines.layout import paired_folders
from ecumen.operations.operation import Operation
from ecumen.operations.reload import Reload
from ecumen.operations.remove import Remove
from ecumen.operations.rename import Rename
from ecumen.operations.trial import Surveyed, done

UNREAD = ".off"  # behind the name of a file that is there, and read no more


def closing(scene: Scene, site: Site) -> tuple[Operation, ...]:
    """The operations that take a site out of service, as this server has it: without the link that
    has its file read; else the file under a name that nobody reads; else kept aside. Raises
    LookupError, which says why not.
    """
    file = site.summary.place.file
    others = [each.name for each in scene.hosts if each is not site and _in(each, file)]
    if others:
        raise LookupError(f"{file} holds {others[0]}, too: its own lines are to be taken out there")
    if file == site.engine.record.config:
        raise LookupError(f"{file} is the server's own: the site's lines are to be taken out there")
    for way in _ways(scene, site, file):
        if not _is_read(scene, site, way):
            return way, Reload(site.engine.kind, site.engine.programs[0])
    raise LookupError(f"{file} would be read whatever it is called")


def _in(site: Site, file: str) -> bool:
    return site.summary.place.file == file


def _ways(scene: Scene, site: Site, file: str) -> Iterator[Operation]:
    looking = Surveyed(scene.survey)
    folder = file.rpartition("/")[0]
    entry = scene.survey.files.get(file)
    paired = {pair.enabled for pair in paired_folders(scene.survey, site.engine.record)}
    if entry is not None and entry.target is not None and folder in paired:
        yield Remove.of(looking, file)
        return
    if scene.survey.files.get(f"{file}{UNREAD}") is None:
        yield Rename.of(looking, file, f"{file}{UNREAD}")
    yield Remove.of(looking, file)


def _is_read(scene: Scene, site: Site, way: Operation) -> bool:
    """Whether the engine would still read it, or stop at its absence."""
    survey = done(scene.survey, [way])
    engine = renewed(scene.engines, survey)[scene.engines.index(site.engine)]
    gone = site.summary.place.file
    moved = way.to if isinstance(way, Rename) else gone
    return bool({gone, moved} & set(engine.files)) or len(engine.breaks) > len(site.engine.breaks)
