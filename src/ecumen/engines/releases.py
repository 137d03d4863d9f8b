"""What other releases of an engine may answer otherwise, by the engines' own change logs.

Distributions carry single changes back into older releases, so a number tells that a change is
there, and never that it is missing: where it would decide, what an older one answers is not known.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from ecumen.codes import Code
from ecumen.engines.sites import Doubt, Proof, Rank

Release = tuple[int, int, int]
# With which everything that is said was compared.
TRIED: dict[str, tuple[Release, ...]] = {
    "httpd": ((2, 4, 66), (2, 4, 71)),
    "nginx": ((1, 22, 1),),
}


@dataclass(frozen=True, slots=True)
class Change:
    """What an engine does since a release."""

    engine: str
    since: Release
    what: str


REWRITTEN_QUERY = Change(
    "httpd", (2, 4, 56), "a rewritten query that holds a blank or a control character is refused"
)
QUESTION_MARK = Change(
    "httpd", (2, 4, 60), "a question mark of the address that a rule puts into a path is refused"
)
PREFIX = Change(
    "httpd", (2, 4, 60), "a rewritten address is a path on disk only where the rule itself says so"
)
CONNECT = Change("nginx", (1, 21, 1), "the method CONNECT is refused")
BLANKS = Change("nginx", (1, 21, 1), "an address with a blank or a control character is refused")


def release_of(version: str) -> Release | None:
    """`2.4.66`, whatever stands behind it; None for anything else."""
    found = re.match(r"(\d{1,6})\.(\d{1,6})\.(\d{1,6})", version)
    return None if found is None else (int(found[1]), int(found[2]), int(found[3]))


def doubts(
    code: Code, version: str, change: Change, rank: Rank, proofs: tuple[Proof, ...] = ()
) -> list[Doubt]:
    """The doubt where this release may lack a change that would decide; none where it has it."""
    release = release_of(version)
    if release is None or release >= change.since:
        return []
    since = ".".join(map(str, change.since))
    facts = {"engine": change.engine, "version": version, "what": change.what, "release": since}
    return [Doubt(code, rank, facts, proofs)]


def untried(engine: str, version: str) -> str:
    """Words for a release that nothing was compared with; "" for one that was, or is not known."""
    release, tried = release_of(version), TRIED[engine]
    if release is None or release in tried:
        return ""
    names = " and ".join(".".join(map(str, each)) for each in tried)
    return f"{engine} {version}: what is said here was compared with {names}"
