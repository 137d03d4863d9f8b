"""What httpd does with a request, from the site that answers to the log that gets the line.

The order of the phases is the server's own: address, mapping, walk, access, folder, content.
Source: httpd 2.4, "Request Processing in the Apache HTTP Server 2.x"; measured.
"""

from __future__ import annotations

from collections.abc import Sequence

from ecumen.engines.httpd.access import Visitor
from ecumen.engines.httpd.choice import Chooser, Chosen
from ecumen.engines.httpd.hostname import HostHeader, read_host
from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.server import USUAL_LINE_LIMIT, Host, Server, load
from ecumen.engines.httpd.serving import Scene, Serving, share
from ecumen.engines.httpd.settings import Settings
from ecumen.engines.httpd.source import SurveySource
from ecumen.engines.httpd.summaries import Summaries
from ecumen.engines.httpd.targets import Targets
from ecumen.engines.httpd.uri import Address, read_path
from ecumen.engines.httpd.walk import unread
from ecumen.engines.httpd.way import Way, find_way
from ecumen.engines.sites import (
    Arrival,
    Binding,
    Block,
    Doubt,
    Handling,
    Part,
    Phase,
    Proof,
    Rank,
    SiteSummary,
    proof_of,
)
from ecumen.engines.tree import Directive
from ecumen.rights import Subject, Walker, subject_of
from ecumen.survey import EngineRecord, Survey

EVALUATED_METHODS = ("GET", "HEAD", "POST")


class HttpdEngine:
    """One httpd of a survey."""

    kind = "httpd"

    def __init__(self, survey: Survey, record: EngineRecord) -> None:
        self.survey = survey
        self.record = record
        self.server: Server = load(SurveySource(survey), record)
        self.subject = self._worker()
        self.walker = Walker(survey, self.subject) if self.subject else None
        self.chooser = Chooser(self.server, self._resolve, self._reverse, survey.host)
        self.targets = Targets(self.walker) if self.walker else None

    @property
    def listens(self) -> Sequence[Binding]:
        return self.server.listens

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
        return Summaries(self.survey, self.server, self._resolve).all()

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
            self._error_pages(handling, host, host.settings)
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
        assert self.targets is not None
        visitor = Visitor(arrival.client, arrival.address, arrival.method, arrival.signed_in)
        target = self.targets.of(host, path, way.filename, visitor)
        walked = target.walked
        handling.rule.picture = list(target.lines)
        handling.rule.proofs = [
            line for rule in target.lines if rule.effective for line in rule.lines
        ]
        handling.rule.code = "rule.open" if target.settings.access is None else "rule.granted"
        share(handling, target.blocks, target.doubts)
        handling.ladder.picture = list(walked.rungs)
        handling.ladder.facts = {"worker": self._worker_name()}
        handling.file = walked.path if walked.entry is not None else None
        implied = self.chooser.implied(host)

        def mapped(path: str) -> Way:
            return find_way(self.survey, host, self.walker, Address(path))

        scene = Scene(self.server, self.targets, host, header, arrival, path, implied, mapped)
        Serving(scene, handling, target).decide()
        self._error_pages(handling, host, target.settings)
        self._who(handling)

    def _worker_name(self) -> str:
        return self.subject.name if self.subject else ""

    def _error_pages(self, handling: Handling, host: Host, settings: Settings) -> None:
        """An error page of the site's own may change what the visitor gets in place of ours.

        Where the walk itself stops, the sections of folders may not be merged yet: then the page
        is that of the host.
        """
        parts = (handling.site, handling.way, handling.rule, handling.ladder, handling.serve)
        for block in [block for part in parts for block in part.blocks]:
            for pages in (settings.error_pages, host.settings.error_pages):
                doubt = _error_page(block, pages.get(block.status or 0))
                if doubt is not None and doubt not in handling.serve.doubts:
                    handling.serve.doubts.append(doubt)

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


def _error_page(block: Block, directive: Directive | None) -> Doubt | None:
    """The doubt that an error page brings; a text in place of a page brings none."""
    page = "".join(words(directive.text)[1:2]) if directive is not None else ""
    away = "://" in page
    if directive is None or not (away or page.startswith("/")):
        return None
    facts = {"status": str(block.status), "page": page}
    proofs = (proof_of(directive),)
    return Doubt("serve.error-page", block.rank, facts, proofs, only_type=not away)


def _host_proof(host: Host) -> Proof:
    directive = host.directive or host.name_line
    return proof_of(directive) if directive else Proof(place=host.place)
