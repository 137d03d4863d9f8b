"""Writes what the reader reads. Source: "Beginner's Guide: Configuration File's Structure";
measured with 536 names beside the server.
"""

from __future__ import annotations

from ecumen.engines.draft import SiteDraft

LONGEST_WORD = 4000  # bytes


def word(text: str) -> str:
    """One argument in quotes. Raises ValueError for what the language cannot hold."""
    if "$" in text:
        raise ValueError("nginx's language would put a variable in for what begins with $")
    if "\0" in text:
        raise ValueError("a name holds no NUL")
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    if len(escaped.encode("utf-8", "surrogateescape")) > LONGEST_WORD:
        raise ValueError(f"nginx takes no word of more than {LONGEST_WORD} bytes")
    return f'"{escaped}"'


def site_text(draft: SiteDraft) -> str:
    """The file of a site. Nothing is opened that it does not use."""
    inner = draft.indent
    lines = [f"# {draft.note}"] if draft.note else []
    lines.append("server {")
    lines += [f"{inner}listen {_address(address)}{port};" for address, port in draft.bindings]
    lines.append(f"{inner}server_name {' '.join(draft.names)};")
    lines.append(f"{inner}root {word(draft.root)};")
    if draft.index:
        lines.append(f"{inner}index {' '.join(map(word, draft.index))};")
    if draft.log is not None:
        if not draft.log.startswith("/"):
            raise ValueError(f"{draft.log} is no whole path")
        lines.append(f"{inner}access_log {word(draft.log)};")
    return "\n".join([*lines, "}", ""])


def _address(address: str) -> str:
    if address == "*":
        return ""
    return f"[{address}]:" if ":" in address else f"{address}:"
