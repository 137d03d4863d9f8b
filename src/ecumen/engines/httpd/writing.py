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


_NAMED = re.compile(r"([ \t]*)(ServerName|ServerAlias)[ \t]+(\S.*?)[ \t]*\Z", re.IGNORECASE)
_OPENS = re.compile(r"[ \t]*<(/?)[A-Za-z]")
# As "ServerName" has it: scheme and port stay what they are.
_OWN_NAME = re.compile(r"((?:[A-Za-z]+://)?)[^:/\s]+((?::\d+)?)\Z")


def with_names(text: str, line: int, names: Sequence[str], behind: str = "") -> str | None:
    """A text in which the virtual host that begins at a line claims just these names, the first of
    them as its own; None where its lines are not plain enough to tell which ones say its names.
    behind: what is put behind it.
    """
    lines = text.split("\n")
    own = aliases = None
    deep, end = 0, None
    for number in range(line - 1, len(lines)):
        each = lines[number]
        opens = _OPENS.match(each)
        if opens is not None:
            deep += -1 if opens[1] else 1
            if deep == 0:
                end = number
                break
        # A line that goes on in the next one may say anything there.
        if each.endswith("\\"):
            return None
        named = _NAMED.match(each) if deep == 1 else None
        if named is None:
            continue
        if "${" in each:
            return None
        indent, word_, given = named[1], named[2], named[3]
        if word_.lower() == "servername":
            kept = _OWN_NAME.match(given)
            if own is not None or kept is None:
                return None
            own = number
            lines[number] = f"{indent}{word_} {kept[1]}{names[0]}{kept[2]}"
        elif aliases is None:
            aliases = number
            lines[number] = f"{indent}{word_} {' '.join(names[1:])}"
        else:
            lines[number] = ""
    if end is None or own is None:
        return None
    if aliases is not None and not names[1:]:
        lines[aliases] = ""
    elif aliases is None and names[1:]:
        indent = lines[own][: len(lines[own]) - len(lines[own].lstrip())]
        lines[own] += f"\n{indent}ServerAlias {' '.join(names[1:])}"
    if behind:
        lines.insert(end + 1, behind.rstrip("\n"))
    return "\n".join(lines)


def leading_over(
    bindings: Sequence[tuple[str, int]], names: Sequence[str], to: str, indent: str
) -> str:
    """A site that sends whoever asks for one of its names on to another ("Redirect"), for good."""
    where = " ".join(f"{_address(address)}:{port}" for address, port in bindings)
    port = "" if bindings[0][1] == 80 else f":{bindings[0][1]}"
    lines = [f"<VirtualHost {where}>", f"{indent}ServerName {names[0]}"]
    lines += [f"{indent}ServerAlias {' '.join(names[1:])}"] if names[1:] else []
    lines += [f"{indent}Redirect permanent / http://{to}{port}/", "</VirtualHost>", ""]
    return "\n".join(lines)


def _lines(text: str, run: tuple[int, int]) -> list[str]:
    return [line.strip() for line in text.split("\n")[slice(*run)]]


def _address(address: str) -> str:
    return f"[{address}]" if ":" in address else address


def _log(path: str) -> str:
    if not path.startswith("/"):
        # `|` would be a program, and what is not whole lies below the server's own folder.
        raise ValueError(f"{path} is no whole path")
    return word(path)
