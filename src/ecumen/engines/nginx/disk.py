"""Files as the worker finds them: what a path leads to, or which error the kernel gives.

Source: open(2), stat(2); nginx, ngx_http_core_module ("disable_symlinks"); measured.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from ecumen.engines.sites import Block, Doubt, Proof, Rank, Rung
from ecumen.rights import READ, Problem, Walker, decide
from ecumen.rights.walk import Walk
from ecumen.survey import Entry, Kind

ERRORS = {
    Problem.MISSING: "ENOENT",
    Problem.NOT_FOLDER: "ENOTDIR",
    Problem.LOOP: "ELOOP",
    Problem.TOO_LONG: "ENAMETOOLONG",
}


@dataclass(slots=True)
class Seen:
    """error: of the kernel, "" where there is none. entry: what is there, were all shut folders
    open. shut: what keeps the worker out, before the end of the path.
    """

    path: str
    entry: Entry | None
    error: str
    shut: list[Block] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    rungs: list[Rung] = field(default_factory=list)

    @property
    def beyond(self) -> str:
        """The error that remains once everything shut is open."""
        return "" if self.entry is not None else self.error


class Disk:
    """The file system of one survey, for one worker."""

    def __init__(self, walker: Walker) -> None:
        self.walker = walker

    def stat(self, path: str, links: tuple[str, ...], rank: Rank, status: int = 403) -> Seen:
        """What stat(2) says. status: what the visitor gets where a folder is shut."""
        walk = self.walker.walk(path)
        seen = Seen(path, walk.entry if walk.problem is None else None, "")
        if walk.problem is Problem.UNSEEN:
            seen.doubts.append(Doubt("ladder.unseen", rank, {"path": walk.physical}))
        elif walk.problem is not None:
            seen.error = ERRORS[walk.problem]
        self._steps(walk, seen, rank, status)
        if seen.shut:
            seen.error = "EACCES"
        if links and not seen.shut:
            self._links(path, walk, links, seen, rank, status)
        return seen

    def _steps(self, walk: Walk, seen: Seen, rank: Rank, status: int) -> None:
        known = set()
        for step in walk.steps:
            entry = step.entry
            if step.decision is None:
                seen.rungs.append(Rung(entry.path, entry, "", not step.protected, "", "", "all"))
                if step.protected:
                    facts = {"path": entry.path, "target": entry.target or ""}
                    proofs = (Proof(entry=entry),)
                    seen.shut.append(Block("ladder.link-protected", rank, status, facts, proofs))
                continue
            decision = step.decision
            if entry.path not in known:
                known.add(entry.path)
                seen.rungs.append(
                    Rung(entry.path, entry, "x", decision.allowed, decision.by, decision.line)
                )
                if not decision.allowed:
                    facts = {"path": entry.path}
                    proofs = (Proof(entry=entry),)
                    seen.shut.append(Block("ladder.shut", rank, status, facts, proofs))

    def open(self, path: str, links: tuple[str, ...], rank: Rank) -> Seen:
        """What open(2) for reading says."""
        seen = self.stat(path, links, rank)
        entry = seen.entry
        if entry is None:
            return seen
        decision = decide(entry, self.walker.subject, READ)
        rung = Rung(entry.path, entry, "r", decision.allowed, decision.by, decision.line)
        seen.rungs.append(rung)
        if not decision.allowed:
            code = "ladder.unlistable" if entry.kind is Kind.DIR else "ladder.unreadable"
            block = Block(code, rank, 403, {"path": path}, (Proof(entry=entry, path=path),))
            seen.shut.append(block)
            seen.error = seen.error or "EACCES"
        elif entry.kind is Kind.SOCKET:
            seen.error = seen.error or "ENXIO"
        return seen

    def _links(
        self,
        path: str,
        walk: Walk,
        links: tuple[str, ...],
        seen: Seen,
        rank: Rank,
        status: int,
    ) -> None:
        """Links that the configuration does not let through."""
        followed = [step.entry for step in walk.steps if step.decision is None]
        if not followed:
            return
        if links[0] != "on" or len(links) > 1:
            seen.doubts.append(Doubt("ladder.link-unknown", rank, {"path": followed[0].path}))
            return
        last = self.walker.walk(path, follow_last=False).entry
        final = last is not None and last.kind is Kind.LINK and len(followed) == 1
        code = 403 if final else 404
        facts = {"path": followed[0].path, "target": followed[0].target or ""}
        proofs = (Proof(entry=followed[0]),)
        seen.shut.append(Block("ladder.link-refused", rank, code, facts, proofs))
        seen.error = "ELOOP" if final else "ENOENT"
