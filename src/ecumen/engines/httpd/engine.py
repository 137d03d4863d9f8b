"""What httpd does with a request, from the site that answers to the log that gets the line.

The order of the phases is the server's own: address, mapping, walk, access, folder, content.
Source: httpd 2.4, "Request Processing in the Apache HTTP Server 2.x"; measured.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from ecumen import codes
from ecumen.contexts.confinement import Confinement
from ecumen.engines.alike import Filler
from ecumen.engines.breaks import Break, ReadingOrder, breaks_of
from ecumen.engines.confined import confined_walker
from ecumen.engines.draft import SiteDraft
from ecumen.engines.httpd.alike import Alike, Like
from ecumen.engines.httpd.asking import Asking
from ecumen.engines.httpd.callers import Callers
from ecumen.engines.httpd.checks import first_fault
from ecumen.engines.httpd.choice import Chooser, Chosen
from ecumen.engines.httpd.errorlog import error_entry
from ecumen.engines.httpd.guards import CALLED, access_patterns
from ecumen.engines.httpd.hostname import HostHeader, read_host
from ecumen.engines.httpd.laps import Laps
from ecumen.engines.httpd.overrides import asks_for
from ecumen.engines.httpd.seals import must_be_named, pairs_of, refuses, wants_certificate
from ecumen.engines.httpd.server import Host, Server, load
from ecumen.engines.httpd.settings import Opt
from ecumen.engines.httpd.short import ShortAnswers
from ecumen.engines.httpd.summaries import Summaries
from ecumen.engines.httpd.targets import Targets
from ecumen.engines.httpd.types import ERROR_PAGE
from ecumen.engines.httpd.uri import USUAL_LINE_LIMIT, read_path
from ecumen.engines.httpd.walk import HALF, SEALED_ALONE, unread
from ecumen.engines.httpd.wants import HttpdWants
from ecumen.engines.httpd.writing import (
    leading_over,
    reopened,
    seen_by_of,
    site_text,
    with_names,
)
from ecumen.engines.numbers import atoi
from ecumen.engines.owners import name_owners
from ecumen.engines.short import Question, Short
from ecumen.engines.sites import (
    AccessPattern,
    Arrival,
    Binding,
    Block,
    Doubt,
    Handling,
    Part,
    PersonalGround,
    Phase,
    Proof,
    Rank,
    SealPair,
    SiteSummary,
    before_answer,
    proof_of,
)
from ecumen.engines.source import SurveySource
from ecumen.engines.tree import Place
from ecumen.logs.errorlog import ErrorEntry
from ecumen.rights import Subject, subject_of
from ecumen.survey import EngineRecord, Survey


class HttpdEngine:
    """One httpd of a survey."""

    kind = "httpd"
    programs: tuple[str, ...] = ("apache2", "httpd")
    error_type = ERROR_PAGE
    listens_by_site = False
    wildcard = "::"
    upstream_fails = 503
    wants = HttpdWants
    source: SurveySource
    confinement: Confinement
    chooser: Chooser

    def __init__(
        self,
        survey: Survey,
        record: EngineRecord,
        before: HttpdEngine | None = None,
        confinement: Confinement | None = None,
    ) -> None:
        """before: the same engine of a survey of which this is a change. confinement: the policy of
        the survey, where others have it too.
        """
        known_policy = before.confinement.renewed(survey) if before is not None else None
        self.confinement = confinement or known_policy or Confinement(survey)
        self.survey = survey
        self.record = record
        self.source = SurveySource(survey, before.source if before is not None else None)
        known = before.server if before is not None else None
        self.server: Server = load(self.source, record, known)
        self.worker = self._worker(self.server.user or "#-1", self.server.group)
        self.walker = (
            confined_walker(self.confinement, record, self.worker) if self.worker else None
        )
        self._callers = Callers(survey)
        names = before is not None and before.survey.names == survey.names
        chooser = before.chooser if before is not None and names else None
        self.chooser = Chooser(self.server, self._resolve, self._reverse, survey.host, chooser)
        self.laps = Laps(survey, self.server, self.walker)
        self._lanes: dict[tuple[str, str], tuple[Subject | None, Laps]] = {}

    def site_text(self, draft: SiteDraft) -> str:
        """The file of a new site."""
        return site_text(draft)

    @staticmethod
    def seen_by(text: str) -> tuple[str, ...] | None:
        """Who is let in by the file of a site that was written here; None for any other."""
        return seen_by_of(text)

    @staticmethod
    def reopened(text: str, seen_by: Sequence[str]) -> str | None:
        """Such a file with others let in; None for any other."""
        return reopened(text, seen_by)

    @staticmethod
    def with_names(text: str, line: int, names: Sequence[str], behind: str = "") -> str | None:
        """A text in which the site that begins at a line claims just these names."""
        return with_names(text, line, names, behind)

    @staticmethod
    def leading_over(
        bindings: Sequence[tuple[str, int]], names: Sequence[str], to: str, indent: str
    ) -> str:
        """A site that sends whoever asks for one of its names on to another."""
        return leading_over(bindings, names, to, indent)

    def renewed(self, survey: Survey) -> HttpdEngine:
        """The same engine on a change of its survey."""
        return HttpdEngine(survey, self.record, self)

    @cached_property
    def override_names(self) -> Collection[str]:
        """What any host calls its override files."""
        return {
            ".htaccess",
            *(n for host in self.server.hosts_saying(CALLED) for n in host.override_names or ()),
        }

    def unchanged(self, before: object) -> Mapping[int, int]:
        """Hosts that were taken over; personal sites follow from accounts and folders as well."""
        if not isinstance(before, HttpdEngine) or self.breaks or before.breaks:
            return {}
        if self.server.bearing_on_all != before.server.bearing_on_all:
            return {}
        known = {id(host): number for number, host in enumerate(before.server.hosts)}
        hosts = enumerate(self.server.hosts)
        return {number: known[id(host)] for number, host in hosts if id(host) in known}

    def answers_alike(self, before: object, address: str, port: int, name: str) -> bool:
        if not isinstance(before, HttpdEngine):
            return False
        header = read_host(name)
        first, winner = self.chooser.winner(address, port, header)
        known = before.chooser.winner(address, port, header)
        return winner is not None and first is known[0] and winner is known[1]

    @property
    def listens(self) -> Sequence[Binding]:
        return self.server.listens

    @cached_property
    def breaks(self) -> Sequence[Break]:
        return breaks_of(self.record, self.server.mistakes, first_fault)

    @cached_property
    def _doubts(self) -> list[Doubt]:
        """What bears on every request."""
        return [*self.server.doubts, *(each.doubt() for each in self.breaks)]

    def _worker(self, name: str, group: str | None) -> Subject | None:
        gid: int | None = None
        if group is not None:
            if group.startswith("#"):
                gid = atoi(group[1:]) if group[1:].isdecimal() else None
            else:
                known = self.survey.group_by_name.get(group)
                if known is None:
                    return None
                gid = known.gid
        if name.startswith("#"):
            account = self.survey.account_by_uid.get(atoi(name[1:]) if name[1:].isdecimal() else -1)
            name = account.name if account else name
        return subject_of(self.survey, name, gid)

    def _lane(self, host: Host) -> tuple[Subject | None, Laps]:
        """Who serves a host, and the laps as that account: a module may give a host its own."""
        if host.account is None:
            return self.worker, self.laps
        known = self._lanes.get(host.account)
        if known is None:
            worker = self._worker(*host.account)
            walker = confined_walker(self.confinement, self.record, worker) if worker else None
            known = worker, Laps(self.survey, self.server, walker)
            self._lanes[host.account] = known
        return known

    def worker_of(self, site: Place) -> Subject | None:
        """The account that serves a site."""
        return self._lane(self._host_at.get(site, self.server.main))[0]

    def _resolve(self, name: str) -> tuple[str, ...] | None:
        record = self.survey.name_by_text.get(name.lower())
        return record.addresses if record is not None else None

    def _reverse(self, address: str) -> tuple[str, ...]:
        return self._callers.called(address)[:1]

    @cached_property
    def _summaries(self) -> Summaries:
        return Summaries(self.survey, self.server, self._resolve, self._alike)

    @property
    def blocks(self) -> int:
        """The virtual hosts, and the accounts with their personal sites."""
        return self._summaries.blocks

    def sites_of(self, number: int) -> Sequence[SiteSummary]:
        """The sites of a virtual host, in file order; of the last number personal ones."""
        found = self._summaries.of(number)
        if not self.breaks:
            return found
        order, ends = self._reading_order
        return [
            replace(s, behind=order.behind(s.place, ends.get(s.place, s.place), self.breaks[0]))
            for s in found
        ]

    @cached_property
    def _reading_order(self) -> tuple[ReadingOrder, dict[Place, Place]]:
        """And where each block ends."""
        tree = self.server.tree
        ends = {host.place: _end_of(host) for host in self.server.hosts}
        return ReadingOrder(tree.files, tree.included, tree.cut), ends

    def unled(self) -> Iterator[tuple[Place, str]]:
        """Folders in which sites lie by their names, and to which none leads."""
        return self._summaries.unled()

    def personal(self) -> Sequence[PersonalGround]:
        """Every account with the folder in which its personal site lies, or would lie."""
        return self._summaries.personal

    def meets(self, walked: str | None, handling: Handling) -> Rank:
        """What lies on the way is met while it is walked, before anybody asks who may."""
        answer = handling.serve.answer
        if walked is not None:
            depth = 0 if walked == "/" else walked.count("/")
            lap = answer.rank.lap if answer is not None else 0
            return Rank(Phase.WALK, (depth + 1) * HALF).on_lap(lap)
        return before_answer(answer)

    def extent(self, lines: Sequence[str]) -> int:
        """Up to where the section ends; the main server has no block of its own."""
        if not lines or not lines[0].lstrip().lower().startswith("<virtualhost"):
            return 1
        for number, line in enumerate(lines, 1):
            if line.lstrip().lower().startswith("</virtualhost"):
                return number
        return len(lines)

    # --- one request ---

    def claims(self, arrival: Arrival) -> bool:
        """Whether a site here claims the name that is asked for, on this address and port."""
        header = read_host(arrival.host)
        return (
            self.chooser.choose(
                arrival.address, arrival.port, header, arrival.host is not None
            ).ground
            == codes.SITE_NAMED
        )

    def answers(self, address: str, port: int, name: str) -> Place | None:
        """Where the site is declared that answers a name on an address and port."""
        return self.chooser.answering(address, port, read_host(name)).place

    @property
    def files(self) -> Sequence[str]:
        return self.server.tree.files

    @property
    def missing(self) -> Mapping[str, Place]:
        """Files that an include names and that are not there, and that it passes over."""
        return self.server.tree.missing

    @staticmethod
    def error_entry(line: bytes) -> ErrorEntry | None:
        return error_entry(line)

    def usual_type(self, ending: str) -> str | None:
        """The content type that a file-name ending has, where no site says otherwise."""
        return self.server.types.get(ending)

    @cached_property
    def _host_at(self) -> dict[Place, Host]:
        return {host.place: host for host in reversed(self.server.hosts)}

    def reads_override(self, site: Place, folder: str) -> bool | None:
        """Whether a site reads a per-folder override file there; None where that is not known."""
        found = self._in_folder(site, folder)
        return None if found is None else found.reads

    def opens(self, site: Place, folder: str) -> Iterable[tuple[str, Place]]:
        """What a site opens in a folder that few need, and the line that does."""
        found = self._in_folder(site, folder)
        return () if found is None else found.opens

    def _in_folder(self, site: Place, folder: str) -> _InFolder | None:
        """What holds in a folder of a site, once the server has walked there."""
        host = self._host_at.get(site) or self.server.main
        like = None if self._alike is None or host.later is None else self._alike.of(host)
        if self._alike is not None and like is not None and like.alike.account is None:
            found = self._in_folder_of(self._alike, like, folder)
            if found is not None:
                return found[0]
        laps = self._lane(host)[1]
        return None if laps.walker is None else _in_folder(laps.phases.targets, host, folder)

    def _in_folder_of(
        self, alike: Alike, like: Like, folder: str
    ) -> tuple[_InFolder | None] | None:
        """The same, as another host of its kind tells; None where that is not to be told."""
        holed = like.words.asked(folder)
        if holed is None:
            return None
        held = alike.answer(
            like, ("folder", holed), lambda ground: _in_folder(ground.targets, ground.host, holed)
        )
        return None if held is None else (held.value and held.value.filled(like.fill),)

    def access_patterns(self) -> Iterable[AccessPattern]:
        return access_patterns(self.survey, self.server)

    def seal(self, arrival: Arrival) -> Part:
        """The first block of the address decides whether TLS is spoken; the name in the greeting
        whose certificate is shown."""
        first = self._first(arrival)
        shown = self._greeted(arrival)
        wanted = wants_certificate(self.server, shown) if shown.sealed is not None else None
        if shown.sealed is None or not pairs_of(self.server, shown):
            # What has none of its own is shown with that of the first (measured).
            shown = first
        part = Part(codes.SEAL_SPOKEN, {"site": shown.label, "declared": shown.place})
        part.proofs = [proof_of(line) for line in shown.certificates]
        if first.sealed is None:
            proofs = (_host_proof(first),)
            part.blocks.append(Block(codes.SEAL_NOT_SPOKEN, Rank(Phase.REACH, 2), None, {}, proofs))
        elif wanted is not None:
            facts = {"site": shown.label}
            proofs = (proof_of(wanted),)
            block = Block(codes.SEAL_CERTIFICATE_WANTED, Rank(Phase.REACH, 2), None, facts, proofs)
            part.blocks.append(block)
        return part

    def seals_of(self, site: Place) -> Sequence[SealPair]:
        """The certificates that a host has, each with its key."""
        return pairs_of(self.server, self._host_at.get(site) or self.server.main)

    def _first(self, arrival: Arrival) -> Host:
        chain = self.chooser.chain(arrival.address, arrival.port)
        return self.server.main if chain is None else chain.hosts[0]

    def _greeted(self, arrival: Arrival) -> Host:
        """The block that the name in the TLS greeting chooses."""
        header = read_host(arrival.server_name)
        if arrival.server_name is None or not header.valid:
            return self._first(arrival)
        if arrival.server_name.endswith("."):
            # The dot stays, unlike that of a Host header (measured).
            header = replace(header, name=f"{header.name}.")
        return self.chooser.choose(arrival.address, arrival.port, header, True).host

    def _misdirected(self, arrival: Arrival, host: Host) -> Block | None:
        """A block that the greeting did not choose may refuse what comes with it."""
        if not arrival.sealed:
            return None
        chain, shown = self.chooser.chain(arrival.address, arrival.port), self._greeted(arrival)
        # Only where there are several does it matter which one is meant.
        if arrival.server_name is None and chain is not None and len(chain.hosts) > 1:
            for each in (self._first(arrival), host):
                if must_be_named(self.server, each):
                    said = {"site": each.label}
                    lines = (_host_proof(each),)
                    return Block(codes.SITE_UNGREETED, Rank(Phase.ENTRY, 1), 403, said, lines)
        if shown is host or not refuses(self.server, shown, host):
            return None
        facts = {"site": host.label, "greeted": shown.label}
        proofs = (_host_proof(shown), _host_proof(host))
        return Block(codes.SITE_MISDIRECTED, Rank(Phase.ENTRY, 1), 421, facts, proofs)

    @cached_property
    def _short(self) -> ShortAnswers | None:
        if self.walker is None or self._doubts:
            return None
        targets, ways = self.laps.phases.targets, self.laps.phases.ways
        return ShortAnswers(self.server, self.chooser, targets, ways, self._alike)

    @cached_property
    def _alike(self) -> Alike | None:
        """The kinds of the hosts that this engine's worker serves."""
        if self.walker is None:
            return None
        again = self.laps.phases.targets.judges_again
        return Alike(self.survey, self.server, self.walker, again)

    def shortly(self, asked: Question) -> Short | None:
        """What comes of a plain request; None where it is not plain."""
        return self._short.answer(asked) if self._short is not None else None

    def handle(self, arrival: Arrival) -> Handling:
        """Everything that happens to a request that arrived here."""
        header = read_host(arrival.host)
        has_host = arrival.host is not None
        plainly = (self._first(arrival).sealed is not None) != arrival.sealed
        if arrival.method == "CONNECT" or plainly:
            # Refused before the name is looked at.
            header = replace(header, valid=False)
        chosen = self.chooser.choose(arrival.address, arrival.port, header, has_host)
        host = chosen.host
        site = self._site(arrival, chosen, header, has_host)
        handling = Handling.begun(host.label, host.place, site, self._record(host))
        handling.log = str(handling.record.facts.get("log", "")) or None
        handling.take([], [doubt for doubt in self._doubts if doubt.code.gate != "site"])
        sealed = arrival.sealed and host.sealed is not None
        for directive in host.unread:
            if not sealed and directive.name.lower() in SEALED_ALONE:
                continue
            doubt = unread(directive, Rank(Phase.ENTRY, 1))
            handling.way.doubts.append(replace(doubt, code=codes.WAY_NOT_EVALUATED))
        asking = Asking(
            arrival,
            host,
            header,
            read_path(arrival.path, host.settings.slashes or "off"),
            arrival.query,
            arrival.method,
            self.chooser.implied(host),
            late=self.server.set_names,
        )
        told = host.settings.visitor_header
        if told is not None and told.value in arrival.headers:
            # Who asks is then told by the request itself, where a proxy is trusted.
            facts = {"directive": told.text}
            proofs = (Proof(place=told.place, text=told.text),)
            doubt = Doubt(codes.RULE_NOT_EVALUATED, Rank(Phase.ACCESS), facts, proofs)
            handling.rule.doubts.append(doubt)
        kept = host.settings.merged_slashes
        if kept is not None and kept.value == "off" and _doubles(arrival.path, host):
            facts = {"directive": kept.text}
            proofs = (Proof(place=kept.place, text=kept.text),)
            doubt = Doubt(codes.WAY_NOT_EVALUATED, Rank(Phase.ADDRESS), facts, proofs)
            handling.way.doubts.append(doubt)
        worker, laps = self._lane(host)
        laps.run(asking, handling)
        name_owners(handling, self.survey, worker)
        if "mpm_itk_module" in self.server.reader.modules:
            _walked_by_another(handling, host, worker)
        return handling

    def _site(self, arrival: Arrival, chosen: Chosen, header: HostHeader, has_host: bool) -> Part:
        part = Part(chosen.ground, dict(chosen.facts) | {"site": chosen.host.label})
        part.picture = list(chosen.claims)
        part.proofs = [_host_proof(chosen.host)]
        part.doubts += [doubt for doubt in self._doubts if doubt.code.gate == "site"]
        part.doubts += chosen.doubts
        if not has_host:
            part.blocks.append(Block(codes.SITE_NO_HOST, Rank(Phase.ENTRY), 400))
        elif not header.valid and header.as_sent and not read_host(arrival.host).valid:
            facts = {"host": header.as_sent}
            part.blocks.append(Block(codes.SITE_BAD_HOST, Rank(Phase.ENTRY), 400, facts))
        facts = {"method": arrival.method}
        if arrival.method == "CONNECT":
            part.blocks.append(Block(codes.SITE_BAD_METHOD, Rank(Phase.ENTRY), 400, facts))
        if len(arrival.path) + len(arrival.query or "") + 20 > USUAL_LINE_LIMIT:
            part.doubts.append(Doubt(codes.SITE_LONG_LINE, Rank(Phase.ENTRY)))
        elsewhere = self._misdirected(arrival, chosen.host) if header.valid and has_host else None
        if elsewhere is not None:
            part.blocks.append(elsewhere)
        sealed = self._first(arrival).sealed
        if sealed is not None and not arrival.sealed:
            block = Block(codes.SEAL_PLAIN, Rank(Phase.ENTRY), 400, {}, (proof_of(sealed),))
            part.blocks.append(block)
        return part

    def _record(self, host: Host) -> Part:
        part = Part(codes.RECORD_LOG)
        part.proofs = [proof_of(log.directive) for log in host.logs]
        # A variable that nobody knows is left as it stands.
        certain = [log for log in host.logs if not log.conditional and "${" not in log.path]
        part.facts["log"] = certain[0].path if certain else ""
        if not host.logs:
            part.code = codes.RECORD_NOWHERE
        elif not certain:
            proofs = tuple(part.proofs)
            part.doubts.append(
                Doubt(codes.RECORD_CONDITIONAL, Rank(Phase.CONTENT), {}, proofs, only_type=True)
            )
        elif certain[0].path.startswith("|"):
            part.code = codes.RECORD_PROGRAM
        return part


