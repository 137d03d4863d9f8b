"""Metadata of paths and trees, and of what links lead to, within bounds; no contents."""

from __future__ import annotations

import os
import stat
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import islice

from ecumen.survey import Acl, Entry, FileTable, Gap, Kind
from ecumen.survey.files import KINDS, Columns
from ecumen_machine.acl import decode
from ecumen_machine.capture import KIND_OF, PSEUDO, capture, labels_by_itself
from ecumen_machine.flags import flags_of
from ecumen_machine.handles import SwappedError, within
from ecumen_machine.quiet import no_collecting

MOST_LINKS = 40
# Of links that lead out of what is scanned. Whoever lays many of them, or one to a folder without
# end, uses up what is looked at for him, and nothing of what is looked at for others.
MOST_LED = 2_000  # links, of one owner
MOST_BEYOND = 20_000  # names, of one owner
MOST_BEHIND = 5_000  # names, behind one link
MOST_BEYOND_ALL = 200_000  # names, of all owners
_PSEUDO = tuple(f"{path}/" for path in PSEUDO)


def entry_of(path: str) -> Entry:
    """What lies at a path of which no folder is a link. Raises OSError, SwappedError."""
    folder, _, leaf = path.rpartition("/")
    with within(folder) as anchor:
        return _entry(path, f"{anchor}/{leaf}")


def acl_at(at: str) -> Acl | None:
    """The ACL of what a path or a handle leads to."""
    try:
        return decode(os.getxattr(at, "system.posix_acl_access"))
    except OSError:
        return None


def context_at(at: str, *, follow: bool = True) -> str | None:
    """The security context of what a path or a handle leads to."""
    try:
        value = os.getxattr(at, "security.selinux", follow_symlinks=follow)
        return value.rstrip(b"\0").decode("utf-8", "replace")
    except OSError:
        return None


def _entry(path: str, at: str) -> Entry:
    """lstat(2) and the extended attributes of what is reached by `at`. Raises OSError."""
    info = os.lstat(at)
    kind = KIND_OF[stat.S_IFMT(info.st_mode)]
    target = os.readlink(at) if kind is Kind.LINK else None
    acl = default = context = None
    for name in _attributes(at):
        if name == "system.posix_acl_access":
            acl = decode(os.getxattr(at, name, follow_symlinks=False))
        elif name == "system.posix_acl_default":
            default = decode(os.getxattr(at, name, follow_symlinks=False))
        elif name == "security.selinux":
            value = os.getxattr(at, name, follow_symlinks=False)
            context = value.rstrip(b"\0").decode("utf-8", "replace")
    if context is None and labels_by_itself():
        context = context_at(at, follow=False)
    return Entry(
        path,
        kind,
        stat.S_IMODE(info.st_mode),
        info.st_uid,
        info.st_gid,
        info.st_size,
        info.st_mtime_ns,
        info.st_ctime_ns,
        target,
        acl,
        default,
        context,
        flags=flags_of(at) if kind in (Kind.FILE, Kind.DIR) else (),
    )


def _attributes(path: str) -> list[str]:
    try:
        return os.listxattr(path, follow_symlinks=False)
    except OSError:
        # A file system without attributes has none to tell.
        return []


@dataclass(frozen=True, slots=True)
class _Link:
    """A link to follow. uid: for whom. by: the owners of the links that led to it, and its own."""

    path: str
    target: str
    uid: int
    by: frozenset[int]


