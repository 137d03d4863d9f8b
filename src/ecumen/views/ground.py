"""The path tree as ground, with the document roots that lie on it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from ecumen.audit.holdings import Holding
from ecumen.audit.roots import DocumentRoot, roots, under
from ecumen.audit.scene import Scene

MOST_ENDINGS = 40


@dataclass(frozen=True, slots=True)
class EndingUse:
    """A file-name ending in use. type: None where the engine knows none for it."""

    ending: str
    files: int
    type: str | None


@dataclass(frozen=True, slots=True)
class GroundRoot:
    """One document root. problem: why it is none, "" where it is one. bytes, files: in it, without
    the roots within."""

    path: str
    real_path: str
    sites: list[str]
    owner: str | None
    mode: str | None
    problem: str
    files: int
    bytes: int
    index: list[str]
    endings: list[EndingUse]


@dataclass(slots=True)
class GroundFolder:
    """A folder on the way to roots. roots: how many lie in and below it."""

    path: str
    name: str
    root: DocumentRoot | None = None
    folders: list[GroundFolder] = field(default_factory=list)
    roots: int = 0


def ground(scene: Scene, within: str = "/", words: str = "") -> GroundFolder:
    """The tree of the roots in and below a folder; what leads only on is drawn as one.

    words: only roots that hold every one, in path, owner or the name of a site.
    """
    whole = GroundFolder(within, within)
    wanted = words.lower().split()
    inside = [
        r
        for r in roots(scene).values()
        if _is_in(r.path, within) and (not wanted or _holds(scene, r, wanted))
    ]
    by_path = {within: whole}
    # Upper folders first, so that a root within another hangs below it.
    for root in sorted(inside, key=lambda each: each.path.split("/")):
        node = _folder(by_path, root.path, within)
        node.root = root
    _count(whole)
    return _folded(whole)


def _holds(scene: Scene, root: DocumentRoot, wanted: list[str]) -> bool:
    owner = "" if root.entry is None else scene.survey.user_name(root.entry.uid)
    text = " ".join([root.path, owner, *(site.name for site in root.sites)]).lower()
    return all(word in text for word in wanted)


def _is_in(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder.rstrip("/") + "/")


def _folder(by_path: dict[str, GroundFolder], path: str, top: str) -> GroundFolder:
    """The node of a path, made with all on the way to it."""
    missing = []
    current = path
    while current not in by_path:
        missing.append(current)
        current = current.rpartition("/")[0] or "/"
    node = by_path[current]
    for each in reversed(missing):
        made = GroundFolder(each, each.rpartition("/")[2])
        node.folders.append(made)
        by_path[each] = node = made
    return node


def _count(folder: GroundFolder) -> int:
    below = sum(_count(each) for each in folder.folders)
    folder.roots = below + (folder.root is not None)
    return folder.roots


def _folded(folder: GroundFolder) -> GroundFolder:
    """Chains of folders without a choice become one."""
    folder.folders = [_folded(each) for each in folder.folders]
    if folder.root is None and len(folder.folders) == 1:
        only = folder.folders[0]
        name = f"{folder.name.rstrip('/')}/{only.name}"
        return GroundFolder(only.path, name, only.root, only.folders, only.roots)
    return folder


def shown_root(scene: Scene, root: DocumentRoot) -> GroundRoot:
    """What is to be said of a root."""
    held = under(scene).get(root.physical) or Holding()
    site = root.sites[0]
    there = set(scene.survey.files.children(root.physical))
    entry = root.entry
    return GroundRoot(
        path=root.path,
        real_path=root.physical,
        sites=[each.name for each in root.sites],
        owner=None if entry is None else scene.survey.user_name(entry.uid),
        mode=None if entry is None else f"{entry.mode:04o}",
        problem="" if root.problem is None else str(root.problem),
        files=held.files,
        bytes=held.bytes,
        index=[name for name in site.summary.index if name in there],
        endings=list(_endings(scene, root, held)),
    )


def _endings(scene: Scene, root: DocumentRoot, held: Holding) -> Iterable[EndingUse]:
    engine = root.sites[0].engine
    used = sorted(held.endings.items(), key=lambda item: (-item[1], item[0]))
    for ending, count in used[:MOST_ENDINGS]:
        yield EndingUse(ending, count, engine.usual_type(ending))