@dataclass(frozen=True, slots=True)
class _InFolder:
    """What holds in a folder. reads: its override files. opens: as of the engine."""

    reads: bool
    opens: tuple[tuple[str, Place], ...]

    def filled(self, fill: Filler) -> _InFolder:
        return _InFolder(self.reads, tuple((what, fill.at(place)) for what, place in self.opens))


def _in_folder(targets: Targets, host: Host, folder: str) -> _InFolder | None:
    """None where that is not known."""
    walked = targets.walked(host, f"{folder}/")
    if walked.unseen or walked.entry is None:
        return None
    options, override = walked.settings.options, walked.settings.override
    opens: list[tuple[str, Place]] = []
    if options is not None and options.place is not None:
        if options.bits & Opt.INDEXES:
            opens.append(("listings", options.place))
        if options.bits & Opt.INCLUDES:
            opens.append(("server-side includes", options.place))
    if override is not None and override.classes and override.place is not None:
        opens.append(("override files", override.place))
    return _InFolder(asks_for(override, walked.settings.override_list), tuple(opens))


def _doubles(path: str, host: Host) -> bool:
    """Whether slashes stand in a row, where that is not mended: patterns see them then."""
    return "//" in path or (host.settings.slashes == "on" and "%2f" in path.lower())


# What keeps out whoever walks to the folder.
_ON_THE_WALK = (codes.LADDER_SHUT, codes.LADDER_LINK_PROTECTED, codes.RULE_OVERRIDE_CLOSED)


def _walked_by_another(handling: Handling, host: Host, worker: Subject | None) -> None:
    """Where a module serves each host as some account, the master walks to the folder, and nothing
    keeps it out; only what is opened at the end, and what the server asks itself, is that
    account's. Measured.
    """
    blocks = (*handling.ladder.blocks, *handling.rule.blocks)
    if not any(block.code in _ON_THE_WALK for block in blocks):
        return
    proofs = (proof_of(host.account_line),) if host.account_line else ()
    facts = {"worker": worker.name if worker else ""}
    doubt = Doubt(codes.LADDER_WALKED_BY_ANOTHER, Rank(Phase.ENTRY, 1), facts, proofs)
    handling.ladder.doubts.append(doubt)


def _end_of(host: Host) -> Place:
    """Where the last line of a block stands."""
    directive = host.directive
    while directive is not None and directive.children:
        directive = directive.children[-1]
    return directive.place if directive is not None else host.place


def _host_proof(host: Host) -> Proof:
    directive = host.directive or host.name_line
    return proof_of(directive) if directive else Proof(place=host.place)
