"""The certificates in use, in the order in which they end."""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.audit.scene import Scene
from ecumen.audit.seals import by_file, greetings
from ecumen.engines.sealing import called, chain_of, holds, key_fault, state_of

MOST_SITES = 5  # that are named with one certificate


@dataclass(frozen=True, slots=True)
class SealEnd:
    """One certificate. path: of its file. called: its name for short. sites: the first that show
    it, and `more` of them. names: how many it holds. begins, ends, written_at: seconds since 1970,
    UTC; the last one of its file, None where that is not known. state: over, not-yet, soon or
    in-time. fault: what else is wrong with it or its key, in words; "" for nothing.
    """

    path: str
    called: str
    sites: list[str]
    more: int
    names: int
    key: str
    issuer: str
    begins: int
    ends: int
    written_at: float | None
    state: str
    fault: str
    digest: str


def seal_ends(scene: Scene) -> list[SealEnd]:
    """Those that end first, first."""
    found = []
    lacking = {
        each.all[0].pair.certificate: each.name
        for each in reversed(greetings(scene))
        if each.certificate is not None and holds(each.certificate, each.name) is None
    }
    for path, (one, sites) in by_file(scene).items():
        certificate = one.certificate
        assert certificate is not None
        entry = scene.walker.walk(path).entry
        names = list(dict.fromkeys(site.name for site in sites))
        fault = key_fault(scene.survey, one)
        if not fault and chain_of(scene.survey, one).state == "cut":
            fault = "its chain is not whole"
        if not fault and path in lacking:
            fault = f"it does not hold {lacking[path]}"
        found.append(
            SealEnd(
                path,
                called(certificate.subject),
                names[:MOST_SITES],
                max(0, len(names) - MOST_SITES),
                len(certificate.names) + len(certificate.addresses),
                certificate.key,
                called(certificate.issuer),
                certificate.begins,
                certificate.ends,
                None if entry is None else entry.mtime / 1e9,
                state_of(certificate, scene.survey.taken_at),
                fault,
                certificate.digest,
            )
        )
    return sorted(found, key=lambda each: (each.ends, each.path))
