"""What nginx does with a request, from the server that answers to the log that gets the line.

Source: nginx, "How nginx processes a request", "Development guide: HTTP phases"; measured.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property

from ecumen import codes
from ecumen.contexts.confinement import Confinement
from ecumen.engines.breaks import Break, ReadingOrder, breaks_of
from ecumen.engines.confined import confined_walker
from ecumen.engines.draft import SiteDraft
from ecumen.engines.nginx.checks import first_fault
from ecumen.engines.nginx.choice import Chooser, Chosen, Doorway
from ecumen.engines.nginx.config import Conf
from ecumen.engines.nginx.disk import Disk
from ecumen.engines.nginx.errorlog import error_entry
from ecumen.engines.nginx.hosting import folders_unled, sites_in_folders
from ecumen.engines.nginx.hostname import read_host
from ecumen.engines.nginx.lexer import Line
from ecumen.engines.nginx.run import Run, proof
from ecumen.engines.nginx.seals import asks_for_certificates, pairs_of
from ecumen.engines.nginx.server import Server, Whole, binding, load
from ecumen.engines.nginx.short import ShortAnswers
from ecumen.engines.nginx.uri import Address, read_path
from ecumen.engines.nginx.wants import NginxWants
from ecumen.engines.nginx.writing import (
    leading_over,
    reopened,
    seen_by_of,
    site_text,
    with_names,
)
from ecumen.engines.owners import name_owners
from ecumen.engines.releases import BLANKS, CONNECT, doubts
from ecumen.engines.short import Question, Short
from ecumen.engines.sites import (
    AccessPattern,
    Answer,
    Arrival,
    Binding,
    Block,
    Door,
    Doubt,
    Handling,
    LogKeeping,
    Named,
    Part,
    PersonalGround,
    Phase,
    Proof,
    Rank,
    SealPair,
    SiteSummary,
    before_answer,
)
from ecumen.engines.source import SurveySource
from ecumen.engines.tree import Place
from ecumen.logs.errorlog import ErrorEntry
from ecumen.logs.template import COMBINED
from ecumen.rights import Subject, subject_of
from ecumen.survey import EngineRecord, Survey

_METHOD = re.compile(r"[A-Z_-]+\Z")
LONGEST_LINE = 8192  # bytes of a request line that fit into the usual buffers


class NginxEngine:
    """One nginx of a survey."""

    kind = "nginx"
    programs: tuple[str, ...] = ("nginx",)
    error_type = "text/html"
    listens_by_site = True
    wildcard = "0.0.0.0"
    upstream_fails = 502
    wants = NginxWants
    source: SurveySource
    confinement: Confinement
    chooser: Chooser

    def __init__(
        self,
        survey: Survey,
        record: EngineRecord,
        before: NginxEngine | None = None,
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
        self.whole: Whole = load(self.source, record, before.whole if before is not None else None)
        self.chooser = Chooser(self.whole, before.chooser if before is not None else None)
        self.worker = self._worker()
        self.disk = (
            Disk(confined_walker(self.confinement, record, self.worker)) if self.worker else None
        )

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

    def renewed(self, survey: Survey) -> NginxEngine:
        """The same engine on a change of its survey."""
        return NginxEngine(survey, self.record, self)

    override_names: Collection[str] = ()

    def unchanged(self, before: object) -> Mapping[int, int]:
        """Servers that were taken over."""
        if not isinstance(before, NginxEngine) or self.breaks or before.breaks:
            return {}
        if self.whole.bearing_on_all != before.whole.bearing_on_all:
            return {}
        known = {id(server): number for number, server in enumerate(before.whole.servers)}
        servers = enumerate(self.whole.servers)
        return {number: known[id(server)] for number, server in servers if id(server) in known}

    def answers_alike(self, before: object, address: str, port: int, name: str) -> bool:
        if not isinstance(before, NginxEngine):
            return False
        found = self._led_to(address, port, name)
        return found is not None and found == before._led_to(address, port, name)

    def _led_to(self, address: str, port: int, name: str) -> tuple[bool, int] | None:
        """Whether TLS is spoken, and which server answers; None where that is in doubt."""
        door, host = self.chooser.door(address, port), read_host(name)
        if door is None or host is None:
            return None
        server, _, hit, unknown = door.by_name(host)
        if hit is not None or unknown is not None:
            return None
        return door.sealed, id(server or door.standing)

    @cached_property
    def listens(self) -> Sequence[Binding]:
        """Addresses and ports that it is told to listen on."""
        return self.whole.listens

    @cached_property
    def breaks(self) -> Sequence[Break]:
        return breaks_of(self.record, self.whole.mistakes, first_fault)

    @cached_property
    def _doubts(self) -> list[Doubt]:
        """What bears on every request."""
        return [*self.whole.doubts, *(each.doubt() for each in self.breaks)]

    def _worker(self) -> Subject | None:
        name, group = self.whole.user, self.whole.group
        known = self.survey.group_by_name.get(group) if group is not None else None
        if group is not None and known is None:
            return None
        subject = subject_of(self.survey, name, known.gid if known else None)
        if subject is None or known is not None:
            return subject
        # Without a group of its own the worker takes the one that has the account's name.
        named = self.survey.group_by_name.get(name)
        return subject_of(self.survey, name, named.gid) if named else subject

    def worker_of(self, site: Place) -> Subject | None:
        """The account that serves a site: one for all."""
        return self.worker

    def meets(self, walked: str | None, handling: Handling) -> Rank:
        """Nothing is met before the file is opened."""
        return before_answer(handling.serve.answer)

    def extent(self, lines: Sequence[str]) -> int:
        """Up to where the braces close."""
        deep, opened = 0, False
        for number, line in enumerate(lines, 1):
            code = line.partition("#")[0]
            deep += code.count("{") - code.count("}")
            opened = opened or "{" in code
            if opened and deep <= 0:
                return number
        return len(lines)

    # --- sites ---

    @property
    def blocks(self) -> int:
        """The servers."""
        return len(self.whole.servers)

    def sites_of(self, number: int) -> Sequence[SiteSummary]:
        """A server, in file order, with its folders that are sites."""
        server = self.whole.servers[number]
        base = self._summary(server)
        if self.breaks:
            behind = self._reading_order.behind(base.place, _end_of(server.line), self.breaks[0])
            base = replace(base, behind=behind)
        return [base, *self._in_folders(server, base)]

    @cached_property
    def _reading_order(self) -> ReadingOrder:
        reading = self.whole.reading
        return ReadingOrder(reading.files, reading.included, reading.cut)

    def _in_folders(self, server: Server, base: SiteSummary) -> Iterator[SiteSummary]:
        if server.conf.root.path.constant:
            return
        door = self.chooser.door(base.address, base.port)
        if door is None:
            return
        yield from sites_in_folders(
            self.survey, self.whole, server, base, lambda name: door.by_name(name)[::2]
        )

    def unled(self) -> Iterator[tuple[Place, str]]:
        """Folders in which sites lie by their names, and to which none leads."""
        for server in self.whole.servers:
            for folder in folders_unled(self.survey, server):
                yield server.place, folder

    def _summary(self, server: Server) -> SiteSummary:
        bindings = [binding(listen) for listen in server.listens]
        heard = next((b for b in bindings if b.port is not None), bindings[0])
        names = tuple(name for name in server.names if name)
        asked = next((n for n in names if n != "_" and "*" not in n and not n.startswith(".")), "")
        address = self._address(heard)
        literal = f"[{address}]" if ":" in address else address
        root = server.conf.root.path
        return SiteSummary(
            name=server.label,
            place=server.place,
            bindings=tuple(str(each) for each in bindings),
            names=names,
            root=root.source if root.constant else None,
            address=address,
            port=heard.port or 80,
            asked_as=asked or literal,
            sealed=all(listen.sealed for listen in server.listens),
            doors=tuple(
                Door(
                    "*" if each.address == "::" and not each.only_v6 else each.address,
                    each.port,
                    each.line.place if each.line else server.place,
                    each.sealed,
                    each.default,
                )
                for each in server.listens
                if each.port is not None
            ),
            claims=tuple(_claims(server)),
            index=tuple(name.source for name, _ in server.conf.index if name.constant),
            log=next((g.path for g in server.conf.logs if g.path and not g.condition), None),
            kept=self._kept(server),
            errors=server.conf.errors,
        )

    def _kept(self, server: Server) -> LogKeeping | None:
        log = next((g for g in server.conf.logs if g.path and not g.condition), None)
        if log is None or log.line is None:
            return None
        named = [word for word in log.line.args[1:] if "=" not in word]
        form = named[0] if named else "combined"
        template = COMBINED if form == "combined" else self.whole.formats.get(form, "")
        own = any(child.place == log.line.place for child in server.line.children or ())
        return LogKeeping(Proof(place=log.line.place, text=log.line.quoted), template, own)

    def _address(self, bound: Binding) -> str:
        if bound.address != "*" and not bound.address.startswith("unix:"):
            return bound.address
        return self.survey.outside_address

    def personal(self) -> Sequence[PersonalGround]:
        """None: this engine has no personal sites of its own."""
        return ()

    def claims(self, arrival: Arrival) -> bool:
        """Whether a site here claims the name that is asked for, on this address and port."""
        host = read_host(arrival.host) if arrival.host is not None else None
        if not host:
            return False
        chosen = self.chooser.choose(arrival.address, arrival.port, host, refused=False)
        return chosen is not None and chosen.ground == codes.SITE_NAMED

    # --- one request ---

    def answers(self, address: str, port: int, name: str) -> Place | None:
        """Where the site is declared that answers a name on an address and port."""
        door = self.chooser.door(address, port)
        if door is None:
            return None
        return (door.by_name(read_host(name) or "")[0] or door.standing).place

    @property
    def files(self) -> Sequence[str]:
        return self.whole.reading.files

    @property
    def missing(self) -> Mapping[str, Place]:
        """None: it does not start where a file is missing that an include names."""
        return {}

    @staticmethod
    def error_entry(line: bytes) -> ErrorEntry | None:
        return error_entry(line)

    def usual_type(self, ending: str) -> str | None:
        """The content type that a file-name ending has, where no site says otherwise."""
        server = next(iter(self.whole.servers), None)
        return server.conf.types.get(ending) if server is not None else None

    def reads_override(self, site: Place, folder: str) -> bool | None:
        """Never: this engine has no such files."""
        return False

    @cached_property
    def _server_at(self) -> dict[Place, Server]:
        return {server.place: server for server in reversed(self.whole.servers)}

    def access_patterns(self) -> Iterable[AccessPattern]:
        """None: what cannot be matched is an error here, and nobody is let in."""
        return ()

    def opens(self, site: Place, folder: str) -> Iterator[tuple[str, Place]]:
        """What a site opens in a folder that few need: listings, where they are on for all."""
        server = self._server_at.get(site)
        if server is None:
            return
        for line in server.line.children or ():
            if line.name == "autoindex" and line.args == ("on",):
                yield "listings", line.place

    def seal(self, arrival: Arrival) -> Part:
        """The door speaks TLS or does not; the name in the greeting chooses the certificate."""
        name = read_host(arrival.server_name) if arrival.server_name else None
        refused = name is None
        chosen = self.chooser.choose(arrival.address, arrival.port, name, refused=refused)
        rank = Rank(Phase.REACH, 2)
        if chosen is None:
            return Part(codes.PASSAGE_NOT_REACHED)
        shown = chosen.server
        door = self.chooser.door(arrival.address, arrival.port)
        if not self.seals_of(shown.place) and door is not None:
            # What has none of its own is shown with that of the socket's default (measured).
            shown = door.standing
        declared = shown.place
        part = Part(codes.SEAL_SPOKEN, {"site": shown.label, "declared": declared})
        part.proofs = list(proof(shown.line))
        if not chosen.sealed:
            part.blocks.append(
                Block(codes.SEAL_NOT_SPOKEN, rank, None, {}, proof(chosen.server.line))
            )
        elif chosen.server.refuses_handshake:
            facts = {"site": chosen.server.label}
            part.blocks.append(
                Block(codes.SEAL_REJECTED, rank, None, facts, proof(chosen.server.line))
            )
        return part

    def seals_of(self, site: Place) -> Sequence[SealPair]:
        """The certificates that a server has, each with its key."""
        server = self._server_at.get(site)
        folder = posixpath.dirname(self.record.config)
        return () if server is None else pairs_of(self.whole, server, folder)

    @cached_property
    def _short(self) -> ShortAnswers | None:
        if self.disk is None or self._doubts:
            return None
        return ShortAnswers(self.chooser, self.disk.walker)

    def shortly(self, asked: Question) -> Short | None:
        """What comes of a plain request; None where it is not plain."""
        return self._short.answer(asked) if self._short is not None else None

    def _greeted(self, arrival: Arrival, door: Doorway) -> Server:
        """The server in force until the Host header is read."""
        name = read_host(arrival.server_name) if arrival.sealed and arrival.server_name else None
        return (door.by_name(name)[0] if name else None) or door.standing

    def handle(self, arrival: Arrival) -> Handling:
        """Everything that happens to a request that arrived here."""
        host = read_host(arrival.host) if arrival.host is not None else ""
        door = self.chooser.door(arrival.address, arrival.port)
        # The path is read before the Host header is, as the server would have it that the name in
        # the greeting has chosen.
        merges = door is None or self._greeted(arrival, door).merge_slashes
        address = read_path(arrival.path, merge_slashes=merges)
        early = host is None or not address.valid or not _METHOD.match(arrival.method)
        # A TLS greeting where plain HTTP is spoken is taken for a malformed request.
        early = early or (arrival.sealed and door is not None and not door.sealed)
        if early and arrival.sealed and door is not None and door.sealed:
            # Until the Host header is read, the name in the greeting has chosen (measured).
            greeted = read_host(arrival.server_name) if arrival.server_name else None
            chosen = self.chooser.choose(
                arrival.address, arrival.port, greeted, refused=greeted is None
            )
        else:
            chosen = self.chooser.choose(arrival.address, arrival.port, host, refused=early)
        if chosen is None:
            return self._nobody()
        refused: Block | None = None
        if not early:
            chosen, refused = self._misdirected(arrival, chosen, host or "", door)
        server = chosen.server
        site = Part(chosen.ground, dict(chosen.facts) | {"site": server.label})
        handling = Handling.begun(server.label, server.place, site, Part(codes.RECORD_LOG))
        handling.way.facts["address"] = address.path
        site.picture = list(chosen.claims)
        site.proofs = list(proof(server.line))
        site.doubts += [*self._doubts, *chosen.doubts]
        if self._refused(arrival, chosen, host, early, handling, address, refused):
            return self._ended(handling, server.conf)
        if self.disk is None:
            facts = {"worker": self.whole.user}
            handling.ladder.doubts.append(Doubt(codes.LADDER_NO_WORKER, Rank(Phase.ENTRY), facts))
            return self._ended(handling, server.conf)
        run = Run(
            self.survey, self.whole, self.disk, server, arrival, host or "", address, handling
        )
        if chosen.hit is not None:
            run.state.captured(chosen.hit)
        run.go()
        conf = run.finish()
        name_owners(handling, self.survey, self.worker)
        return self._ended(handling, conf)

    def _refused(
        self,
        arrival: Arrival,
        chosen: Chosen,
        host: str | None,
        early: bool,
        handling: Handling,
        address: Address,
        refused: Block | None = None,
    ) -> bool:
        """Whether the request fails before any rule is asked. refused: why, where that is known."""
        start = Rank(Phase.ENTRY)
        site, conf = handling.site, chosen.server.conf
        facts = {"method": arrival.method, "host": arrival.host or ""}
        block = refused
        if arrival.sealed and not chosen.sealed:
            for other in (handling.way, handling.rule, handling.ladder, handling.serve):
                other.code = codes.PASSAGE_NOT_REACHED
            return True
        if block is not None:
            pass
        elif early:
            code = codes.SITE_BAD_HOST if host is None else codes.SITE_BAD_REQUEST
            block = Block(code, start, 400, facts)
        elif chosen.sealed and not arrival.sealed:
            block = Block(codes.SEAL_PLAIN, start, 400, facts, proof(chosen.server.line))
        elif arrival.host is None:
            block = Block(codes.SITE_NO_HOST, start, 400, facts)
        elif arrival.sealed and (lacking := self._lacks_certificate(chosen)):
            block = lacking
        elif arrival.method in ("TRACE", "CONNECT"):
            block = Block(codes.SITE_BAD_METHOD, start, 405, facts)
        if arrival.method == "CONNECT":
            site.doubts += doubts(codes.SITE_RELEASE, self.record.version, CONNECT, start)
        if early and any(char <= " " or char == "\x7f" for char in arrival.path):
            site.doubts += doubts(codes.SITE_RELEASE, self.record.version, BLANKS, start)
        if len(arrival.path) + len(arrival.query or "") + 20 > LONGEST_LINE:
            site.doubts.append(Doubt(codes.SITE_LONG_LINE, start))
        if block is None:
            return False
        status = block.status or 400
        own = _OWN_NUMBERS.get(block.code)
        page = conf.error_pages.get(own or status)
        shown: Answer | None = None
        if page is not None and own is not None and self.disk is not None:
            # The request was read to its end, so that its page is found as any other.
            run = Run(
                self.survey, self.whole, self.disk, chosen.server, arrival, host or "", address,
                handling,
            )  # fmt: skip
            shown, _ = run.page_of(replace(block, status=own), own, handling)
            if shown is not None and shown.status == own:
                shown = replace(shown, status=status)
        elif page is not None:
            more = {"status": status, "page": page.page.source}
            site_doubt = Doubt(codes.SERVE_ERROR_PAGE, start, more, proof(page.line))
            handling.serve.doubts.append(site_doubt)
        kind = "text/html"
        if conf.charset and kind in conf.charset_types:
            kind = f"{kind}; charset={conf.charset}"
        block = replace(block, page=shown or Answer(status, start, kind))
        part = handling.site
        part.blocks.append(block)
        for other in (handling.way, handling.rule, handling.ladder, handling.serve):
            other.code = codes.PASSAGE_NOT_REACHED
        return True

    def _misdirected(
        self, arrival: Arrival, chosen: Chosen, host: str, door: Doorway | None
    ) -> tuple[Chosen, Block | None]:
        """Whoever was greeted as another site's visitor may not ask for one that asks for
        certificates, and is refused by the site that greeted; who was greeted by no site's name
        may (ngx_http_set_virtual_server).
        """
        line = asks_for_certificates(self.whole, chosen.server) if arrival.sealed else None
        greeted = read_host(arrival.server_name) if arrival.server_name else None
        if line is None or door is None or greeted is None or greeted == host:
            return chosen, None
        shown = self.chooser.choose(arrival.address, arrival.port, greeted, refused=False)
        if shown is None or door.by_name(greeted)[0] is None:
            return chosen, None
        facts = {"site": chosen.server.label, "greeted": greeted}
        return shown, Block(codes.SITE_MISDIRECTED, Rank(Phase.ENTRY), 421, facts, proof(line))

    def _lacks_certificate(self, chosen: Chosen) -> Block | None:
        """A visitor has none."""
        line = asks_for_certificates(self.whole, chosen.server)
        if line is None or line.args[0] != "on":
            return None
        facts = {"site": chosen.server.label}
        return Block(codes.SEAL_NO_CERTIFICATE, Rank(Phase.ENTRY), 400, facts, proof(line))

    def _ended(self, handling: Handling, conf: Conf) -> Handling:
        part = handling.record
        logs = [log for log in conf.logs if log.path is not None]
        certain = [log for log in logs if not log.condition and "$" not in (log.path or "")]
        part.proofs = [each for log in logs for each in proof(log.line)]
        if not logs:
            part.code = codes.RECORD_NOWHERE
        elif not certain:
            rank = Rank(Phase.CONTENT)
            doubt = Doubt(codes.RECORD_CONDITIONAL, rank, {}, tuple(part.proofs), only_type=True)
            part.doubts.append(doubt)
        handling.log = certain[0].path if certain else None
        part.facts["log"] = handling.log or ""
        return handling

    def _nobody(self) -> Handling:
        place = Place(self.record.config, 1)
        off = codes.PASSAGE_NOT_REACHED
        handling = Handling(
            "nginx", place, Part(codes.SITE_NOBODY), Part(off), Part(off), Part(off), Part(off),
            Part(off),
        )  # fmt: skip
        handling.site.doubts.append(Doubt(codes.SITE_NOBODY, Rank(Phase.ENTRY)))
        return handling


# The engine's own numbers for plain HTTP at a door of TLS, and for a client without a certificate;
# visitors get 400 (ngx_http_request.c).
_OWN_NUMBERS = {codes.SEAL_PLAIN: 497, codes.SEAL_NO_CERTIFICATE: 496}


def _claims(server: Server) -> Iterator[Named]:
    for line in server.line.children or ():
        if line.name == "server_name":
            for name in line.args:
                exact = not (name.startswith(("~", ".")) or "*" in name)
                if name not in ("", "_"):
                    yield Named(name.lower(), line.place, exact)


def _end_of(line: Line) -> Place:
    """Where the last line of a block stands."""
    while line.children:
        line = line.children[-1]
    return line.place
