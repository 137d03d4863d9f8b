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


# Whole comments, quoted texts and variables, then single letters that mean something.
_PIECE = re.compile(
    r"""(?P<passed>(?<![^\s;{}])\#[^\n]*|"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*'|\\.|\$\{[^}]*\})
    |(?P<mark>[;{}])|(?P<word>[^\s;{}"'\\$]+|\$)""",
    re.VERBOSE | re.DOTALL,
)
_ODD = re.compile(r"[\"'\\$~#]")


def with_names(text: str, line: int, names: Sequence[str], behind: str = "") -> str | None:
    """A text in which the server that begins at a line claims just these names, the first of them
    as its own; None where its lines are not plain enough to tell which ones say its names. behind:
    what is put behind it.
    """
    start = sum(len(each) + 1 for each in text.split("\n")[: line - 1])
    deep, begins, named = 0, True, None
    spans: list[tuple[int, int]] = []
    end = None
    for piece in _PIECE.finditer(text, start):
        mark = piece["mark"]
        if mark is None:
            # Of the server's own lines, and not of a place within it.
            if begins and deep == 1 and piece["word"] == "server_name":
                named = piece.start()
            begins = begins and piece["passed"] is not None and piece[0].startswith("#")
            continue
        if named is not None:
            if mark != ";" or _ODD.search(text, named, piece.start()):
                return None
            spans.append((named, piece.end()))
            named = None
        begins = True
        deep += {"{": 1, "}": -1, ";": 0}[mark]
        if deep < 0:
            return None
        if mark == "}" and deep == 0:
            end = piece.end()
            break
    if end is None or not spans:
        return None
    now = text[:end] + (f"\n{behind.rstrip()}\n" if behind else "") + text[end:]
    for first, (low, high) in reversed(list(enumerate(spans))):
        now = now[:low] + ("" if first else f"server_name {' '.join(names)};") + now[high:]
    return now


def leading_over(
    bindings: Sequence[tuple[str, int]], names: Sequence[str], to: str, indent: str
) -> str:
    """A site that sends whoever asks for one of its names on to another ("return"), for good."""
    lines = ["server {"]
    lines += [f"{indent}listen {_address(address)}{port};" for address, port in bindings]
    port = "" if bindings[0][1] == 80 else f":{bindings[0][1]}"
    lines += [f"{indent}server_name {' '.join(names)};",
              f"{indent}return 301 http://{to}{port}$request_uri;", "}", ""]  # fmt: skip
    return "\n".join(lines)


def _address(address: str) -> str:
    if address == "*":
        return ""
    return f"[{address}]:" if ":" in address else f"{address}:"
