"""What httpd does with a request, from the site that answers to the log that gets the line.

The order of the phases is the server's own: address, mapping, walk, access, folder, content.
Source: httpd 2.4, "Request Processing in the Apache HTTP Server 2.x"; measured.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from ecumen.engines.httpd import types
from ecumen.engines.httpd.access import Access, Outcome, Visitor, judge
from ecumen.engines.httpd.choice import Chooser, Chosen
from ecumen.engines.httpd.hostname import HostHeader, read_host
from ecumen.engines.httpd.server import (
    USUAL_LINE_LIMIT,
    Host,
    Section,
    Server,
    load,
    with_value,
)
from ecumen.engines.httpd.settings import Opt, Settings
from ecumen.engines.httpd.source import SurveySource
from ecumen.engines.httpd.uri import escaped, read_path
from ecumen.engines.httpd.walk import FolderWalk, Walked, may_read, unread
from ecumen.engines.httpd.way import Way, find_way, personal_folder
from ecumen.engines.sites import (
    Answer,
    Arrival,
    Binding,
    Block,
    Candidate,
    Doubt,
    Handling,
    Part,
    Phase,
    Proof,
    Rank,
    RuleLine,
    Rung,
    SiteSummary,
    proof_of,
)
from ecumen.rights import READ, Subject, Walker, decide, subject_of
from ecumen.rights.walk import join
from ecumen.survey import EngineRecord, Entry, Kind, Survey

EVALUATED_METHODS = ("GET", "HEAD", "POST")
REDIRECT = "text/html; charset=iso-8859-1"


# A section that binds: its title, its settings, and where it stands (None: the server's own).
_Bound = tuple[str, Settings, Section | None]


@dataclass(slots=True)
class _Target:
    """One address with the path that it leads to, walked, and the settings that hold there."""

    walked: Walked
    settings: Settings
    lines: list[RuleLine]
    blocks: list[Block] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)


class HttpdEngine:
    """One httpd of a survey."""

    kind = "httpd"

    def __init__(self, survey: Survey, record: EngineRecord) -> None:
        self.survey = survey
        self.record = record
        self.server: Server = load(SurveySource(survey), record)
        self.subject = self._worker()
        self.walker = Walker(survey, self.subject) if self.subject else None
        self.chooser = Chooser(self.server, self._resolve, self._reverse)
        self._walks: dict[int, FolderWalk] = {}
        self._rungs: dict[str, Rung] = {}

    @property
    def listens(self) -> Sequence[Binding]:
        return self.server.listens

    @property
    def hosts(self) -> Sequence[Host]:
        return self.server.hosts

    def _worker(self) -> Subject | None:
        name = self.server.user or "#-1"
        gid: int | None = None
        group = self.server.group
        if group is not None:
            if group.startswith("#"):
                gid = int(group[1:]) if group[1:].isdigit() else None
            else:
                known = self.survey.group_by_name.get(group)
                if known is None:
                    return None
                gid = known.gid
        if name.startswith("#"):
            account = self.survey.account_by_uid.get(int(name[1:]) if name[1:].isdigit() else -1)
            name = account.name if account else name
        return subject_of(self.survey, name, gid)

    def _resolve(self, name: str) -> tuple[str, ...] | None:
        record = self.survey.name_by_text.get(name.lower())
        return record.addresses if record is not None else None

    def _reverse(self, address: str) -> tuple[str, ...]:
        for record in self.survey.names:
            if record.source == "hosts" and record.addresses and address in record.addresses:
                return (record.name,)
        return ()

    def sites(self) -> Sequence[SiteSummary]:
        """Every virtual host in file order, then the personal sites."""
        hosts = list(self.server.hosts) or [self.server.main]
        found = [self._summary(host) for host in hosts]
        home = next((h for h in hosts if h.user_folders.folders is not None), None)
        return found + (self._personal_sites(home) if home is not None else [])

    def _summary(self, host: Host) -> SiteSummary:
        address, port = self._asked_at(host)
        literal = f"[{address}]" if ":" in address else address
        return SiteSummary(
            name=host.label,
            place=host.place,
            bindings=tuple(str(binding) for binding in host.bindings),
            names=host.all_names,
            root=host.root,
            address=address,
            port=port,
            asked_as=host.name or next(iter(sorted(host.names)), literal),
            sealed=host.sealed is not None,
        )

    def _asked_at(self, host: Host) -> tuple[str, int]:
        """An address and port on which this site is bound, those that are listened on first."""
        heard = {binding.port for binding in self.server.listens}
        usual = next((b.port for b in self.server.listens if b.port), None) or 80
        bindings = sorted(host.bindings, key=lambda b: b.port is not None and b.port not in heard)
        bound = bindings[0] if bindings else None
        port = bound.port if bound is not None and bound.port else usual
        address = bound.address if bound is not None else "*"
        resolved = (address,) if _is_literal(address) else self._resolve(address) or ()
        if resolved:
            return resolved[0], port
        own = [a for a in self.survey.addresses if not a.startswith("127.") and ":" not in a]
        wanted = [b.address for b in self.server.listens if b.port == port and b.address != "*"]
        return next(iter([*wanted, *own]), "127.0.0.1"), port

    def _personal_sites(self, host: Host) -> list[SiteSummary]:
        """The accounts that have a folder for a personal site, reached through this host."""
        base = self._summary(host)
        found = []
        for account in self.survey.accounts:
            for pattern in host.user_folders.folders or ():
                folder = personal_folder(pattern, account.name, account.home)
                if folder is not None and folder in self.survey.files:
                    found.append(
                        replace(
                            base,
                            name=f"~{account.name}",
                            root=folder,
                            path=f"/~{account.name}/",
                            personal=account.name,
                        )
                    )
                    break
        return found

    # --- one request ---

    def claims(self, arrival: Arrival) -> bool:
        """Whether a site here claims the name that is asked for, on this address and port."""
        header = read_host(arrival.host)
        return (
            self.chooser.choose(
                arrival.address, arrival.port, header, arrival.host is not None
            ).ground
            == "site.named"
        )

    def handle(self, arrival: Arrival) -> Handling:
        """Everything that happens to a request that arrived here."""
        header = read_host(arrival.host)
        has_host = arrival.host is not None
        chosen = self.chooser.choose(arrival.address, arrival.port, header, has_host)
        host = chosen.host
        site = self._site(arrival, chosen, header, has_host)
        address = read_path(arrival.path)
        way = find_way(self.survey, host, self.walker, address)
        handling = Handling(
            host.label,
            host.place,
            site,
            way.part,
            Part("rule.open"),
            Part("ladder.clear"),
            Part("serve.file"),
            self._record(host),
        )
        handling.log = next((log.path for log in host.logs if not log.conditional), None)
        for directive in host.unread:
            way.part.doubts.append(unread(directive, Rank(Phase.ENTRY, 1)))
        if way.filename is None or self.walker is None:
            self._no_way(handling, way)
            self._error_pages(handling, host.settings)
            return handling
        self._rest(handling, arrival, host, header, address.path, way)
        return handling

    def _site(self, arrival: Arrival, chosen: Chosen, header: HostHeader, has_host: bool) -> Part:
        part = Part(chosen.ground, dict(chosen.facts) | {"site": chosen.host.label})
        part.picture = list(chosen.claims)
        part.proofs = [_host_proof(chosen.host)]
        part.doubts += [*self.server.doubts, *chosen.doubts]
        if not has_host:
            part.blocks.append(Block("site.no-host", Rank(Phase.ENTRY), 400))
        elif not header.valid:
            facts = {"host": header.as_sent}
            part.blocks.append(Block("site.bad-host", Rank(Phase.ENTRY), 400, facts))
        if arrival.method not in EVALUATED_METHODS:
            facts = {"method": arrival.method}
            part.doubts.append(Doubt("site.method", Rank(Phase.ENTRY), facts))
        if len(arrival.path) + len(arrival.query or "") + 20 > USUAL_LINE_LIMIT:
            part.doubts.append(Doubt("site.long-line", Rank(Phase.ENTRY)))
        sealed = chosen.host.sealed
        if sealed is not None and not arrival.sealed:
            proof = proof_of(sealed)
            part.doubts.append(Doubt("seal.plain", Rank(Phase.ENTRY), {}, (proof,)))
        return part

    def _record(self, host: Host) -> Part:
        part = Part("record.log")
        part.proofs = [proof_of(log.directive) for log in host.logs]
        certain = [log for log in host.logs if not log.conditional]
        part.facts["log"] = certain[0].path if certain else ""
        if not host.logs:
            part.code = "record.nowhere"
        elif not certain:
            proofs = tuple(part.proofs)
            part.doubts.append(
                Doubt("record.conditional", Rank(Phase.CONTENT), {}, proofs, only_type=True)
            )
        elif certain[0].path.startswith("|"):
            part.code = "record.program"
        return part

    def _no_way(self, handling: Handling, way: Way) -> None:
        if way.filename is not None and self.walker is None:
            name = self.server.user or ""
            handling.ladder.doubts.append(
                Doubt("ladder.no-worker", Rank(Phase.WALK), {"worker": name})
            )
        for part in (handling.rule, handling.ladder, handling.serve):
            part.code = "passage.not-reached"

    def _rest(
        self,
        handling: Handling,
        arrival: Arrival,
        host: Host,
        header: HostHeader,
        path: str,
        way: Way,
    ) -> None:
        assert way.filename is not None
        visitor = Visitor(arrival.client, arrival.address, arrival.method, arrival.signed_in)
        target = self._target(host, path, way.filename, visitor)
        walked = target.walked
        handling.rule.picture = list(target.lines)
        handling.rule.proofs = [
            line for rule in target.lines if rule.effective for line in rule.lines
        ]
        handling.rule.code = "rule.open" if target.settings.access is None else "rule.granted"
        self._share(handling, target.blocks, target.doubts)
        handling.ladder.picture = list(walked.rungs)
        handling.ladder.facts = {"worker": self._worker_name()}
        handling.file = walked.path if walked.entry is not None else None
        _Serving(self, handling, host, header, arrival, visitor, path, target, way).decide()
        self._error_pages(handling, target.settings)
        self._who(handling)

    def _worker_name(self) -> str:
        return self.subject.name if self.subject else ""

    def _share(self, handling: Handling, blocks: Sequence[Block], doubts: Sequence[Doubt]) -> None:
        """Each block and doubt goes to the gate that its code names."""
        for block in blocks:
            part: Part = getattr(handling, block.code.partition(".")[0])
            part.blocks.append(block)
        for doubt in doubts:
            part = getattr(handling, doubt.code.partition(".")[0])
            part.doubts.append(doubt)

    def _target(self, host: Host, path: str, filename: str, visitor: Visitor) -> _Target:
        assert self.walker is not None
        walk = self._walks.get(id(host))
        if walk is None:
            walk = self._walks[id(host)] = FolderWalk(host, self.walker, self._rungs)
        walked = walk.walk(filename)
        settings = walked.settings
        sections: list[_Bound] = list(walked.sections)
        doubts = list(walked.doubts)
        for section in host.addresses:
            fits = section.fits_address(path)
            if fits is None:
                proof = proof_of(section.directive)
                facts = {"pattern": section.pattern}
                doubts.append(Doubt("rule.pattern-unknown", Rank(Phase.ENTRY, 2), facts, (proof,)))
            elif fits:
                settings = walk.merge(settings, section.settings)
                sections.append((section.directive.quoted, section.settings, section))
                doubts += [unread(d, Rank(Phase.ENTRY, 2)) for d in section.settings.unread]
        target = _Target(walked, settings, [], list(walked.blocks), doubts)
        self._access(target, sections, visitor)
        return target

    def _access(self, target: _Target, sections: Sequence[_Bound], visitor: Visitor) -> None:
        access = target.settings.access
        outcome: Outcome | None = Outcome.GRANTED
        rank = Rank(Phase.ACCESS)
        if access is not None:
            outcome, unknown = judge(access, visitor)
            proofs = access.lines
            if outcome is None:
                doubts = tuple(proof_of(directive) for directive in unknown)
                target.doubts.append(Doubt("rule.unknown-test", rank, {}, doubts))
            elif outcome is Outcome.LOGIN:
                self._login(target, visitor, rank, proofs)
            elif outcome is not Outcome.GRANTED:
                code = "rule.local-only" if _only_local(proofs) else "rule.denied"
                facts = {"client": visitor.client or "a visitor from outside"}
                target.blocks.append(Block(code, rank, 403, facts, proofs))
        target.lines = _rule_lines(sections, access, outcome)

    def _login(
        self, target: _Target, visitor: Visitor, rank: Rank, proofs: tuple[Proof, ...]
    ) -> None:
        kind = target.settings.auth_type
        if visitor.signed_in or (kind is not None and kind.value.lower() != "basic"):
            target.doubts.append(Doubt("rule.login-unknown", rank, {}, proofs))
        elif kind is None or target.settings.auth_name is None:
            target.blocks.append(Block("rule.login-broken", rank, 500, {}, proofs))
        else:
            target.blocks.append(Block("rule.login", rank, 401, {}, proofs))

    def _error_pages(self, handling: Handling, settings: Settings) -> None:
        """An error page of the site's own may change what the visitor gets in place of ours."""
        parts = (handling.site, handling.way, handling.rule, handling.ladder, handling.serve)
        for part in parts:
            for block in part.blocks:
                directive = settings.error_pages.get(block.status or 0)
                if directive is None:
                    continue
                given = directive.text.split(None, 1)[1:]
                page = given[0].strip("\"'") if given else ""
                away = "://" in page
                if page.startswith("/") or away:
                    facts = {"status": str(block.status), "page": page}
                    proofs = (proof_of(directive),)
                    handling.serve.doubts.append(
                        Doubt("serve.error-page", block.rank, facts, proofs, only_type=not away)
                    )

    def _who(self, handling: Handling) -> None:
        """Adds the words on owner, group and mode to each block that the ladder has."""
        handling.ladder.blocks = [
            Block(b.code, b.rank, b.status, {**self._ownership(b), **b.facts}, b.proofs)
            for b in handling.ladder.blocks
        ]

    def _ownership(self, block: Block) -> dict[str, str]:
        facts = {"worker": self._worker_name()}
        entry = next((proof.entry for proof in block.proofs if proof.entry is not None), None)
        if entry is not None:
            facts |= {
                "owner": self.survey.user_name(entry.uid),
                "group": self.survey.group_name(entry.gid),
                "mode": f"{entry.mode:04o}",
            }
        return facts


