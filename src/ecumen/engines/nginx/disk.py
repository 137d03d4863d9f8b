"""Files as the worker finds them: what a path leads to, or which error the kernel gives.

Source: open(2), stat(2); nginx, ngx_http_core_module ("disable_symlinks"); measured.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from ecumen import codes
from ecumen.engines.sites import Block, Doubt, Proof, Rank, Rung
from ecumen.rights import READ, SEARCH, Problem, Walker, decide
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
    open. shut: what keeps the worker out, before the end of the path. beyond: the error that
    remains once everything shut is open.
    """

    path: str
    entry: Entry | None
    error: str
    beyond: str = ""
    shut: list[Block] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    rungs: list[Rung] = field(default_factory=list)


class Disk:
    """The file system of one survey, for one worker."""

    def __init__(self, walker: Walker) -> None:
        self.walker = walker

    def stat(
        self,
        path: str,
        links: tuple[str, ...],
        rank: Rank,
        status: int = 403,
        *,
        looks: bool = True,
    ) -> Seen:
        """What stat(2) says. status: what the visitor gets where a folder is shut. looks: its end
        is looked at, and not opened.
        """
        walk = self.walker.walk(path)
        seen = Seen(path, walk.entry if walk.problem is None else None, "")
        if walk.problem is Problem.UNSEEN:
            seen.doubts.append(Doubt(codes.LADDER_UNSEEN, rank, {"path": walk.physical}))
        elif walk.problem is not None:
            seen.error = seen.beyond = ERRORS[walk.problem]
        self._steps(path, walk, links, seen, rank, status)
        if looks and seen.entry is not None and not self.walker.looks(seen.entry):
            self._unlooked(seen, seen.entry, rank, status)
        if links:
            # Where links are judged the engine looks at a file by opening it, and at what is asked
            # for with a slash by opening it from within.
            if path.endswith("/"):
                self._enter(seen, rank, status)
            self._read(seen, rank)
        return seen

    def _steps(
        self,
        path: str,
        walk: Walk,
        links: tuple[str, ...],
        seen: Seen,
        rank: Rank,
        status: int,
    ) -> None:
        """What the kernel asks on the way, in its order: the first refusal is the error."""
        known = set()
        errors: list[str] = []
        for step in walk.steps:
            entry = step.entry
            if step.decision is None:
                seen.rungs.append(Rung(entry.path, entry, "", not step.protected, "", "", "all"))
                facts = {"path": entry.path, "target": entry.target or ""}
                if step.protected:
                    proofs = (Proof(entry=entry),)
                    seen.shut.append(
                        Block(codes.LADDER_LINK_PROTECTED, rank, status, facts, proofs)
                    )
                    errors.append("EACCES")
                if links:
                    errors.append(self._refused(path, entry, links, seen, rank))
                continue
            decision = step.decision
            if entry.path in known:
                continue
            known.add(entry.path)
            seen.rungs.append(
                Rung(entry.path, entry, "x", decision.allowed, decision.by, decision.line)
            )
            if not decision.allowed:
                facts = {"path": entry.path}
                seen.shut.append(
                    Block(codes.LADDER_SHUT, rank, status, facts, (Proof(entry=entry),))
                )
                errors.append("EACCES")
        seen.error = next((error for error in errors if error), seen.error)

    def _refused(
        self, path: str, link: Entry, links: tuple[str, ...], seen: Seen, rank: Rank
    ) -> str:
        """The error for a link that the configuration does not let through."""
        judged = self._judged(path, links)
        if judged is None:
            seen.doubts.append(Doubt(codes.LADDER_LINK_UNKNOWN, rank, {"path": link.path}))
            return ""
        if link.path not in judged:
            return ""
        if links[0] == "if_not_owner":
            return self._owned(link, seen, rank)
        # Only a link that is met first, and at the very end, is one that is not followed; any other
        # is no folder to go through.
        final = judged[link.path]
        facts = {"path": link.path, "target": link.target or ""}
        if not any(block.code == codes.LADDER_LINK_REFUSED for block in seen.shut):
            code = 403 if final else 404
            proofs = (Proof(entry=link),)
            seen.shut.append(Block(codes.LADDER_LINK_REFUSED, rank, code, facts, proofs))
        return "ELOOP" if final else "ENOENT"

    def _owned(self, link: Entry, seen: Seen, rank: Rank) -> str:
        """A link and what it leads to in the end must have one owner; one that leads nowhere is
        only that.
        """
        lead = self.walker.follow(link)
        if lead.problem is Problem.UNSEEN:
            seen.doubts.append(Doubt(codes.LADDER_LINK_UNKNOWN, rank, {"path": link.path}))
        if lead.entry is None or lead.problem is not None or lead.entry.uid == link.uid:
            return ""
        facts = {"path": link.path, "target": link.target or ""}
        proofs = (Proof(entry=link), Proof(entry=lead.entry))
        seen.shut.append(Block(codes.LADDER_LINK_OWNER, rank, 403, facts, proofs))
        return "ELOOP"

    def _judged(self, path: str, links: tuple[str, ...]) -> dict[str, bool] | None:
        """The links on a path that the engine looks at, and whether each is its last part; None
        where that cannot be told. Not those that another link leads through, nor those in the part
        that `from` names, which is passed over where the path begins with it.
        """
        mode, *more = links
        if mode not in ("on", "if_not_owner") or len(more) > 1 or "/../" in f"{path}/":
            return None
        begin = more[0].removeprefix("from=").rstrip("/") if more else ""
        if "$" in begin or (more and not more[0].startswith("from=")):
            return None
        passed = 0
        if begin and (path == begin or path.startswith(f"{begin}/")):
            passed = len([part for part in begin.split("/") if part])
        parts = [part for part in path.split("/") if part]
        found: dict[str, bool] = {}
        folder = "/"
        for at, part in enumerate(parts):
            entry, _ = self.walker.look(folder, part)
            if entry is None:
                break
            last = at == len(parts) - 1 and not path.endswith("/")
            if entry.kind is Kind.LINK and at >= passed:
                found[entry.path] = last
            walk = self.walker.walk("/" + "/".join(parts[: at + 1]))
            if walk.entry is None or walk.problem is not None:
                break
            folder = walk.physical
        return found

    def open(self, path: str, links: tuple[str, ...], rank: Rank) -> Seen:
        """What open(2) for reading says."""
        seen = self.stat(path, links, rank, looks=False)
        if not links:
            self._read(seen, rank)
        if seen.entry is not None and not seen.error and not self.walker.looks(seen.entry):
            # Open by then, it cannot be looked at: a fault of the engine's own (fstat; measured).
            self._unlooked(seen, seen.entry, rank, 500)
        return seen

    def _unlooked(self, seen: Seen, entry: Entry, rank: Rank, status: int) -> None:
        code = codes.LADDER_SHUT if entry.kind is Kind.DIR else codes.LADDER_UNREADABLE
        seen.shut.append(Block(code, rank, status, {"path": entry.path}, (Proof(entry=entry),)))
        seen.error = seen.error or "EACCES"

    def _enter(self, seen: Seen, rank: Rank, status: int) -> None:
        """Adds what it asks to go into a folder at the path's end."""
        entry = seen.entry
        if entry is None or entry.kind is not Kind.DIR:
            return
        decision = decide(entry, self.walker.subject, SEARCH)
        if not decision.allowed:
            proofs = (Proof(entry=entry),)
            seen.shut.append(Block(codes.LADDER_SHUT, rank, status, {"path": entry.path}, proofs))
            seen.error = seen.error or "EACCES"

    def _read(self, seen: Seen, rank: Rank) -> None:
        """Adds what opening for reading asks of the path's end."""
        entry = seen.entry
        if entry is None:
            return
        decision = decide(entry, self.walker.subject, READ)
        rung = Rung(entry.path, entry, "r", decision.allowed, decision.by, decision.line)
        seen.rungs.append(rung)
        if not decision.allowed:
            code = codes.LADDER_UNLISTABLE if entry.kind is Kind.DIR else codes.LADDER_UNREADABLE
            # With a slash or without, it is one folder.
            path = seen.path.rstrip("/") or "/"
            block = Block(code, rank, 403, {"path": path}, (Proof(entry=entry, path=path),))
            seen.shut.append(block)
            seen.error = seen.error or "EACCES"
        elif entry.kind is Kind.SOCKET:
            seen.error = seen.error or "ENXIO"
