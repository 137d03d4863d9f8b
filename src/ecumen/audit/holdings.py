"""What lies in each document root, as far as any check looks at it: one pass over all paths."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

from ecumen.survey import FileTable, Kind
from ecumen.survey.files import KINDS

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
    found: dict[str, Holding] = {}
    # What a plain page is called tells at once that it is no secret.
    plain: dict[str, bool] = {}
    lowered: dict[str, str] = {}
    paths, kinds, modes, sizes = files.paths, files.kind, files.mode, files.size
    for folder, rows in files.by_folder.items():
        around = ground(folder)
        within = None if around is None else _held(found, around)
        start = len(folder) + (folder != "/")
        for row in rows:
            path, kind = paths[row], kinds[row]
            held = within
            if kind == _DIR:
                own = ground(path)
                held = None if own is None else _held(found, own)
            if held is None:
                continue
            if kind == _LINK:
                held.links.append(row)
                continue
            if modes[row] & 0o022:
                held.loose.append(row)
            if kind != _FILE:
                continue
            # What begins with its only dot has no ending.
            dot = path.rfind(".", start + 1)
            ending = path[dot + 1 :] if dot > 0 else ""
            ending = lowered.get(ending) or lowered.setdefault(ending, ending.lower())
            size = sizes[row]
            held.files += 1
            held.bytes += size
            held.endings[ending] = held.endings.get(ending, 0) + 1
            if size and ending in endings:
                held.samples.setdefault(ending, row)
            # Only whole paths tell folders of version control.
            known = plain.get(ending) if "/." not in path else None
            if known is None:
                known = plain[ending] = ending in endings and secret_kind(path) is None
            if not known:
                secret = secret_kind(path)
                if secret is not None:
                    held.suspects.append((secret, row))
    return found


def _held(found: dict[str, Holding], root: str) -> Holding:
    held = found.get(root)
    if held is None:
        held = found[root] = Holding()
    return held


def _finder(grounds: frozenset[str]) -> Callable[[str], str | None]:
    """The innermost ground of a folder; each folder is climbed from once."""
    known: dict[str, str | None] = {}

    def ground(folder: str) -> str | None:
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
