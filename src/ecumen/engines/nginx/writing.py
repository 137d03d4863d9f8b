"""Writes what the reader reads. Source: "Beginner's Guide: Configuration File's Structure";
measured with 536 names beside the server.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ecumen.engines.draft import LOCAL, SiteDraft, access_run, with_access

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
    lines += [f"{inner}{line}" for line in access_lines(draft.seen_by)]
    return "\n".join([*lines, "}", ""])


# A file as `site_text` makes it.
_FORM = re.compile(
    r"""(?:\#.*\n)?server\ \{\n(?:listen\ [^;\n]+;\n)+server_name\ [^;\n]+;\n
    root\ "(?:[^"\\\n]|\\["\\])+";\n(?:index\ [^;\n]+;\n)?(?:access_log\ "[^\n]+";\n)?
    (?P<access>(?:allow\ (?:all|[0-9a-f.:/]+);\n|deny\ all;\n)+)\}\n""",
    re.VERBOSE,
)
_LOCAL = ("127.0.0.0/8", "::1")


def access_lines(seen_by: Sequence[str]) -> list[str]:
    """Who is let in ("allow", "deny"): the first that fits."""
    if not seen_by:
        return ["allow all;"]
    networks = [each for each in seen_by if each != LOCAL]
    local = _LOCAL if LOCAL in seen_by else ()
    return [*(f"allow {network};" for network in (*local, *networks)), "deny all;"]


def seen_by_of(text: str) -> tuple[str, ...] | None:
    """Who is let in by the file of a site that was written here; None for what another wrote."""
    run = access_run(text, _FORM)
    if run is None:
        return None
    lines = [line.strip() for line in text.split("\n")[slice(*run)]]
    given = [line[6:-1] for line in lines if line.startswith("allow ")]
    if tuple(given[:2]) == _LOCAL:
        given = [LOCAL, *given[2:]]
    found = () if given == ["all"] else tuple(given)
    return found if access_lines(found) == lines else None


def reopened(text: str, seen_by: Sequence[str]) -> str | None:
    """The file of such a site with others let in; None for what another wrote."""
    run = access_run(text, _FORM) if seen_by_of(text) is not None else None
    return None if run is None else with_access(text, run, access_lines(seen_by))


def _address(address: str) -> str:
    if address == "*":
        return ""
    return f"[{address}]:" if ":" in address else f"{address}:"
