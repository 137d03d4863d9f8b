"""What lies in each document root, as far as any check looks at it: one pass over all paths."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from ecumen.survey import FileTable, Kind
from ecumen.survey.files import KINDS

Rows = npt.NDArray[np.int64]
_FILE, _LINK, _DIR = (KINDS.index(kind) for kind in (Kind.FILE, Kind.LINK, Kind.DIR))
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


@dataclass(slots=True)
class Holding:
    """Rows of the file table. samples: the first file that holds anything, by its ending.

    endings: how many files have each; without a dot it is "".
    """

    loose: list[int] = field(default_factory=list)
    links: list[int] = field(default_factory=list)
    suspects: list[tuple[str, int]] = field(default_factory=list)
    samples: dict[str, int] = field(default_factory=dict)
    endings: dict[str, int] = field(default_factory=dict)
    files: int = 0
    bytes: int = 0


def secret_kind(path: str) -> str | None:
    """What a name says it is that should not be served; None for all else."""
    if _PUBLIC_KEYS.search(path):
        return None
    return next((kind for kind, pattern in _SECRETS if pattern.search(path)), None)


def holdings(
    files: FileTable, grounds: Iterable[str], endings: frozenset[str]
) -> Mapping[str, Holding]:
    """By the innermost of the grounds that a path lies in. endings: of which samples are kept."""
    ground = _finder(frozenset(grounds))
    split, paths = files.split, files.paths
    kinds, modes = np.frombuffer(files.kind, np.uint8), np.frombuffer(files.mode, np.uint16)
    numbers: dict[str | None, int] = {None: -1}

    def number(path: str) -> int:
        return numbers.setdefault(ground(path), len(numbers) - 1)

    # Folders are few and paths many: each folder is looked up once, and its files take it over.
    around = np.array([number(folder or "/") for folder in split.folders], np.int64)
    within = around[split.folder_of] if len(paths) else np.zeros(0, np.int64)
    # A root lies in itself, not in the root around it.
    for row in np.flatnonzero(kinds == _DIR).tolist():
        within[row] = number(paths[row])
    held = [Holding() for _ in range(len(numbers) - 1)]
    for row in np.flatnonzero((within >= 0) & (kinds == _LINK)).tolist():
        held[within[row]].links.append(row)
    for row in np.flatnonzero((within >= 0) & (kinds != _LINK) & (modes & 0o022 != 0)).tolist():
        held[within[row]].loose.append(row)
    rows = np.flatnonzero((within >= 0) & (kinds == _FILE))
    _weigh(files, held, within[rows], rows)
    _sort_by_ending(files, held, within[rows], rows, endings)
    _suspect(files, held, within, rows, endings)
    return {path: held[at] for path, at in numbers.items() if path is not None}


def _weigh(files: FileTable, held: list[Holding], within: Rows, rows: Rows) -> None:
    sizes = np.zeros(len(held), np.int64)
    # Not by weights of bincount: these are floating-point, and lose single bytes beyond 2^53.
    np.add.at(sizes, within, np.frombuffer(files.size, np.int64)[rows])
    counts = np.bincount(within, minlength=len(held))
    for each, count, size in zip(held, counts.tolist(), sizes.tolist(), strict=True):
        each.files, each.bytes = count, size


def _sort_by_ending(
    files: FileTable, held: list[Holding], within: Rows, rows: Rows, wanted: frozenset[str]
) -> None:
    known: dict[str, int] = {}
    of_name = [known.setdefault(_ending(name), len(known)) for name in files.split.names]
    found = np.array(of_name, np.int64)[files.split.name_of[rows]] if len(rows) else rows
    keys = within * len(known) + found
    names = list(known)
    for key, _, count in _firsts(keys):
        held[key // len(known)].endings[names[key % len(known)]] = count
    kept = np.array([name in wanted for name in names], bool)
    # What holds nothing has no type that a visitor could miss.
    sized = (np.frombuffer(files.size, np.int64)[rows] > 0) & kept[found]
    rows = rows[sized]
    for key, at, _ in _firsts(keys[sized]):
        held[key // len(known)].samples[names[key % len(known)]] = int(rows[at])


def _firsts(keys: Rows) -> Iterator[tuple[int, int, int]]:
    """Different keys in the order in which they come, with where they come first and how often."""
    found, first, counts = np.unique(keys, return_index=True, return_counts=True)
    order = np.argsort(first)
    return zip(found[order].tolist(), first[order].tolist(), counts[order].tolist(), strict=True)


def _ending(name: str) -> str:
    """In small letters. What begins with its only dot has none."""
    dot = name.rfind(".", 1)
    return name[dot + 1 :].lower() if dot > 0 else ""


def _suspect(
    files: FileTable, held: list[Holding], within: Rows, rows: Rows, plain: frozenset[str]
) -> None:
    """Names tell what lies in a root by mistake; in folders of version control, whole paths do."""
    if not len(rows):
        return
    split = files.split
    odd_names = np.array(
        [
            (name[:1] == "." or _ending(name) not in plain) and bool(secret_kind(f"/{name}"))
            for name in split.names
        ],
        bool,
    )
    hidden = np.array(["/." in folder[folder.rfind("/") :] for folder in split.folders], bool)
    for row in rows[odd_names[split.name_of[rows]] | hidden[split.folder_of[rows]]].tolist():
        secret = secret_kind(files.paths[row])
        if secret is not None:
            held[within[row]].suspects.append((secret, row))


def _finder(grounds: frozenset[str]) -> Callable[[str], str | None]:
    """The innermost ground of a folder; each folder is climbed from once."""
    known: dict[str, str | None] = {}

    def ground(folder: str) -> str | None:
        # None is an answer here ("in no ground"), so the empty text says that nothing is known yet.
        found = known.get(folder, "")
        if found != "":
            return found
        climbed = []
        found = None
        while True:
            climbed.append(folder)
            if folder in grounds:
                found = folder
                break
            folder = folder.rpartition("/")[0] or "/"
            if folder in known:
                found = known[folder]
                break
            if folder == "/":
                found = "/" if "/" in grounds else None
                break
        for each in climbed:
            known[each] = found
        return found

    return ground