def _is_literal(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True


def _host_proof(host: Host) -> Proof:
    directive = host.directive or host.name_line
    return proof_of(directive) if directive else Proof(place=host.place)


def _only_local(proofs: tuple[Proof, ...]) -> bool:
    return bool(proofs) and all("local" in proof.text.lower().split() for proof in proofs)


def _rule_lines(
    sections: Sequence[_Bound], access: Access | None, outcome: Outcome | None
) -> list[RuleLine]:
    lines = []
    for title, settings, section in sections:
        own = settings.access
        if own is None or not own.rules:
            continue
        effective = access is not None and _within(own, access)
        shown = (outcome.value if outcome else "unsure") if effective else "none"
        proof = proof_of(section.directive) if section is not None else None
        lines.append(RuleLine(title, proof, own.lines, effective, shown))
    return lines


def _within(own: Access, access: Access) -> bool:
    """Whether the rules of one section are among those that hold in the end."""
    current: Access | None = access
    while current is not None:
        if current.rules == own.rules:
            return True
        current = current.inherited
    return False


class _Serving:
    """The last decision: file, index, listing, redirect to the folder, or nothing there."""

    def __init__(
        self,
        engine: HttpdEngine,
        handling: Handling,
        host: Host,
        header: HostHeader,
        arrival: Arrival,
        visitor: Visitor,
        path: str,
        target: _Target,
        way: Way,
    ) -> None:
        self.engine = engine
        self.handling = handling
        self.part = handling.serve
        self.host = host
        self.header = header
        self.arrival = arrival
        self.visitor = visitor
        self.path = path
        self.target = target
        self.way = way
        self.walker = engine.walker

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
        self.engine._share(self.handling, [Block(code, rank, status, facts, proofs)], [])

    # --- nothing there ---

    def _missing(self, walked: Walked) -> None:
        rank = Rank(Phase.CONTENT)
        if any(block.code.startswith("ladder.link-") for block in walked.blocks):
            self.part.code = "passage.not-reached"
            return
        if any(block.code == "ladder.name-too-long" for block in walked.blocks):
            self.part.code = "passage.not-reached"
            return
        barred = self._variants(self.target)
        if barred is not None:
            self.engine._share(self.handling, [barred], [])
        self.part.facts["path"] = walked.path
        self._block("serve.missing", rank, 404, {"path": walked.path})

    def _variants(self, target: _Target) -> Block | None:
        """A file with further endings might be served in place of one that is not there.

        Returns what bars looking for it: then the server answers 403 for what is missing.
        """
        options = target.settings.options
        if options is None or not options.bits & Opt.MULTI:
            return None
        walker = self.walker
        assert walker is not None
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

    def _file(self, target: _Target, entry: Entry, path: str, rank: Rank) -> None:
        walked = target.walked
        name = path.rpartition("/")[2]
        typed = types.type_of(name, target.settings, self.engine.server.types)
        self.part.facts |= {"path": path, "type": typed.type or ""}
        self.part.proofs.append(Proof(entry=entry, path=path))
        if typed.ending is not None and typed.ending.place is not None:
            text = f"{typed.by}: {typed.type}"
            self.part.proofs.append(Proof(place=typed.ending.place, text=text))
        elif typed.by:
            self.part.facts["types_file"] = self.engine.server.types_file
        if typed.handler is not None:
            facts = {"handler": typed.handler}
            proof = Proof(place=typed.handler_place, text=f"{name}: {typed.handler}")
            self._doubt("serve.handler", rank, facts, proof)
        if walked.rest:
            facts = {"path": path, "rest": walked.rest}
            self._block("serve.trailing-path", rank, 404, facts, Proof(entry=entry, path=path))
            return
        assert self.walker is not None
        rung = may_read(self.walker, entry)
        self.handling.ladder.picture.append(rung)
        if not rung.allowed:
            facts = {"path": path}
            self._block("ladder.unreadable", rank, 403, facts, Proof(entry=entry, path=path))
        self.handling.file = path
        self.part.answer = Answer(200, rank, content_type=typed.type)

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
        assert self.walker is not None
        step = self.walker.search(folder)
        if step.blocked:
            facts = {"path": walked.path}
            self._block("ladder.shut", Rank(Phase.FOLDER), 403, facts, Proof(entry=folder))
        place = self.target.settings.index_place
        if place is not None:
            self.part.facts["index_line"] = str(place)
        refused: _Target | None = None
        refused_path = ""
        for name in names:
            if "/" in name:
                proof = Proof(place=place, text=name)
                self._doubt("serve.index-elsewhere", Rank(Phase.FOLDER), {"name": name}, proof)
                continue
            path = join(walked.path, name)
            sub = self._sub(name, path)
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
        self.engine._share(self.handling, refused.blocks, [])
        self.part.facts["path"] = refused_path
        self.part.code = "serve.index-refused"
        entry = refused.walked.entry
        if entry is not None and entry.kind is Kind.FILE:
            self._serve_index(refused, entry, refused_path)
        return True

    def _not_tried(self, names: Sequence[str], served: str, folder: str) -> None:
        assert self.walker is not None
        behind = list(names)[list(names).index(served) + 1 :]
        for name in behind:
            path = join(folder, name)
            entry = self.walker.files.get(path)
            outcome = "outranked" if entry is not None else "not-tried"
            self.part.picture.append(Candidate(name, path, outcome, entry))

    def _sub(self, name: str, path: str) -> _Target:
        """The request for an index, as the server asks itself; blocks of the folder left out."""
        visitor = Visitor(self.visitor.client, self.visitor.server, "GET", self.visitor.signed_in)
        sub = self.engine._target(self.host, f"{self.path}{name}", path, visitor)
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
                self.engine._share(self.handling, [], [moved])
        return sub

    def _serve_index(self, sub: _Target, entry: Entry, path: str) -> None:
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
        assert self.walker is not None
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
        implied = self.engine.chooser.implied(self.host)
        if implied:
            return implied[0]
        addresses = [binding.address for binding in self.host.bindings]
        if addresses and addresses[0].startswith("127."):
            return "bogus_host_without_reverse_dns"
        return None
