"""What goes out: a file, an index, a listing, a redirect to the folder, or nothing.

Source: httpd 2.4, mod_dir, mod_autoindex, mod_negotiation and the core's own handler; measured.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ecumen.engines.httpd import types
from ecumen.engines.httpd.access import Visitor
from ecumen.engines.httpd.hostname import HostHeader
from ecumen.engines.httpd.server import Host, Server, with_value
from ecumen.engines.httpd.settings import Opt
from ecumen.engines.httpd.targets import Target, Targets
from ecumen.engines.httpd.uri import escaped
from ecumen.engines.httpd.walk import Walked, may_read
from ecumen.engines.httpd.way import Way
from ecumen.engines.sites import (
    Answer,
    Arrival,
    Block,
    Candidate,
    Doubt,
    Handling,
    Part,
    Phase,
    Proof,
    Rank,
)
from ecumen.rights import READ, decide
from ecumen.rights.walk import join
from ecumen.survey import Entry, Kind

REDIRECT = "text/html; charset=iso-8859-1"


def share(handling: Handling, blocks: Sequence[Block], doubts: Sequence[Doubt]) -> None:
    """Each block and doubt goes to the gate that its code names."""
    for block in blocks:
        part: Part = getattr(handling, block.code.partition(".")[0])
        part.blocks.append(block)
    for doubt in doubts:
        part = getattr(handling, doubt.code.partition(".")[0])
        part.doubts.append(doubt)


@dataclass(frozen=True, slots=True)
class Scene:
    """What is settled by the time that something is served.

    path: of the address, decoded. implied: names of a site that is given none. map: from another
    path of the same site to where it leads.
    """

    server: Server
    targets: Targets
    host: Host
    header: HostHeader
    arrival: Arrival
    path: str
    implied: tuple[str, ...]
    map: Callable[[str], Way]


class Serving:
    """The last decision: file, index, listing, redirect to the folder, or nothing there."""

    def __init__(self, scene: Scene, handling: Handling, target: Target) -> None:
        self.scene = scene
        self.handling = handling
        self.part = handling.serve
        self.host = scene.host
        self.header = scene.header
        self.arrival = scene.arrival
        self.path = scene.path
        self.target = target
        self.walker = scene.targets.walker

    def decide(self) -> None:
        walked = self.target.walked
        if walked.unseen:
            self.part.code = "passage.not-reached"
            return
        entry = walked.entry
        handler = with_value(self.target.settings.handler)
        if handler is not None and handler.lower() != "default-handler":
            choice = self.target.settings.handler
            assert choice is not None
            proof = Proof(place=choice.place, text=choice.text)
            self._doubt("serve.handler", Rank(Phase.FOLDER), {"handler": handler}, proof)
        if entry is None:
            self._missing(walked)
        elif entry.kind is Kind.DIR:
            self._folder(walked, entry)
        elif entry.kind is Kind.FILE:
            self._file(self.target, entry, walked.path, Rank(Phase.CONTENT))

    def _doubt(self, code: str, rank: Rank, facts: dict[str, str], *proofs: Proof) -> None:
        self.part.doubts.append(Doubt(code, rank, facts, proofs))

    def _block(
        self, code: str, rank: Rank, status: int, facts: dict[str, str], *proofs: Proof
    ) -> None:
        share(self.handling, [Block(code, rank, status, facts, proofs)], [])

    # --- nothing there ---

    def _missing(self, walked: Walked) -> None:
        rank = Rank(Phase.CONTENT)
        ended = ("ladder.link-", "ladder.name-too-long")
        if any(block.code.startswith(ended) for block in walked.blocks):
            self.part.code = "passage.not-reached"
            return
        # What makes the content by the name's ending is asked for what is not there, too.
        self._made(self._typed(self.target, walked.path), walked.path, rank)
        barred = self._variants(self.target)
        if barred is not None:
            share(self.handling, [barred], [])
        self.part.facts["path"] = walked.path
        self._block("serve.missing", rank, 404, {"path": walked.path})

    def _variants(self, target: Target) -> Block | None:
        """A file with further endings might be served in place of one that is not there.

        Returns what bars looking for it: then the server answers 403 for what is missing.
        """
        options = target.settings.options
        if options is None or not options.bits & Opt.MULTI:
            return None
        walker = self.walker
        folder = walker.walk(target.walked.path.rpartition("/")[0] or "/").entry
        if folder is None:
            return None
        leaf = target.walked.path.rpartition("/")[2]
        names = walker.files.children(folder.path)
        if not folder.listed or any(name.startswith(f"{leaf}.") for name in names):
            line = Proof(place=options.place, text=options.text)
            self._doubt("serve.variants", Rank(Phase.FOLDER), {"name": leaf}, line)
        if decide(folder, walker.subject, READ).allowed:
            return None
        proofs = (Proof(entry=folder),)
        facts = {"path": folder.path}
        return Block("ladder.unlistable", Rank(Phase.FOLDER, 1), 403, facts, proofs)

    # --- a file ---

    def _file(self, target: Target, entry: Entry, path: str, rank: Rank) -> None:
        walked = target.walked
        typed = self._typed(target, path)
        self.part.facts |= {"path": path, "type": typed.type or ""}
        self.part.proofs.append(Proof(entry=entry, path=path))
        if typed.ending is not None and typed.ending.place is not None:
            text = f"{typed.by}: {typed.type}"
            self.part.proofs.append(Proof(place=typed.ending.place, text=text))
        elif typed.by:
            self.part.facts["types_file"] = self.scene.server.types_file
        self._made(typed, path, rank)
        if walked.rest:
            facts = {"path": path, "rest": walked.rest}
            self._block("serve.trailing-path", rank, 404, facts, Proof(entry=entry, path=path))
            return
        rung = may_read(self.walker, entry)
        self.handling.ladder.picture.append(rung)
        if not rung.allowed:
            facts = {"path": path}
            self._block("ladder.unreadable", rank, 403, facts, Proof(entry=entry, path=path))
        self.handling.file = path
        self.part.answer = Answer(200, rank, content_type=typed.type)

    def _typed(self, target: Target, path: str) -> types.Typed:
        return types.type_of(path.rpartition("/")[2], target.settings, self.scene.server.types)

    def _made(self, typed: types.Typed, path: str, rank: Rank) -> None:
        if typed.handler is not None:
            text = f"{path.rpartition('/')[2]}: {typed.handler}"
            proof = Proof(place=typed.handler_place, text=text)
            self._doubt("serve.handler", rank, {"handler": typed.handler}, proof)

    # --- a folder ---

    def _folder(self, walked: Walked, folder: Entry) -> None:
        settings = self.target.settings
        if not self.path.endswith("/"):
            if settings.slash is not False:
                self._redirect(f"{self.path}/", Rank(Phase.FOLDER), "serve.folder-redirect")
                return
            self._listing(walked, folder)
            return
        names = ("index.html",) if settings.index is None else settings.index
        if names and self._index(walked, folder, names):
            return
        self._listing(walked, folder)

    def _index(self, walked: Walked, folder: Entry, names: Sequence[str]) -> bool:
        """Tries the index names in order; False where a listing is the next to be tried."""
        step = self.walker.search(folder)
        if step.blocked:
            facts = {"path": walked.path}
            self._block("ladder.shut", Rank(Phase.FOLDER), 403, facts, Proof(entry=folder))
        place = self.target.settings.index_place
        if place is not None:
            self.part.facts["index_line"] = str(place)
        refused: Target | None = None
        refused_path = ""
        for name in names:
            if "/" in name:
                proof = Proof(place=place, text=name)
                self._doubt("serve.index-elsewhere", Rank(Phase.FOLDER), {"name": name}, proof)
                continue
            path, sub = self._sub(name)
            entry = sub.walked.entry
            if entry is not None and entry.kind is Kind.DIR and not sub.blocks:
                self.part.picture.append(Candidate(name, path, "folder", entry))
                if sub.settings.slash is False:
                    continue
                self._redirect(
                    f"{self.path}{name}/", Rank(Phase.FOLDER, 1), "serve.index-folder", asked=False
                )
                return True
            if entry is not None and entry.kind is Kind.FILE and not sub.blocks:
                self.part.picture.append(Candidate(name, path, "served", entry))
                self._not_tried(names, name, walked.path)
                self._serve_index(sub, entry, path)
                return True
            if entry is None and not sub.blocks:
                barred = self._variants(sub)
                sub.blocks += [barred] if barred else []
            if sub.blocks:
                refused, refused_path = sub, path
            outcome = "blocked" if sub.blocks else "missing"
            self.part.picture.append(Candidate(name, path, outcome, entry))
        if refused is None:
            return False
        share(self.handling, refused.blocks, [])
        self.part.facts["path"] = refused_path
        self.part.code = "serve.index-refused"
        entry = refused.walked.entry
        if entry is not None and entry.kind is Kind.FILE:
            self._serve_index(refused, entry, refused_path)
        return True

    def _not_tried(self, names: Sequence[str], served: str, folder: str) -> None:
        behind = list(names)[list(names).index(served) + 1 :]
        for name in behind:
            path = join(folder, name)
            entry = self.walker.files.get(path)
            outcome = "outranked" if entry is not None else "not-tried"
            self.part.picture.append(Candidate(name, path, outcome, entry))

    def _sub(self, name: str) -> tuple[str, Target]:
        """The request for an index, as the server asks itself: its path, and where that ends.

        It is mapped anew, so an alias may lead it elsewhere; blocks of the folder are left out.
        """
        visitor = Visitor(self.arrival.client, self.arrival.address, "GET", self.arrival.signed_in)
        asked = f"{self.path}{name}"
        way = self.scene.map(asked)
        path = way.filename or join(self.target.walked.path, name)
        sub = self.scene.targets.of(self.host, asked, path, visitor, asked=False)
        for doubt in way.part.doubts:
            if doubt not in self.handling.way.doubts:
                self.handling.way.doubts.append(doubt)
        known = {(b.code, b.facts.get("path")) for b in self.target.blocks}
        known |= {(b.code, b.facts.get("path")) for b in self.handling.ladder.blocks}
        if any(b.rank.phase is Phase.ACCESS for b in self.target.blocks):
            # A rule that closes the folder closes its index: mended together, listed once.
            ruled = [b.proofs for b in self.target.blocks if b.rank.phase is Phase.ACCESS]
            sub.blocks = [
                b for b in sub.blocks if b.rank.phase is not Phase.ACCESS or b.proofs not in ruled
            ]
        sub.blocks = [
            Block(b.code, Rank(Phase.FOLDER, 1), b.status, b.facts, b.proofs)
            for b in sub.blocks
            if (b.code, b.facts.get("path")) not in known or b.rank.phase is Phase.ACCESS
        ]
        before = {(d.code, d.facts.get("path"), d.proofs) for d in self.target.doubts}
        for doubt in sub.doubts:
            if (doubt.code, doubt.facts.get("path"), doubt.proofs) not in before:
                moved = Doubt(doubt.code, Rank(Phase.FOLDER), doubt.facts, doubt.proofs)
                share(self.handling, [], [moved])
        return path, sub

    def _serve_index(self, sub: Target, entry: Entry, path: str) -> None:
        if self.part.code == "serve.file":
            self.part.code = "serve.index"
        self.part.facts["index"] = path.rpartition("/")[2]
        shown = {rung.asked for rung in self.handling.ladder.picture if hasattr(rung, "asked")}
        self.handling.ladder.picture += [r for r in sub.walked.rungs if r.asked not in shown]
        self._file(sub, entry, path, Rank(Phase.CONTENT))

    def _listing(self, walked: Walked, folder: Entry) -> None:
        settings = self.target.settings
        options = settings.options
        rank = Rank(Phase.CONTENT)
        facts = {"path": walked.path}
        if self.arrival.method == "POST":
            self._block("serve.post-on-folder", rank, 404, facts)
            return
        line = Proof(place=options.place if options else None, text=options.text if options else "")
        proofs = (line,) if line.place else ()
        self.part.facts |= facts
        if options is None or not options.bits & Opt.INDEXES:
            self._block("serve.no-index", rank, 403, facts, *proofs)
            return
        if not decide(folder, self.walker.subject, READ).allowed:
            self._block("ladder.unlistable", rank, 403, facts, Proof(entry=folder))
        kind = settings.listing_type or "text/html"
        charset = settings.listing_charset or "ISO-8859-1"
        self.part.code = "serve.listing"
        self.part.proofs += proofs
        self.part.answer = Answer(200, rank, content_type=f"{kind};charset={charset}")

    def _redirect(self, path: str, rank: Rank, code: str, *, asked: bool = True) -> None:
        """asked: by the visitor; the server's own question for an index knows no port of theirs."""
        where = self._own_address(self.header.port if asked else None)
        self.part.code = code
        query = "" if self.arrival.query is None else f"?{self.arrival.query}"
        location = None if where is None else f"{where}{escaped(path)}{query}"
        if location is None:
            self.part.doubts.append(Doubt("serve.own-name", rank, {}, (), only_type=True))
        self.part.facts |= {"location": location or path, "path": self.target.walked.path}
        self.part.answer = Answer(301, rank, REDIRECT, location)

    def _own_address(self, asked_port: int | None) -> str | None:
        """Scheme, name and port that the site gives as its own; None where it has no name."""
        settings = self.target.settings
        scheme = "https" if self.arrival.sealed else "http"
        usual = 443 if self.arrival.sealed else 80
        named = self.host.name or self._implied_name()
        physical = self.arrival.port if settings.physical_port else None
        # A block without a name takes the port that it is bound to; a name without one has none.
        bound = self.host.bindings[0].port if self.host.bindings else None
        own_port = self.host.name_port if self.host.name else bound
        if settings.canonical == "on":
            name, port = named, own_port or physical or usual
        else:
            name = self.header.name or named
            port = asked_port or physical or own_port or usual
        if not name:
            return None
        return f"{scheme}://{name}" + ("" if port == usual else f":{port}")

    def _implied_name(self) -> str | None:
        """What a block without a name calls itself; None where only a resolver knows."""
        if self.scene.implied:
            return self.scene.implied[0]
        addresses = [binding.address for binding in self.host.bindings]
        if addresses and addresses[0].startswith("127."):
            return "bogus_host_without_reverse_dns"
        return None
