"""Index files and listings: none, empty, doubled endings, outranked, and listings that are open."""

from __future__ import annotations

import re
from collections.abc import Iterator

from ecumen import codes
from ecumen.audit.check import Found, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.roots import roots
from ecumen.audit.scene import Scene, Site
from ecumen.operations.quoting import quoted
from ecumen.passage.request import escaped_path
from ecumen.rights.walk import join
from ecumen.survey import Entry, Kind

_DOUBLED = ("txt", "html", "htm", "php", "css", "js", "doc", "docx", "rtf")
_PAGES = ("html", "htm", "php", "css", "js", "xhtml")
# In lower case; each begins with plain text, which is found fast.
_LISTS = tuple(
    re.compile(pattern)
    for pattern in (rb"indexes(?<!-indexes)\b", rb"autoindex\s+on", rb"options\s+\+?all\b")
)
# What override files may say is found where they say it.
_LETS = b"allowoverride"
MOST_FOLDERS = 3  # of a site, that are asked for their listing


def _candidates(scene: Scene, site: Site, folder: str) -> list[Entry]:
    """The index files that lie in a folder, in the order in which they are tried."""
    found = []
    for name in site.summary.index:
        entry = None if "/" in name else scene.survey.files.get(join(folder, name))
        if entry is not None:
            found.append(entry)
    return found


@check("index.none", Impact.OUTAGE, "There is no index, and the listing is off", needs=("files",))
def none(scene: Scene) -> Iterator[Found]:
    for site in scene.sites:
        front = scene.front(site)
        if not front.decided or front.block is None or front.block.code != codes.SERVE_NO_INDEX:
            continue
        if front.answered_by != site.summary.place:
            continue
        folder = front.block.path or site.summary.root or ""
        wanted = next(iter(site.summary.index), "index.html")
        entry = scene.survey.files.get(folder)
        yield Found(
            site.subject,
            [site],
            [scene.asked(front), *([scene.entry(entry)] if entry else [])],
            f"{folder} has no index, and its listing is off",
            group="personal sites" if site.summary.personal else "",
            remedies=mended(f"Add {wanted} to {folder}"),
        )


@check("index.empty", Impact.OUTAGE, "The index that goes out is an empty file", needs=("files",))
def empty(scene: Scene) -> Iterator[Found]:
    for site in scene.sites:
        front = scene.front(site)
        if front.status != 200 or front.file is None or front.answered_by != site.summary.place:
            continue
        entry = scene.survey.files.get(front.file)
        if entry is None or entry.kind is not Kind.FILE or entry.size:
            continue
        folder = front.file.rpartition("/")[0]
        behind = [e for e in _candidates(scene, site, folder) if e.path != front.file and e.size]
        title = f"The front page of {site.name} is the empty file {front.file}"
        if behind:
            title += f"; {behind[0].path} lies behind it"
        yield Found(
            site.subject,
            [site],
            [scene.entry(entry), *(scene.entry(e) for e in behind[:1]), scene.asked(front)],
            title,
            remedies=mended(
                f"Fill {front.file}, or remove it", commands=[f"rm -- {quoted(front.file)}"]
            ),
        )


@check("index.doubled-ending", Impact.DRIFT, "A doubled ending keeps a file from being served",
       needs=("files",))  # fmt: skip
def doubled(scene: Scene) -> Iterator[Found]:
    """`index.html.txt` and its kind, where the file that is meant is not there."""
    files = scene.survey.files
    suspects = files.folders_with(_is_doubled)
    for root in roots(scene).values():
        if root.physical not in suspects:
            continue
        names = files.children(root.physical)
        there = set(names)
        for name in filter(_is_doubled, names):
            meant = name.rpartition(".")[0]
            entry = files.get(join(root.physical, name))
            if meant in there or entry is None or entry.kind is not Kind.FILE:
                continue
            yield Found(
                entry.path,
                root.sites,
                [scene.entry(entry)],
                f"{entry.path} is not found as {meant}, which is not there",
                remedies=mended(
                    f"Call it {meant}",
                    commands=[f"mv -- {quoted(entry.path)} {quoted(join(root.physical, meant))}"],
                ),
            )


def _is_doubled(name: str) -> bool:
    meant, _, last = name.rpartition(".")
    return last.lower() in _DOUBLED and meant.rpartition(".")[2].lower() in _PAGES


@check(
    "index.outranked", Impact.DRIFT, "A newer index stands behind an older one", needs=("files",)
)
def outranked(scene: Scene) -> Iterator[Found]:
    for site in scene.sites:
        front = scene.front(site)
        if front.status != 200 or front.file is None or front.answered_by != site.summary.place:
            continue
        folder = front.file.rpartition("/")[0]
        found = _candidates(scene, site, folder)
        if len(found) < 2 or found[0].path != front.file:
            continue
        newer = [e for e in found[1:] if e.mtime > found[0].mtime and e.kind is Kind.FILE]
        if not newer:
            continue
        yield Found(
            site.subject,
            [site],
            [scene.entry(found[0]), scene.entry(newer[0]), scene.asked(front)],
            f"{newer[0].path} is newer, and {found[0].path} still goes out in its place",
            remedies=mended(f"Remove {found[0].path}, or put the other name first in the order"),
        )


@check(
    "listing.open",
    Impact.EXPOSURE,
    "A folder without an index shows what lies in it",
    needs=("files",),
)
def listing(scene: Scene) -> Iterator[Found]:
    """The root itself, and the first folders in it that have no index."""
    for site in scene.sites:
        root = roots(scene).get((site.summary.root or "").rstrip("/"))
        if root is None or root.entry is None:
            continue
        shown = [""] if scene.front(site).serve == "serve.listing" else []
        # Asking for each folder of thousands of sites takes seconds, and most servers list nowhere.
        if not shown and not scene.once("listings anywhere", _listings_anywhere):
            continue
        shown += _bare_folders(scene, site, root.physical)
        prefix = site.summary.path.rstrip("/") if site.summary.personal else ""
        for folder in shown:
            address = f"{prefix}{escaped_path(folder)}/"
            request = scene.request_for(site, address)
            if request is None:
                continue
            front = scene.ask_if_served(request)
            if front is None or not front.decided or front.status != 200:
                continue
            if front.serve != "serve.listing" or front.answered_by != site.summary.place:
                continue
            there = scene.survey.files.children(root.physical + folder)
            yield Found(
                f"{site.subject} {folder or '/'}",
                [site],
                [scene.asked(front)],
                f"{site.name}{escaped_path(folder)}/ shows a list of {len(there)} entries",
                group="personal sites" if site.summary.personal else site.name,
                remedies=mended("Turn listings off for the site", "Add an index to the folder"),
            )
            break


def _bare_folders(scene: Scene, site: Site, root: str) -> list[str]:
    """Folders in a root that hold something and none of the index files."""
    found = []
    for name in scene.survey.files.children(root):
        entry = scene.survey.files.get(join(root, name))
        if name.startswith(".") or entry is None or entry.kind is not Kind.DIR:
            continue
        if scene.survey.files.children(entry.path) and not _candidates(scene, site, entry.path):
            found.append(f"/{name}")
            if len(found) >= MOST_FOLDERS:
                break
    return found


def _listings_anywhere(scene: Scene) -> bool:
    """Whether any line of a configuration could turn a listing on: else none is asked for."""
    for text in scene.survey.texts.values():
        lowered = text.lower()
        for pattern in _LISTS:
            for hit in pattern.finditer(lowered):
                if _LETS not in lowered[lowered.rfind(b"\n", 0, hit.start()) + 1 : hit.start()]:
                    return True
    return False
