"""Writes what the reader reads. Source: "Syntax of the Configuration Files", `<Directory>`; apr's
fnmatch; measured with 536 names beside the server.
"""

from __future__ import annotations

import re

from ecumen.engines.draft import SiteDraft

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
        f"{deep}Require all granted",
        f"{inner}</Directory>",
    ]
    if draft.log is not None:
        lines.append(f"{inner}CustomLog {_log(draft.log)} combined")
    return "\n".join([*lines, "</VirtualHost>", ""])


def _address(address: str) -> str:
    return f"[{address}]" if ":" in address else address


def _log(path: str) -> str:
    if not path.startswith("/"):
        # `|` would be a program, and what is not whole lies below the server's own folder.
        raise ValueError(f"{path} is no whole path")
    return word(path)
