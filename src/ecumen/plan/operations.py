"""The operations that plans are made of, each with the command that does it.

Source: chmod(1), chown(1), setfacl(1), chcon(1), setsebool(8), mkdir(1), ln(1).
"""

from __future__ import annotations

import re
import shlex
from dataclasses import dataclass
from enum import StrEnum


class What(StrEnum):
    """What an operation changes."""

    MODE = "mode"
    OWNER = "owner"
    GROUP = "group"
    ACL = "acl"
    CONTEXT = "context"
    SWITCH = "switch"
    FOLDER = "folder"
    LINK = "link"


_BITS = re.compile(r"[ugo]+[+-][rwx]+\Z")
_ENTRY = re.compile(r"(user|group):[^:,\s]+:[r-][w-][x-]\Z")


@dataclass(frozen=True, slots=True)
class Operation:
    """One change.

    mode: value as `o+x` or `0755`. owner, group: a name. acl: an entry `user:NAME:r-x`, which is
    set, and the mask worked out anew. context: the whole context. switch: path is its name, value
    `on` or `off`. folder: value is its mode. link: value is what it leads to. below: all that lies
    below is changed too (owner, group and context).
    """

    what: What
    path: str
    value: str
    below: bool = False

    def __post_init__(self) -> None:
        if self.what is What.MODE and not (
            _BITS.match(self.value) or re.fullmatch(r"[0-7]{3,4}", self.value)
        ):
            raise ValueError(f"no mode: {self.value}")
        if self.what is What.ACL and not _ENTRY.match(self.value):
            raise ValueError(f"no entry of an ACL: {self.value}")

    @property
    def shell(self) -> str:
        """The command, to be run as root. Names of hostile owners are quoted."""
        path = quoted(self.path)
        deep = " -R" if self.below else ""
        match self.what:
            case What.MODE:
                return f"chmod {self.value} -- {path}"
            case What.OWNER:
                return f"chown --no-dereference{deep} {quoted(self.value)} -- {path}"
            case What.GROUP:
                return f"chgrp --no-dereference{deep} {quoted(self.value)} -- {path}"
            case What.ACL:
                return f"setfacl -m {quoted(self.value)} -- {path}"
            case What.CONTEXT:
                return f"chcon --no-dereference{deep} {quoted(self.value)} -- {path}"
            case What.SWITCH:
                return f"setsebool -P {path} {self.value}"
            case What.FOLDER:
                return f"mkdir -m {self.value} -- {path}"
            case What.LINK:
                return f"ln -s -- {quoted(self.value)} {path}"

    @property
    def words(self) -> str:
        match self.what:
            case What.SWITCH:
                return f"turn {self.value} the switch {self.path}"
            case What.FOLDER:
                return f"make the folder {self.path} with mode {self.value}"
            case What.LINK:
                return f"make the link {self.path} to {self.value}"
            case What.ACL:
                return f"add the ACL entry {self.value} to {self.path}"
        below = " and all below" if self.below else ""
        return f"set the {self.what} of {self.path}{below} to {self.value}"


def quoted(text: str) -> str:
    """A word for a shell. Bytes that are no UTF-8, and what a terminal would take for a command,
    are written out.
    """
    if text.isprintable():
        return shlex.quote(text)
    data = text.encode("utf-8", "surrogateescape")
    return (
        "$'"
        + "".join(
            chr(byte) if 0x20 <= byte < 0x7F and byte not in b"'\\" else f"\\x{byte:02x}"
            for byte in data
        )
        + "'"
    )
