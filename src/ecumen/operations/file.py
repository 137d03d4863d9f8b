"""The whole content of a file: of a new one, or in the place of another. Source: rename(2)."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import ClassVar

from ecumen.operations.digest import digest
from ecumen.operations.making import placed
from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.quoting import quoted
from ecumen.survey import Delta, Entry, Kind

MOST_CONTENT = 1 << 20  # characters
SPECIAL = 0o6000  # to run as the owner, as the group


@dataclass(frozen=True, slots=True)
class File(Operation):
    """was, to: digests of what it holds; was is "" where nothing is yet. content: UTF-8, other
    bytes as surrogate escapes. mode, owner, group: of a new file; what is replaced keeps its own,
    but no right to run as somebody else: that was given to what it held.
    """

    what: ClassVar[str] = "file"
    path: str
    was: str
    to: str
    content: str
    mode: str = "0644"
    owner: int = 0
    group: int = 0

    def __post_init__(self) -> None:
        if not re.fullmatch(r"[0-7]{4}", self.mode):
            raise ValueError(f"no mode: {self.mode}")
        if len(self.content) > MOST_CONTENT:
            raise ValueError(f"more than {MOST_CONTENT} characters are no content of {self.path}")
        if digest(self.data) != self.to:
            raise ValueError(f"the digest is not that of the content of {self.path}")

    @classmethod
    def of(
        cls, looking: Looking, path: str, data: bytes, mode: str = "0644", owner: int = 0,
        group: int = 0,
    ) -> File:  # fmt: skip
        """Raises LookupError where no file is, or where it is not known what it holds."""
        entry, was = looking.entry(path), ""
        if entry is not None:
            held = looking.content(path) if entry.kind is Kind.FILE else None
            if held is None:
                raise LookupError(f"nothing is known of what {path} holds")
            was = digest(held)
        text = data.decode("utf-8", "surrogateescape")
        return cls(path, was, digest(data), text, mode, owner, group)

    @property
    def data(self) -> bytes:
        """The content."""
        try:
            return self.content.encode("utf-8", "surrogateescape")
        except UnicodeEncodeError as error:
            raise ValueError(f"no text: {error}") from error

    @property
    def at(self) -> str:
        return self.path

    def standing(self, looking: Looking) -> Standing:
        entry = looking.entry(self.path)
        if entry is None:
            return Standing.STALE if self.was else Standing.DUE
        if entry.kind is not Kind.FILE:
            return Standing.STALE
        held = looking.content(self.path)
        if held is None:
            # A survey keeps what the engines read, and not what they send.
            return Standing.DUE if self.was else Standing.STALE
        now = digest(held)
        if now == self.to:
            return Standing.DONE
        return Standing.DUE if now == self.was else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        entry, data = looking.entry(self.path), self.data
        if entry is not None and looking.content(self.path) == data:
            return Delta()
        made = Entry(self.path, Kind.FILE, int(self.mode, 8), self.owner, self.group)
        now = placed(looking, made) if entry is None else replace(entry, mode=entry.mode & ~SPECIAL)
        now = replace(now, size=len(data))
        return Delta({self.path: now}, texts={self.path: data})

    def keep(self, looking: Looking) -> Before:
        return ((self.path, looking.aside(self.path)),)

    def forward(self, hands: Hands, kept: Before) -> None:
        for path, there in kept:
            entry = hands.entry(path)
            if entry is None:
                hands.make_file(path, self.data, int(self.mode, 8), self.owner, self.group)
            elif digest(hands.content(path) or b"") != self.to:
                hands.write(entry, self.was, self.data, there)

    def backward(self, hands: Hands, kept: Before) -> None:
        for path, there in kept:
            entry = hands.entry(path)
            held = None if entry is None else hands.content(path)
            ours = held is not None and digest(held) == self.to
            if entry is not None and ours and not self.was:
                hands.put_aside(entry, there)
            elif ours:
                aside = hands.content(there)
                # Where nothing lies aside, nothing was replaced: no file is not an empty one.
                if aside is not None and digest(aside) == self.was:
                    hands.swap(path, there)
            hands.forget(there)

    def describe(self) -> str:
        if self.was:
            return f"put another content into {self.path}"
        return f"make the file {self.path} with mode {self.mode}"

    def shell(self) -> str:
        said = f"printf %s {quoted(self.content)}"
        if self.was:
            return f"{said} > {quoted(self.path)} && chmod ug-s -- {quoted(self.path)}"
        who = f"-o {self.owner} -g {self.group}"
        return f"{said} | install -m {self.mode} {who} /dev/stdin {quoted(self.path)}"
