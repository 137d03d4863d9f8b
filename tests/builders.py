"""Small servers, written down in a few lines."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from ecumen.passage import Follower, Passage, read_request
from ecumen.survey import (
    Account,
    EngineRecord,
    Entry,
    FileTable,
    Group,
    Kind,
    Listener,
    NameRecord,
    Survey,
    parse_acl,
)
from ecumen.survey.overlay import OverlaidTable

HEAD = """\
LoadModule authz_core_module m
LoadModule alias_module m
LoadModule dir_module m
LoadModule mime_module m
LoadModule autoindex_module m
LoadModule userdir_module m
LoadModule negotiation_module m
User www-data
Group www-data
Include /etc/usual
Listen 192.0.2.10:80
"""
# Said by every stock configuration.
USUAL = b"<Directory />\nAllowOverride None\n</Directory>\n"
TYPES = b"text/html html\ntext/css css\n"
ACCOUNTS = {"root": 0, "www-data": 33, "ines": 1001, "otto": 1002}


def entry(line: str) -> Entry:
    """`MODE OWNER PATH[ -> TARGET | /]`, as `0755 root /srv/` (a folder) or `0644 ines /a`."""
    mode, owner, rest = line.split(maxsplit=2)
    path, arrow, target = rest.partition(" -> ")
    path, _, acl = path.partition(" acl ")
    kind = Kind.LINK if arrow else Kind.DIR if path.endswith("/") else Kind.FILE
    uid = ACCOUNTS[owner]
    return Entry(
        path.rstrip("/") or "/",
        kind,
        int(mode, 8),
        uid,
        uid,
        target=target if arrow else None,
        acl=parse_acl(acl) if acl else None,
        listed=kind is Kind.DIR,
    )


def around(lines: Iterable[str]) -> list[Entry]:
    """Entries, with the folders around them where they are not given."""
    given = {each.path: each for each in map(entry, lines)}
    for path in list(given):
        while path != "/":
            path = path.rpartition("/")[0] or "/"
            given.setdefault(path, Entry(path, Kind.DIR, 0o755, 0, 0, listed=True))
    return list(given.values())


def server(
    config: str,
    files: Iterable[str] = (),
    *,
    declared: bool = True,
    listeners: tuple[Listener, ...] = (),
    names: tuple[NameRecord, ...] = (),
    texts: dict[str, bytes] | None = None,
    kernel: dict[str, str] | None = None,
) -> Survey:
    """A survey of one httpd with this configuration behind the usual head."""
    main = {"/etc/c": (HEAD + config).encode(), "/etc/mime.types": TYPES, "/etc/usual": USUAL}
    lines = [*files, *(f"0644 root {path}" for path in main)]
    return Survey(
        host="quay",
        taken_at=0,
        taken_by="test",
        engines=(EngineRecord("httpd", "/etc/c", "2.4.66", "/etc", declared=declared),),
        files=FileTable(around(lines)),
        accounts=tuple(Account(name, uid, uid, f"/home/{name}") for name, uid in ACCOUNTS.items()),
        groups=tuple(Group(name, uid) for name, uid in ACCOUNTS.items()),
        listeners=listeners,
        names=names,
        addresses=("192.0.2.10", "127.0.0.1"),
        texts=main | (texts or {}),
        kernel={"security.mode": "disabled"} | (kernel or {}),
    )


def nginx(config: str, files: Iterable[str] = ()) -> Survey:
    """A survey of one nginx whose servers are these."""
    main = (
        "user www-data;\nevents { }\nhttp {\ntypes { text/html html; text/css css; }\n"
        f"access_log /var/log/a.log;\n{config}\n}}\n"
    )
    survey = server("", (*files, "0644 root /etc/n"), texts={"/etc/n": main.encode()})
    return replace(survey, engines=(EngineRecord("nginx", "/etc/n", declared=True),))


def replacing(files: FileTable, changed: Iterable[Entry]) -> FileTable:
    """The table with these entries in place of those of the same paths."""
    return OverlaidTable(files, {entry.path: entry for entry in changed})


def passage(survey: Survey, url: str, to: str | None = "192.0.2.10", **more: str) -> Passage:
    return Follower(survey).follow(read_request(url, to=to, **more))  # type: ignore[arg-type]


def codes(found: Passage) -> list[str]:
    """The codes of the obstacles, in their order."""
    return [obstacle.code for obstacle in found.obstacles]
