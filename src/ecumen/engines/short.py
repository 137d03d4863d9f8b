"""Short answers: what comes of a plain request, without evidence.

Most of what visitors ask for is plain: a file, an index, something that is not there, on a site of
which nothing unusual bears on the address. Each engine answers that from what it has worked out
once for a site and a folder, and leaves all else to the whole evaluation.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from ecumen import codes
from ecumen.codes import Code
from ecumen.engines.tree import Place
from ecumen.survey import Entry, Kind

# What no engine decodes, merges or resolves: the path is itself.
PLAIN_PATH = re.compile(r"/(?:[A-Za-z0-9_-][A-Za-z0-9._~-]*/)*(?:[A-Za-z0-9_-][A-Za-z0-9._~-]*)?")
LONGEST = 8000  # characters of path and query that any engine takes
MOST_KEPT = 50_000


# Address, port, whether TLS is spoken, and the Host header.
Door = tuple[str, int, bool, str]


@dataclass(slots=True)
class Question:
    """A request without headers of its own. host: the Host header. The rest as in `Arrival`."""

    address: str
    port: int
    sealed: bool
    host: str
    method: str
    path: str
    query: str | None
    client: str | None

    @property
    def door(self) -> Door:
        return self.address, self.port, self.sealed, self.host

    @property
    def plain(self) -> bool:
        """Whether any engine takes the path as it stands, and answers with what lies there."""
        if self.method not in ("GET", "HEAD") or not PLAIN_PATH.fullmatch(self.path):
            return False
        return len(self.path) + len(self.query or "") <= LONGEST


@dataclass(frozen=True, slots=True)
class ShortSite:
    """Who answers. place, declared_at: where it is declared, and that in words. log: where its
    lines certainly go, or None.
    """

    engine: str
    name: str
    place: Place
    log: str | None
    declared_at: str = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "declared_at", str(self.place))


@dataclass(slots=True)
class Short:
    """file: what the request ends at. passed: folders and links on the way, a sequence for each
    folder that was walked to. read: the file that goes out, or would. indexed: as an index.
    looked: paths besides that a condition asked for.
    """

    site: ShortSite
    status: int
    file: str | None = None
    content_type: str | None = None
    location: str | None = None
    passed: tuple[Sequence[Entry], ...] = ()
    read: Entry | None = None
    indexed: bool = False
    looked: Sequence[str] = ()

    @property
    def code(self) -> Code:
        """What goes out, as a code of the gate `serve`, where the status is 200."""
        if self.read is not None and self.read.kind is Kind.DIR:
            return codes.SERVE_LISTING
        return codes.SERVE_INDEX if self.indexed else codes.SERVE_FILE