class Collector:
    """Gathers entries; each path once, folders marked `listed` when all their names are in."""

    def __init__(self, seen: Callable[[int], None] | None = None) -> None:
        self.entries: dict[str, Entry] = {}
        self.gaps: list[Gap] = []
        self.columns = Columns()
        self._scanned: set[str] = set()
        # Folders that a path leads to without a link, by that very path.
        self._plain: set[str] = set()
        self._listings: dict[str, list[tuple[str, Entry]]] = {}
        # By folder: the accounts whose links are why it was looked into. And those for which there
        # was another reason.
        self._led: dict[str, set[int]] = {}
        self._asked_for: set[str] = set()
        self._seen = seen

    def __len__(self) -> int:
        return len(self.entries) + len(self.columns)

    def table(self) -> FileTable:
        """All that was gathered; what was gathered by trees is used up."""
        with no_collecting():
            return FileTable.of(self.columns, self.entries.values())

    def _note(self, entry: Entry) -> None:
        known = self.entries.get(entry.path)
        if known is None or (entry.listed and not known.listed):
            self.entries[entry.path] = entry
            if self._seen is not None and len(self.entries) % 2000 == 0:
                self._seen(len(self.entries))

    def gap(self, what: str, path: str, error: OSError) -> None:
        self.gaps.append(Gap(what, path, error.strerror or str(error)))

    def path(self, path: str, links: int = 0, most: int | None = None) -> str | None:
        """Notes each component of a path that was named to us, and where its links lead. most:
        where an owner's link names it, names of the folder in which one is missing, beyond which it
        is not looked into; and nothing that the kernel makes up is.

        Returns the path without links, or None where it leads nowhere.
        """
        folder, _, leaf = path.rpartition("/")
        if folder in self._plain and leaf not in ("", ".", "..") and most is None:
            here, parts = folder, [leaf]
        else:
            here, parts = "/", [part for part in path.split("/") if part]
            self._single("/")
        while parts:
            part = parts.pop(0)
            if part == "..":
                here = os.path.dirname(here)
                continue
            if part == ".":
                continue
            there = os.path.join(here, part)
            if most is not None and f"{there}/".startswith(_PSEUDO):
                return None
            entry = self._single(there)
            if entry is None:
                # That it is not there is known once the folder around it is.
                self._listed(here, most)
                return None
            if entry.kind is Kind.LINK:
                links += 1
                if links > MOST_LINKS:
                    return None
                target = entry.target or ""
                parts = [p for p in target.split("/") if p] + parts
                here = "/" if target.startswith("/") else here
            else:
                here = there
        if here == path and folder:
            self._plain.add(folder)
        return here

    def _single(self, path: str) -> Entry | None:
        known = self.entries.get(path)
        if known is not None:
            return known
        try:
            entry = entry_of(path)
        except (FileNotFoundError, NotADirectoryError, SwappedError):
            return None
        except OSError as error:
            self.gap("metadata", path, error)
            return None
        self._note(entry)
        return entry

    def folder(self, path: str) -> list[str] | None:
        """Notes a folder with everything directly in it. None where it cannot be listed."""
        physical = self.path(path)
        if physical is None:
            return None
        self._asked_for.add(physical)
        names = [leaf for leaf, _ in self._listed(physical)]
        known = self.entries.get(physical)
        return names if known is not None and known.listed else None

    def _listed(self, folder: str, most: int | None = None) -> list[tuple[str, Entry]]:
        # Thousands of logs lie in one folder.
        if folder not in self._listings:
            self._listings[folder] = self._look_into(folder, most)
        return self._listings[folder]

    def _look_into(self, folder: str, most: int | None) -> list[tuple[str, Entry]]:
        entry = self.entries.get(folder)
        if entry is None or entry.kind is not Kind.DIR:
            return []
        found: list[tuple[str, Entry]] = []
        complete = True
        try:
            with within(folder) as anchor:
                for name in _names(anchor, most):
                    path = f"{folder.rstrip('/')}/{name}"
                    try:
                        child = _entry(path, f"{anchor}/{name}")
                    except FileNotFoundError:
                        continue
                    except OSError as error:
                        self.gap("metadata", path, error)
                        complete = False
                        continue
                    self._note(child)
                    found.append((name, self.entries[child.path]))
        except SwappedError:
            # It was a folder a moment ago.
            return []
        except OSError as error:
            self.gap("folder", folder, error)
            return []
        if complete and not entry.listed:
            self._note(replace(entry, listed=True))
        return found

    def trees(self, paths: Iterable[str]) -> None:
        """Notes everything below these paths, links not followed."""
        tops = {top for path in paths if (top := self.path(path)) is not None}
        tops -= self._scanned
        wanted = [top for top in sorted(tops) if not _within(top, tops | self._scanned)]
        self._scanned |= tops
        with no_collecting():
            columns, gaps = capture(wanted, self._seen or (lambda count: None))
            self.columns.join(columns)
        self.gaps += [Gap(*gap) for gap in gaps]

    def follow_links(self) -> None:
        """Notes where the links in the trees lead, and what is below there: by a link, a site may
        serve what lies anywhere.
        """
        led: Counter[int] = Counter()
        beyond: Counter[int] = Counter()
        full: set[int] = set()
        links = deque(self._links())
        while links:
            link = links.popleft()
            if link.uid in full or link.target.startswith(_PSEUDO) or self._is_scanned(link):
                continue
            room = min(
                MOST_BEHIND, MOST_BEYOND - beyond[link.uid], MOST_BEYOND_ALL - beyond.total()
            )
            if led[link.uid] == MOST_LED or room <= 0:
                full.add(link.uid)
                self.gaps.append(Gap("folder", link.path, "too much lies behind its owner's links"))
                continue
            led[link.uid] += 1
            end = self.path(link.path, most=room)
            if end is not None:
                beyond[link.uid] += self._behind(end, link, room, links)

    def _links(self) -> Iterator[_Link]:
        for path, folder in self.columns.folders.items():
            found = [(at, more.target) for at, more in folder.extra.items() if more.target]
            if not found:
                continue
            # Once for a folder: somebody may have laid a hundred thousand of them in one.
            leaves, owners = folder.leaves, folder.column("uid")
            for at, target in found:
                uid = int(owners[at])
                yield _Link(f"{path.rstrip('/')}/{leaves[at]}", target, uid, frozenset({uid}))

    def _is_scanned(self, link: _Link) -> bool:
        """Whether a link's text names what the trees hold: any link on the way there is one of
        those that are followed for themselves.
        """
        there = os.path.normpath(os.path.join(os.path.dirname(link.path), link.target))
        return there in self._scanned or _within(there, self._scanned)

    def _behind(self, top: str, link: _Link, room: int, links: deque[_Link]) -> int:
        """Notes what lies below a folder, the nearest first. Returns how many names that were."""
        seen = 0
        folders = deque([top])
        while folders and seen < room:
            folder = folders.popleft()
            if folder in self.columns.folders or f"{folder}/".startswith(_PSEUDO):
                continue
            known = self._led.setdefault(folder, set())
            if link.by <= known:
                continue
            known |= link.by
            names = self._listed(folder, room - seen)
            seen += len(names)
            for _, entry in names:
                if entry.kind is Kind.DIR:
                    folders.append(entry.path)
                elif entry.kind is Kind.LINK:
                    by = link.by | {entry.uid}
                    links.append(_Link(entry.path, entry.target or "", link.uid, by))
        return seen

    def led_by(self, path: str) -> set[int]:
        """The accounts by whose links alone a path was come to; root needs none."""
        folder = path.rpartition("/")[0] or "/"
        return set() if folder in self._asked_for else self._led.get(folder, set()) - {0}

    def named(self, leaves: frozenset[str]) -> Iterator[str]:
        """Plain files and links with one of these names among what was gathered."""
        for path, entry in self.entries.items():
            if entry.kind in (Kind.FILE, Kind.LINK) and path.rpartition("/")[2] in leaves:
                yield path
        plain = (KINDS.index(Kind.FILE), KINDS.index(Kind.LINK))
        for path, folder in self.columns.folders.items():
            names = folder.leaves
            for leaf in leaves.intersection(names):
                if folder.column("kind")[names.index(leaf)] in plain:
                    yield f"{path.rstrip('/')}/{leaf}"


def _names(folder: str, most: int | None) -> list[str]:
    """The names in a folder; none where there are more than that."""
    if most is None:
        return os.listdir(folder)
    with os.scandir(folder) as found:
        names = [each.name for each in islice(found, most + 1)]
    if len(names) > most:
        raise OSError(7, "it holds too much to be looked at for a link")
    return names


def _within(path: str, others: set[str]) -> bool:
    """Whether one of the others lies around a path."""
    while path != "/":
        path = path.rpartition("/")[0] or "/"
        if path in others:
            return True
    return False
