"""Writes what the reader reads. Source: "Syntax of the Configuration Files", `<Directory>`; apr's
fnmatch; measured with 536 names beside the server.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ecumen.engines.draft import LOCAL, SiteDraft, access_run, with_access

_NEVER = re.compile(r"[\n\r\0]")
_PATTERN = re.compile(r"[*?\[]")


def word(text: str) -> str:
    """One argument in quotes. Raises ValueError for what the language cannot hold."""
    if _NEVER.search(text):
        raise ValueError("httpd's language has no way to write a line end within a name")
    if "${" in text:
        raise ValueError("httpd's language would put a variable in for what begins with ${")
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def folder(path: str) -> str:
    """A folder, as a section names it: there some letters make a pattern, and stand for themselves
    in brackets.
    """
    if not _PATTERN.search(path):
        return word(path)
    kept = re.sub(r"[*?\[]", lambda letter: f"[{letter[0]}]", path.replace("\\", "\\\\"))
    return word(kept)


def site_text(draft: SiteDraft) -> str:
    """The file of a site. Nothing is opened that it does not use: no listing, no override files."""
    inner, deep = draft.indent, draft.indent * 2
    where = " ".join(f"{_address(address)}:{port}" for address, port in draft.bindings)
    lines = [f"# {draft.note}"] if draft.note else []
    lines += [f"<VirtualHost {where}>", f"{inner}ServerName {draft.names[0]}"]
    lines += [f"{inner}ServerAlias {name}" for name in draft.names[1:]]
    lines.append(f"{inner}DocumentRoot {word(draft.root)}")
    if draft.index:
        lines.append(f"{inner}DirectoryIndex {' '.join(map(word, draft.index))}")
    lines += [
        f"{inner}<Directory {folder(draft.root)}>",
        f"{deep}AllowOverride None",
        f"{deep}Options SymLinksIfOwnerMatch",
        *(f"{deep}{line}" for line in access_lines(draft.seen_by)),
        f"{inner}</Directory>",
    ]
    if draft.log is not None:
        lines.append(f"{inner}CustomLog {_log(draft.log)} combined")
    return "\n".join([*lines, "</VirtualHost>", ""])


# A file as `site_text` makes it; that of a folder whose name means something in a pattern is not
# told from one that somebody wrote.
_FORM = re.compile(
    r"""(?:\#.*\n)?<VirtualHost\ [^>\n]+>\nServerName\ .+\n(?:ServerAlias\ .+\n)*
    DocumentRoot\ (?P<root>"[^"\\\n]+")\n(?:DirectoryIndex\ .+\n)?
    <Directory\ (?P=root)>\nAllowOverride\ None\nOptions\ SymLinksIfOwnerMatch\n
    (?P<access>(?:Require\ (?:all\ granted|local|ip\ [0-9a-f.:/\ ]+)\n)+)</Directory>\n
    (?:CustomLog\ ".+"\ combined\n)?</VirtualHost>\n""",
    re.VERBOSE,
)


def access_lines(seen_by: Sequence[str]) -> list[str]:
    """Who is let in ("Require"): any of these."""
    if not seen_by:
        return ["Require all granted"]
    networks = [each for each in seen_by if each != LOCAL]
    local = ["Require local"] if LOCAL in seen_by else []
    return [*local, *([f"Require ip {' '.join(networks)}"] if networks else [])]


def seen_by_of(text: str) -> tuple[str, ...] | None:
    """Who is let in by the file of a site that was written here; None for what another wrote."""
    run = access_run(text, _FORM)
    if run is None:
        return None
    found: list[str] = []
    for line in text.split("\n")[slice(*run)]:
        given = line.split()[1:]
        found += () if given == ["all", "granted"] else given if given == [LOCAL] else given[1:]
    return tuple(found) if access_lines(found) == _lines(text, run) else None


def reopened(text: str, seen_by: Sequence[str]) -> str | None:
    """The file of such a site with others let in; None for what another wrote."""
    run = access_run(text, _FORM) if seen_by_of(text) is not None else None
    return None if run is None else with_access(text, run, access_lines(seen_by))


def _lines(text: str, run: tuple[int, int]) -> list[str]:
    return [line.strip() for line in text.split("\n")[slice(*run)]]


def _address(address: str) -> str:
    return f"[{address}]" if ":" in address else address


def _log(path: str) -> str:
    if not path.startswith("/"):
        # `|` would be a program, and what is not whole lies below the server's own folder.
        raise ValueError(f"{path} is no whole path")
    return word(path)
