"""The mode of homes that are made from now on, as two programs have it.

Source: useradd(8), login.defs(5), adduser.conf(5); measured with shadow 4.13 and adduser 3.134.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

# Who makes accounts, and out of which file it takes the mode of their homes, by which name.
MAKERS: Mapping[str, tuple[str, str]] = {
    "useradd": ("/etc/login.defs", "HOME_MODE"),
    "adduser": ("/etc/adduser.conf", "DIR_MODE"),
}
# Up to 3.118 homes were open; from when they are closed on, the file that comes with it says so.
_ADDUSERS, _SAID = 0o755, re.compile(r"#\s*Default:\s*DIR_MODE=([0-7]{3,4})\s*\Z")
_USUAL_MASK = 0o022
_MODES = 0o7777
_ADDUSER_LINE = re.compile(r"\s*([_a-zA-Z0-9]+)\s*=\s*(.*)")


@dataclass(frozen=True, slots=True)
class HomeMode:
    """mode: as the folder has it then. line: that says so, from 1, and its text; None and "" where
    nothing does.
    """

    mode: int
    line: int | None = None
    text: str = ""


def home_mode(maker: str, content: bytes) -> HomeMode:
    """Of the homes that a program makes. content: of its file."""
    lines = content.decode("utf-8", "surrogateescape").split("\n")
    return _useradds(lines) if maker == "useradd" else _addusers(lines)


def with_home_mode(maker: str, content: bytes, mode: int) -> bytes:
    """The file with another mode: in place of the line that says it, or behind all others."""
    name = MAKERS[maker][1]
    said = home_mode(maker, content)
    between = "\t" if maker == "useradd" else "="
    made = f"{name}{between}{mode:04o}"
    lines = content.decode("utf-8", "surrogateescape").split("\n")
    if said.line is not None and name.lower() in lines[said.line - 1].lower():
        lines[said.line - 1] = made
    elif lines[-1] == "":
        lines[-1:] = [made, ""]
    else:
        lines += [made, ""]
    return "\n".join(lines).encode("utf-8", "surrogateescape")


def _useradds(lines: list[str]) -> HomeMode:
    """Of several lines the last one counts (getdef.c); a number may be decimal, or 0x…; with
    anything behind it, it is none.
    """
    found: dict[str, HomeMode] = {}
    for number, line in enumerate(lines, 1):
        words = line.strip().split(None, 1)
        if len(words) == 2 and words[0] in ("HOME_MODE", "UMASK"):
            value = words[1].lstrip(' "\t').partition('"')[0]
            read = _number(value)
            if read is not None:
                found[words[0]] = HomeMode(read, number, line.strip())
            else:
                found.pop(words[0], None)
    said = found.get("HOME_MODE")
    if said is not None:
        return HomeMode(said.mode & _MODES, said.line, said.text)
    mask = found.get("UMASK", HomeMode(_USUAL_MASK))
    return HomeMode(0o777 & ~mask.mode, mask.line, mask.text)


def _number(text: str) -> int | None:
    """As strtoul(3) reads it, of any base."""
    if not re.fullmatch(r"[0-9][0-9a-fA-Fx]*", text):
        return None
    try:
        if text[:2].lower() == "0x":
            return int(text, 16)
        return int(text, 8) if text[0] == "0" else int(text)
    except ValueError:
        return None


def _addusers(lines: list[str]) -> HomeMode:
    """Names in any case; of a mode the digits in front, where three of them are octal ones."""
    usual = next((int(m[1], 8) for m in map(_SAID.match, lines) if m), _ADDUSERS)
    found, for_group = HomeMode(usual), False
    for number, line in _plain(lines):
        match = _ADDUSER_LINE.match(line)
        if match is None:
            continue
        value = re.sub(r"^'(.*)'$", r"\1", re.sub(r'^"(.*)"$', r"\1", match[2]))
        if match[1].lower() == "dir_mode":
            octal = re.match(r"\s*([0-7]+)", value)
            good = re.search(r"[0-7]{3}", value) is not None
            mode = int(octal[1], 8) & _MODES if good and octal else usual
            found = HomeMode(mode, number, line.strip())
        elif match[1].lower() == "setgid_home":
            for_group = "yes" in value.lower()
    # What it adds to is the mode as four digits, of which the first says no group yet.
    if for_group and not found.mode & 0o2000:
        return HomeMode(found.mode | 0o2000, found.line, found.text)
    return found


def _plain(lines: list[str]) -> Iterator[tuple[int, str]]:
    return ((number, line) for number, line in enumerate(lines, 1) if not line.startswith("#"))
