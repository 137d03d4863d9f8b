"""One request through the phases of the server: rules of the server, the location, its rules, who
may, what is tried, what goes out; and begun anew wherever one of these leads to another address.

Source: nginx, "Development guide: HTTP phases", ngx_http_core_module, ngx_http_rewrite_module,
ngx_http_try_files_module, ngx_http_index_module, ngx_http_autoindex_module; measured.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import replace

from ecumen import codes
from ecumen.codes import Code, ContentType, Facts
from ecumen.engines.lifetimes import by_header, guessed, shortly, stated
from ecumen.engines.nginx import config
from ecumen.engines.nginx.config import Conf, ErrorPage, If, Return, Rewrite, Set
from ecumen.engines.nginx.disk import Disk, Seen
from ecumen.engines.nginx.lexer import Line
from ecumen.engines.nginx.sending import folder_address, own_address
from ecumen.engines.nginx.server import Server, Whole
from ecumen.engines.nginx.texts import Text
from ecumen.engines.nginx.uri import Address, escaped_path, escaped_query, unescaped_redirect
from ecumen.engines.nginx.variables import RequestState
from ecumen.engines.sites import (
    Answer,
    Arrival,
    Block,
    Candidate,
    Contender,
    Doubt,
    Handling,
    Lifetime,
    Mapped,
    Phase,
    Proof,
    Rank,
    RuleLine,
    Weighed,
    not_shown,
    weigh,
)
from ecumen.engines.upstreams import is_closed
from ecumen.patterns import Hit, PatternFailsError, Regex, TooCostly
from ecumen.rights import Problem
from ecumen.rights.walk import join
from ecumen.survey import Entry, Kind, Survey

MOST_CHANGES = 11  # of the address in one request: the eleventh is one too many
Action = Callable[[], "Action | None"]

# What the configuration answers itself, where that has words of its own.
# Listings by their format (ngx_http_autoindex_module.c); jsonp is json without a name to call back.
_LISTED_AS = {
    "json": "application/json",
    "jsonp": "application/json",
    "xml": "text/xml; charset=utf-8",
}
_OF_STATUS = {403: codes.WAY_REFUSED, 410: codes.WAY_GONE}


class NotEvaluated(Exception):  # noqa: N818 - a signal, not an error of ours
    """Something here is beyond what is worked out."""

    def __init__(self, line: Line, what: str) -> None:
        super().__init__(what)
        self.line = line
        self.what = what


def _lets_in(told: Weighed) -> bool:
    status = _status(told)
    return status is not None and 200 <= status < 300


def _status(told: Weighed) -> int | None:
    """The status that goes out."""
    if told.block is not None:
        return told.block.page.status if told.block.page is not None else told.block.status
    return told.answer.status if told.answer is not None else None


def proof(line: Line | None) -> tuple[Proof, ...]:
    return (Proof(place=line.place, text=line.quoted),) if line is not None else ()


class _GivenUp(Exception):  # noqa: N818 - says what is so, like NotEvaluated
    """The engine fails the request here; the block is noted."""


class Run:
    """One request, from the server that answers to the end."""

    def __init__(
        self,
        survey: Survey,
        whole: Whole,
        disk: Disk,
        server: Server,
        arrival: Arrival,
        host: str,
        address: Address,
        handling: Handling,
    ) -> None:
        self.survey = survey
        self.whole = whole
        self.disk = disk
        self.server = server
        self.arrival = arrival
        self.handling = handling
        self.coded = address.coded
        self.state = RequestState(
            arrival, server, whole, host, address.path, arrival.query or "", arrival.method
        )
        self.conf: Conf = server.conf
        self.changes = MOST_CHANGES
        self.changed = self.internal = self.in_error = False
        # Asked by the engine itself, for another request.
        self.aside = False
        self.location_holds = True
        self.from_pattern = False
        self.status: int | None = None
        self.lap = 0
        self.step = 0
        self.done = False
        self.quote = True
        # What holds at each block, for the page of the error.
        self.at: dict[int, Run] = {}

    # --- the way through ---

    def go(self, start: Action | None = None) -> None:
        """Never raises; what is found goes into the handling."""
        action: Action | None = start or self._server_rules
        while action is not None:
            try:
                action = action()
            except _GivenUp:
                action = None
            except NotEvaluated as what:
                facts = {"what": what.what}
                self._doubt(codes.WAY_RULE_UNKNOWN, Phase.MAPPING, facts, *proof(what.line))
                action = None
        way, serve = self.handling.way, self.handling.serve
        if serve.code == codes.SERVE_FILE and "type" not in serve.facts:
            serve.code = codes.PASSAGE_NOT_REACHED
        if "path" not in way.facts and way.answer is None:
            # The request ended before it was led to the disk: say where it would have been led.
            root = self.conf.root.path.source
            way.facts |= {"path": f"{root}{self.state.path}", "alias": self.conf.title}

    def rank(self, phase: int) -> Rank:
        return Rank(phase, self.step).on_lap(self.lap)

    def _doubt(self, code: Code, phase: int, facts: Facts, *proofs: Proof) -> None:
        self.handling.part(code).doubts.append(Doubt(code, self.rank(phase), facts, proofs))

    def _block(
        self, code: Code, phase: int, status: int | None, facts: Facts, *proofs: Proof
    ) -> None:
        self._add(Block(code, self.rank(phase), status, facts, proofs))

    def _add(self, block: Block) -> None:
        part = self.handling.part(block.code)
        if any(b.same == block.same for b in part.blocks):
            return
        part.blocks.append(block)
        then = self.at[id(block)] = copy.copy(self)
        then.state = self.state.copied()

    def _answer(
        self,
        code: Code,
        phase: int,
        status: int,
        kind: str | None,
        location: str | None = None,
        **more: str,
    ) -> None:
        shown = status if self.status is None else self.status
        part = self.handling.part(code)
        part.code = code
        part.facts |= {**more, "type": ContentType(kind or ""), "status": status}
        if location is not None:
            part.facts["location"] = location
        part.answer = Answer(shown, self.rank(phase), kind, location)
        self.done = True

    def _name_unread(self) -> None:
        """Lines that are not evaluated, where the request has come to."""
        for line in self.conf.unread:
            code = codes.WAY_NOT_EVALUATED
            self._doubt(code, Phase.MAPPING, {"directive": line.name}, *proof(line))

    # --- rules ---

    def _server_rules(self) -> Action | None:
        self.conf = self.server.conf
        self._name_unread()
        if self._rules(self.server.conf):
            return None
        return self._find

    def _find(self) -> Action | None:
        self.changed = False
        self.conf = self.server.conf
        found = self.server.locations.find(self.state.path)
        if found.unknown is not None:
            facts = {"pattern": found.unknown.name}
            self._doubt(
                codes.WAY_PATTERN_UNKNOWN, Phase.MAPPING, facts, *proof(found.unknown.conf.line)
            )
        self.handling.way.picture += [
            Contender(loc.title, "won" if loc is found.location else outcome, *proof(loc.conf.line))
            for loc, outcome in found.weighed
        ]
        if found.fails is not None:
            self._gives_up(found.fails.name, *proof(found.fails.conf.line))
            return None
        if found.hit is not None:
            self.state.captured(found.hit)
        location = found.location
        if location is None:
            # No location fits: the server's own lines hold ("location").
            return self._access
        self._enter(location.conf)
        if location.conf.internal and not self.internal:
            lines = proof(location.conf.line)
            self._block(
                codes.WAY_INTERNAL, Phase.MAPPING, 404, {"address": self.state.path}, *lines
            )
            return None
        if found.sent:
            query = f"?{self.state.query}" if self.state.query else ""
            self._sent(301, f"{escaped_path(location.name)}{query}", codes.WAY_SENT)
            return None
        return self._location_rules

    def _enter(self, conf: Conf) -> None:
        self.conf = conf.for_method(self.state.method)
        self._name_unread()

    def _location_rules(self) -> Action | None:
        if self.conf is not self.server.conf and self._rules(self.conf):
            return None
        if not self.changed:
            return self._access
        # An address that rules changed is looked up anew, ten times at most ("rewrite").
        self.changes -= 1
        if self.changes == 0:
            self._loops()
            return None
        self.step += 1
        return self._find

    def _loops(self) -> None:
        self._block(codes.WAY_LOOPS, Phase.MAPPING, 500, {})

    def _rules(self, conf: Conf) -> bool:
        """Runs the rules of a place; whether the request ends with them."""
        self.quote = True
        self._each(conf.rules)
        return self.done

    def _each(self, rules: list[config.Rule]) -> bool:
        """Whether no further rule runs."""
        for rule in rules:
            if isinstance(rule, Return):
                # The first one that is met ends the request, whatever stands behind it.
                self._return(rule)
                return True
            if isinstance(rule, Rewrite):
                if self._rewrite(rule):
                    return True
            elif isinstance(rule, Set):
                self.state.own[rule.name] = self._value(rule.value, rule.line, quoted=self.quote)
            elif isinstance(rule, If):
                if self._holds(rule):
                    # What holds within the condition takes the place of the location's: tries are
                    # gone, root and access are inherited (measured).
                    self._enter(rule.conf)
                    if self._each(rule.conf.rules):
                        return True
            else:
                # `break` ends the rules of this place, and the address is not looked up anew.
                self.changed = False
                return True
        return False

    def _value(self, text: Text, line: Line, *, quoted: bool = False) -> str:
        if text.constant:
            return text.source
        self._on_disk(text)
        if any(piece.name == "invalid_referer" for piece in text.pieces):
            self._refer(line)

        def lookup(name: str) -> str:
            value = self.state.value(name)
            return escaped_query(value) if quoted and self.coded and name.isdecimal() else value

        try:
            return text.value(lookup)
        except LookupError as name:
            raise NotEvaluated(line, f"the variable {name}") from None

    def _refer(self, line: Line) -> None:
        """Works out whether the page that a request says it comes from is taken."""
        given = self.conf.referers
        names = (*self.server.names, *(name for name, _ in self.server.patterns))
        try:
            taken = given is None or given.takes(self.arrival.headers.get("referer"), names)
        except LookupError:
            raise NotEvaluated(line, "the variable invalid_referer") from None
        self.state.own["invalid_referer"] = "" if taken else "1"

    def _on_disk(self, text: Text) -> None:
        """Works out where the address leads, where a text asks for it."""
        if any(p.name in ("request_filename", "document_root") for p in text.pieces):
            self.state.filename = self._path() or ""

    def _return(self, rule: Return) -> None:
        lines = proof(rule.line)
        text = None if rule.text is None else self._value(rule.text, rule.line)
        status = rule.status
        self.done = True
        if status in config.REDIRECTS:
            self._sent(status, text or "", codes.WAY_SENT, rule.line)
        elif status == 444:
            # The engine's own number for closing the connection without an answer ("return").
            self._block(codes.WAY_HUNG_UP, Phase.MAPPING, None, {}, *lines)
        elif status < 400 or text:
            kind = None if (self.status or status) == 204 else self.conf.type_of(self.state.path)
            self.handling.way.proofs += lines
            self.handling.way.picture.append(
                Mapped("status", self.state.path, str(status), lines[0])
            )
            self._answer(codes.WAY_SAID, Phase.MAPPING, status, kind)
        else:
            code = _OF_STATUS.get(status, codes.WAY_STATUS)
            # Numbers of its own for what is wrong with a request; visitors get 400.
            shown = 400 if 494 <= status <= 497 else status
            self._block(code, Phase.MAPPING, shown, {"status": status}, *lines)

    def _rewrite(self, rule: Rewrite) -> bool:
        """Whether no further rule runs."""
        hit = self._search(rule.regex, self.state.path, rule.line, rule.pattern)
        if hit is None:
            # A pattern that does not fit empties the captures of the one before (measured).
            self.state.captures = None
            return False
        self.state.captured(hit)
        # From the first rule that fitted on, values are put in as they are.
        self.quote = False
        before = self.state.path
        if rule.sends:
            made = unescaped_redirect(self._value(rule.path, rule.line, quoted=True))
            if rule.keeps_query and self.state.query:
                made += ("&" if "?" in rule.path.source else "?") + self.state.query
            status = 301 if rule.flag == "permanent" else 302
            self._sent(status, made, codes.WAY_SENT, rule.line)
            return True
        made = self._value(rule.path, rule.line)
        if rule.query is not None:
            query = self._value(rule.query, rule.line, quoted=True)
            keeps = rule.keeps_query and self.state.query
            self.state.query = f"{query}&{self.state.query}" if keeps else query
        elif not rule.keeps_query:
            self.state.query = ""
        after = made + (f"?{self.state.query}" if self.state.query else "")
        self.handling.way.picture.append(Mapped("rewrite", before, after, proof(rule.line)[0]))
        self.handling.way.proofs += proof(rule.line)
        self.handling.way.code = codes.WAY_REWRITTEN
        if not made:
            # "the rewritten URI has a zero length": the request fails.
            self._block(codes.WAY_RULES_FAIL, Phase.MAPPING, 500, {}, *proof(rule.line))
            self.done = True
            return True
        self.state.path = made
        self.internal = True
        if rule.flag == "break":
            # What an alias stands for can no longer be cut off the address.
            self.location_holds, self.changed = False, False
        else:
            self.changed = True
        return rule.flag in ("last", "break")

    def _search(self, regex: Regex | None, text: str, line: Line, pattern: str) -> Hit | None:
        try:
            if regex is None:
                raise TooCostly(pattern)
            return regex.search(text)
        except PatternFailsError:
            self._gives_up(pattern, *proof(line))
            raise _GivenUp from None
        except TooCostly:
            raise NotEvaluated(line, f"the pattern {pattern}") from None

    def _gives_up(self, pattern: str, *proofs: Proof) -> None:
        self._block(codes.WAY_PATTERN_FAILS, Phase.MAPPING, 500, {"pattern": pattern}, *proofs)
        self.done = True

    def _holds(self, rule: If) -> bool:
        left = self._value(rule.left, rule.line, quoted=self.quote)
        operator = rule.operator.lstrip("!")
        negated = rule.operator.startswith("!")
        if rule.operator == "set":
            return left not in ("", "0")
        if operator in ("~", "~*"):
            pattern = rule.right.source if rule.right else ""
            hit = self._search(rule.regex, left, rule.line, pattern)
            if hit is not None:
                self.state.captured(hit)
            else:
                self.state.captures = None
            return (hit is not None) != negated
        if operator == "=":
            # Compared byte by byte, and with case, unlike in maps.
            right = self._value(rule.right, rule.line, quoted=self.quote) if rule.right else ""
            return (left == right) != negated
        if not left.startswith("/"):
            raise NotEvaluated(rule.line, "a relative path")
        seen = self.disk.stat(left, self._links(), self.rank(Phase.MAPPING))
        if seen.doubts:
            raise NotEvaluated(rule.line, f"whether there is {left}")
        entry = seen.entry if not seen.error else None
        return (
            self._is(operator, entry.kind if entry else None, entry.mode if entry else 0) != negated
        )

    def _is(self, operator: str, kind: Kind | None, mode: int) -> bool:
        match operator:
            case "-f":
                return kind is Kind.FILE
            case "-d":
                return kind is Kind.DIR
            case "-e":
                # Nothing but these is there to it (ngx_http_script_file_code; measured).
                return kind in (Kind.FILE, Kind.DIR)
        # The owner's bit, whoever asks; a folder has it too (measured).
        return kind is not None and mode & 0o100 != 0

    # --- sending the visitor on ---

    def _sent(self, status: int, location: str, code: Code, line: Line | None = None) -> None:
        if location.startswith("/") and self.conf.absolute:
            location = self._own_address() + location
        before = self.state.path
        lines = proof(line)
        self.handling.way.picture.append(
            Mapped("sent", before, location, lines[0] if lines else None)
        )
        self.handling.way.proofs += lines
        phase = Phase.MAPPING if code.startswith("way.") else Phase.CONTENT
        self.status = None
        self._answer(code, phase, status, self.conf.canned(status), location=location, path=before)

    def _own_address(self) -> str:
        arrival = self.arrival
        return own_address(
            self.conf,
            sealed=arrival.sealed,
            address=arrival.address,
            port=arrival.port,
            first_name=self.server.first_name,
            host=self.state.host,
        )

    # --- who may ---

    def _access(self) -> Action | None:
        conf = self.conf
        if self.aside:
            # Who may is asked of the request itself alone (ngx_http_core_access_phase).
            return self._before_content
        allowed = conf.allowed(self.arrival.client)
        lines = [p for entry in conf.access for p in proof(entry.line)]
        self._rule_lines(allowed)
        whom = {"client": self.arrival.client or "a visitor from outside"}
        nobody_asks = allowed is None and conf.realm is None and conf.asks is None
        if conf.any_will_do and (allowed or nobody_asks):
            # "satisfy any": one of them suffices.
            return self._before_content
        told = self._told(conf.asks) if conf.asks is not None else None
        if told is not None and conf.any_will_do and told.sure and _lets_in(told):
            return self._before_content
        others = conf.realm is not None or (told is not None and _status(told) != 403)
        if allowed is False and not (conf.any_will_do and others):
            code = codes.RULE_DENIED
            self._block(code, Phase.ACCESS, 403, whom, *lines)
        if conf.realm is not None:
            if self.arrival.signed_in:
                self._doubt(codes.RULE_LOGIN_UNKNOWN, Phase.ACCESS, {}, *proof(conf.realm))
            else:
                self._add(
                    Block(
                        codes.RULE_LOGIN,
                        Rank(Phase.ACCESS, self.step + 1).on_lap(self.lap),
                        401,
                        {},
                        proof(conf.realm),
                    )
                )
        if told is not None and conf.asks is not None:
            self._asked_first(told, conf.asks)
        return self._before_content

    def _told(self, asks: Line) -> Weighed:
        """What comes of the address that says whether a visitor may (auth_request)."""
        run = copy.copy(self)
        run.state = self.state.copied()
        run.state.main_method, run.state.method = self.state.method, "GET"
        run.at, run.done, run.aside, run.in_error = {}, False, True, False
        run.changes = MOST_CHANGES + 1
        run.handling = Handling.begun("", self.server.place)
        path, _, query = asks.args[0].partition("?")
        run.go(lambda: run._again(path, query))
        run.finish()
        return weigh(run.handling.course)

    def _asked_first(self, told: Weighed, asks: Line) -> None:
        """2xx lets go on; 401 and 403 are passed on, and all else is a failure of the engine."""
        page, status = asks.args[0], _status(told)
        rank = Rank(Phase.ACCESS, self.step + 2).on_lap(self.lap)
        facts = {"page": page, "status": status}
        if not told.sure or status is None:
            self.handling.rule.doubts.append(
                Doubt(codes.RULE_ASKED_UNKNOWN, rank, facts, proof(asks))
            )
        elif status in (401, 403):
            self._add(Block(codes.RULE_ASKED_REFUSES, rank, status, facts, proof(asks)))
        elif not 200 <= status < 300:
            self._add(Block(codes.RULE_ASKED_FAILS, rank, 500, facts, proof(asks)))

    def _rule_lines(self, allowed: bool | None) -> None:
        conf = self.conf
        lines = [p for entry in conf.access for p in proof(entry.line)] + list(proof(conf.realm))
        part = self.handling.rule
        part.picture, part.proofs = [], lines
        part.code = codes.RULE_GRANTED if lines else codes.RULE_OPEN
        if lines:
            outcome = "denied" if allowed is False else "granted"
            if conf.realm is not None and allowed is not False:
                outcome = "login"
            line = proof(conf.line)
            part.picture.append(
                RuleLine(conf.title, line[0] if line else None, tuple(lines), True, outcome)
            )

    # --- what is tried, and what goes out ---

    def _path(self) -> str | None:
        """Where the address leads on disk; None where the server cannot tell and fails."""
        root = self.conf.root
        if root.alias is not None and not self.location_holds:
            return None
        line = root.line or Line("root", (), "", 0)
        path = root.path.source if root.path.constant else self._value(root.path, line)
        if not root.path.constant and not path.startswith("/"):
            raise NotEvaluated(line, "a root that is no absolute path")
        self.state.root = path
        if root.alias == -1:
            return path + (self.state.path if self.from_pattern else "")
        return path + root.behind(self.state.path)

    def _before_content(self) -> Action | None:
        tries = self.conf.tries
        if tries is None:
            return self._content
        root = self._path()
        if root is None:
            return self._cannot_tell()
        base = self.state.root
        closed: tuple[Seen, str] | None = None
        lines = proof(tries.line)
        for text, folder in tries.tries:
            name = self.conf.root.tried(self._value(text, tries.line), self.state.path)
            path = base + name
            seen = self.disk.stat(path, self._links(), self.rank(Phase.RULES))
            self._doubts_of(seen)
            wanted = seen.entry is not None and (seen.entry.kind is Kind.DIR) == folder
            outcome = "blocked" if wanted and seen.error else "served" if wanted else "missing"
            self.handling.serve.picture.append(Candidate(name or "/", path, outcome, seen.entry))
            # What nobody keeps shut and cannot be opened all the same (a socket) is none there.
            if wanted and seen.error and seen.shut and closed is None:
                closed = (seen, name)
            if wanted and not seen.error:
                return self._tried(name, folder, lines[0])
        if tries.code is not None and closed is not None:
            return self._closed_try(closed[0], tries.code, closed[1])
        if tries.code is not None:
            self._missing_try(tries.code, lines)
            return None
        return self._last_try(tries, lines[0])

    def _closed_try(self, seen: Seen, code: int, name: str) -> Action | None:
        """Something is there but shut, so that the server takes it for missing."""
        for block in seen.shut:
            self._add(replace(block, status=code, rank=self.rank(Phase.RULES)))
        return self._tried(name, False, None)

    def _tried(self, name: str, folder: bool, line: Proof | None) -> Action:
        before, root = self.state.path, self.conf.root
        self.state.path = root.found(name, before, folder=folder)
        self.from_pattern = self.from_pattern or (root.alias == -1 and not folder)
        if self.state.path != before and line is not None:
            self.handling.way.picture.append(Mapped("tried", before, self.state.path, line))
        return self._content

    def _missing_try(self, code: int, lines: tuple[Proof, ...]) -> None:
        facts = {"path": self._path() or self.state.path}
        if code == 404:
            self._block(codes.SERVE_MISSING, Phase.RULES, 404, facts, *lines)
        elif code == 444:
            self._block(codes.WAY_HUNG_UP, Phase.RULES, None, {}, *lines)
        elif code >= 400:
            self._block(codes.WAY_STATUS, Phase.RULES, code, {"status": code}, *lines)
        else:
            self._answer(codes.WAY_SAID, Phase.RULES, code, self.conf.canned(code))

    def _last_try(self, tries: config.TryFiles, line: Proof) -> Action | None:
        last = self._value(tries.last, tries.line)
        self.handling.way.picture.append(Mapped("tried-last", self.state.path, last, line))
        self.handling.way.proofs.append(line)
        if last.startswith("@"):
            return self._named(last, tries.line)
        path, mark, query = last.partition("?")
        return self._again(path, query if mark else "")

    def _again(self, path: str, query: str) -> Action | None:
        """The server begins anew with another address."""
        self.changes -= 1
        if self.changes == 0:
            self._loops()
            return None
        self.state.path, self.state.query = path, query
        self.internal, self.location_holds, self.from_pattern = True, True, False
        self.lap += 1
        self.step = 0
        return self._server_rules

    def _named(self, name: str, line: Line) -> Action | None:
        self.changes -= 1
        location = self.server.locations.named.get(name)
        if self.changes == 0 or location is None:
            facts = {"name": name}
            self._block(codes.WAY_NO_SUCH_PLACE, Phase.RULES, 500, facts, *proof(line))
            return None
        self.internal, self.changed = True, False
        self.lap += 1
        self.step = 0
        self.handling.way.picture.append(
            Contender(location.title, "won", *proof(location.conf.line))
        )
        self._enter(location.conf)
        return self._location_rules

    def _cannot_tell(self) -> Action | None:
        facts = {"address": self.state.path}
        self._block(
            codes.WAY_ALIAS_REWRITTEN, Phase.CONTENT, 500, facts, *proof(self.conf.root.line)
        )
        return None

    def _content(self) -> Action | None:
        # What makes content takes the place of files, index and listing.
        if self.conf.maker is not None:
            self._made(self.conf.maker)
            return None
        if self.conf.upstream is not None:
            self._handed(self.conf.upstream)
            return None
        path = self._path()
        # Others are refused before anything is looked at on the disk, or the path is put together
        # at all (measured).
        plain = self.state.method in ("GET", "HEAD", "POST")
        if path is None:
            if plain:
                return self._cannot_tell()
            self._method(self.state.path)
            return None
        self._note_path(path)
        if self.state.path.endswith("/"):
            if plain:
                return self._index(path)
            self._method(path)
            return None
        if not plain:
            self._method(path)
            return None
        return self._static(path)

    def _note_path(self, path: str) -> None:
        root, way = self.conf.root, self.handling.way
        lines = proof(root.line)
        how = "alias" if root.alias is not None else "root"
        way.picture.append(Mapped(how, self.state.path, path, lines[0] if lines else None))
        way.proofs += lines
        way.facts |= {"path": path, "root": self.state.root, "alias": self.conf.title}
        if way.code in (codes.WAY_ROOT, codes.WAY_ALIAS):
            way.code = codes.WAY_ROOT if root.alias is None else codes.WAY_ALIAS
        self.handling.serve.facts["path"] = path

    def _method(self, path: str) -> None:
        facts = {"method": self.state.method, "path": path}
        self._block(codes.SERVE_METHOD, Phase.CONTENT, 405, facts)

    def _made(self, line: Line) -> None:
        facts = {"method": self.state.method, "path": self.state.path}
        if self.state.method not in ("GET", "HEAD"):
            self._block(codes.SERVE_METHOD, Phase.CONTENT, 405, facts, *proof(line))
            return
        kind = "image/gif" if line.name == "empty_gif" else self.conf.with_charset("text/plain")
        self._answer(codes.SERVE_STATUS_PAGE, Phase.CONTENT, 200, kind)

    def _handed(self, upstream: config.Upstream) -> None:
        url = self._value(upstream.target, upstream.line)
        self.handling.upstream = url
        way = self.handling.way
        way.code = codes.WAY_UPSTREAM
        way.facts["upstream"] = url
        way.proofs += proof(upstream.line)
        way.picture.append(Mapped("upstream", self.state.path, url, *proof(upstream.line)))
        for part in (self.handling.ladder, self.handling.serve):
            part.code = codes.PASSAGE_NOT_REACHED
        if self._nobody(url):
            self._block(
                codes.WAY_UPSTREAM_CLOSED,
                Phase.CONTENT,
                502,
                {"upstream": url},
                *proof(upstream.line),
            )
            return
        facts = {"upstream": url}
        self._doubt(codes.WAY_UPSTREAM_ANSWERS, Phase.CONTENT, facts, *proof(upstream.line))

    def _nobody(self, url: str) -> bool:
        where = url.partition("://")[2] or url
        block = self.whole.upstreams.get(where.partition("/")[0])
        if block is not None:
            servers = [c.args[0] for c in block.children or () if c.name == "server" and c.args]
            return bool(servers) and all(self._nobody(server) for server in servers)
        if where.startswith("unix:"):
            path = where[5:].partition(":")[0]
            seen = self.disk.stat(path, (), self.rank(Phase.CONTENT))
            return not seen.doubts and seen.error == "ENOENT"
        return is_closed(self.survey, url)

    # --- files and folders ---

    def _links(self) -> tuple[str, ...]:
        """How links are judged here; from where on may be told by the root."""
        links, root = self.conf.links, self.conf.root
        if len(links) == 2 and root.path.constant:
            return (links[0], links[1].replace("$document_root", root.path.source))
        return links

    def _doubts_of(self, seen: Seen) -> None:
        self.handling.ladder.doubts += seen.doubts

    def _climbed(self, seen: Seen) -> None:
        """Shows the steps that were taken, and what is shut on them."""
        self._doubts_of(seen)
        picture = self.handling.ladder.picture
        picture += not_shown((rung for rung in seen.rungs if rung.need != "r"), picture)
        picture += [rung for rung in seen.rungs if rung.need == "r"]
        for block in seen.shut:
            self._add(block)

    def _index(self, folder: str) -> Action | None:
        tested = False
        for number, (text, line) in enumerate(self.conf.index):
            name = self._value(text, line)
            self.handling.serve.facts["index_line"] = line.place
            if name.startswith("/"):
                # Nobody looks whether it is there: the request goes on with it ("index").
                self._candidates(number, "served", name, name, None)
                return self._again(name, self.state.query)
            path = folder + name
            seen = self.disk.stat(path, self._links(), self.rank(Phase.FOLDER))
            if seen.shut:
                self._climbed(seen)
            self._doubts_of(seen)
            error = seen.beyond
            if error in ("ENOTDIR", "ENAMETOOLONG"):
                self._block(codes.SERVE_MISSING, Phase.FOLDER, 404, {"path": path})
                return None
            if error == "ELOOP":
                facts = {"path": path, "target": ""}
                self._block(codes.LADDER_LINK_LOOP, Phase.FOLDER, 403, facts)
                return None
            if seen.entry is not None and seen.entry.kind is Kind.SOCKET and self._links():
                # Where links are judged it is opened to be looked at, which fails (ENXIO).
                more = {"kind": seen.entry.kind.value, "path": path}
                self._block(codes.SERVE_NO_FILE, Phase.FOLDER, 500, more, Proof(entry=seen.entry))
                return None
            if seen.entry is not None:
                self._candidates(number, "served", name, path, seen)
                self.handling.serve.facts["index"] = name
                return self._again(self.state.path + name, self.state.query)
            self.handling.serve.picture.append(Candidate(name, path, "missing", None))
            # Once the first name is missing the folder itself is looked at, and only then.
            if not tested and not self._is_folder(folder):
                return None
            tested = True
        return self._listing(folder)

    def _candidates(
        self, number: int, outcome: str, name: str, path: str, seen: Seen | None
    ) -> None:
        picture = self.handling.serve.picture
        picture.append(Candidate(name, path, outcome, seen.entry if seen else None))
        for text, _ in self.conf.index[number + 1 :]:
            behind = path.removesuffix(name) + text.source
            entry = self.survey.files.get(behind)
            state = "outranked" if entry is not None else "not-tried"
            picture.append(Candidate(text.source, behind, state, entry))

    def _is_folder(self, folder: str) -> bool:
        """Once an index was not there: whether the folder itself is."""
        seen = self.disk.stat(folder.rstrip("/") or "/", self._links(), self.rank(Phase.FOLDER))
        if seen.entry is None and seen.beyond:
            self._climbed(seen)
            self._block(codes.SERVE_MISSING, Phase.FOLDER, 404, {"path": folder})
            return False
        if seen.entry is not None and seen.entry.kind is not Kind.DIR:
            facts = {"path": folder, "kind": seen.entry.kind.value}
            self._block(codes.SERVE_NO_FOLDER, Phase.FOLDER, 500, facts)
            return False
        return True

    def _listing(self, folder: str) -> Action | None:
        facts = {"path": folder}
        line = proof(self.conf.line)
        if not self.conf.listing or self.state.method == "POST":
            self._block(codes.SERVE_NO_INDEX, Phase.CONTENT, 403, facts, *line)
            return None
        # The engine takes the last character for a slash, also where an alias has none.
        opened = folder[:-1] or "/"
        seen = self.disk.open(opened, self._links(), self.rank(Phase.CONTENT))
        self._climbed(seen)
        if seen.entry is None:
            self._block(codes.SERVE_MISSING, Phase.CONTENT, 404, facts)
            return None
        self._unlistable(seen.entry, facts)
        # With a charset as any content of its type has it; that of XML is its own (measured).
        kind = _LISTED_AS.get(self.conf.listing_format, "text/html")
        if self.conf.listing_format == "jsonp":
            self._doubt(codes.SERVE_LISTING_TYPE, Phase.CONTENT, facts)
        self.handling.file = folder
        self._answer(codes.SERVE_LISTING, Phase.CONTENT, 200, self.conf.with_charset(kind))
        return None

    def _unlistable(self, folder: Entry, facts: Facts) -> None:
        """At a link that leads through a file, as if through a folder, the engine gives up."""
        if self.state.method == "HEAD" or not folder.listed:
            return
        for name in self.survey.files.children(folder.path):
            entry = self.survey.files.get(join(folder.path, name))
            if entry is None or entry.kind is not Kind.LINK or name.startswith("."):
                continue
            walk = self.disk.walker.walk(entry.path)
            if not walk.blocked and walk.problem in (Problem.NOT_FOLDER, Problem.TOO_LONG):
                more = {**facts, "link": entry.path, "target": entry.target or ""}
                self._block(
                    codes.SERVE_LISTING_FAILS, Phase.CONTENT, None, more, Proof(entry=entry)
                )
                return

    def _static(self, path: str) -> Action | None:
        seen = self.disk.open(path, self._links(), self.rank(Phase.CONTENT))
        self._climbed(seen)
        entry, error = seen.entry, seen.beyond
        facts = {"path": path}
        if entry is None:
            if error == "ELOOP":
                self._block(codes.LADDER_LINK_LOOP, Phase.CONTENT, 403, facts)
            elif not seen.doubts:
                self._block(codes.SERVE_MISSING, Phase.CONTENT, 404, facts)
            return None
        self.handling.file = path
        kind = entry.kind
        if kind is Kind.DIR:
            where = folder_address(self.state.path, self.state.query)
            self._sent(301, where, codes.SERVE_FOLDER_REDIRECT)
            self.handling.serve.facts["path"] = path
            return None
        if kind is not Kind.FILE:
            # A socket cannot be opened (ENXIO), which the engine takes for a fault of its own.
            status = 500 if kind is Kind.SOCKET else 404
            more = {"kind": kind.value, "path": path}
            self._block(codes.SERVE_NO_FILE, Phase.CONTENT, status, more, Proof(entry=entry))
            return None
        if self.state.method == "POST":
            # Files take no content; a listing answers 403 instead.
            self._method(path)
            return None
        self.handling.serve.proofs.append(Proof(entry=entry, path=path))
        self.handling.lifetime = self._lifetime(entry)
        code = codes.SERVE_INDEX if "index" in self.handling.serve.facts else codes.SERVE_FILE
        self._answer(code, Phase.CONTENT, 200, self.conf.type_of(self.state.path))
        return None

    def _lifetime(self, entry: Entry) -> Lifetime:
        """How long browsers may go on showing this very file, once they have it."""
        kept = self._kept(entry)
        return kept if self.conf.etag else replace(kept, validators=("Last-Modified",))

    def _kept(self, entry: Entry) -> Lifetime:
        conf, taken_at = self.conf, self.survey.taken_at
        if conf.cache_control is not None and len(conf.cache_control.args) > 1:
            known = by_header(conf.cache_control.args[1], proof(conf.cache_control)[0])
            if known is not None:
                return known
        if conf.expires is not None:
            seconds = shortly(conf.expires.args, entry, taken_at)
            if seconds is not None:
                return stated(seconds, proof(conf.expires)[0])
        return guessed(entry, taken_at)

    # --- pages of errors ---

    def finish(self) -> Conf:
        """Puts what goes out for the first block in place; returns what holds at the end."""
        handling = self.handling
        weighed = weigh(handling.course)
        part, block = weighed.part, weighed.block
        if part is None or block is None:
            return self._sent_otherwise(weighed.answer)
        then = self.at.get(id(block), self)
        page, conf = then.page_of(block, block.status, handling)
        if page is not None:
            part.blocks = [replace(b, page=page) if b is block else b for b in part.blocks]
        return conf

    def _sent_otherwise(self, answer: Answer | None) -> Conf:
        """To the server a visitor who is sent on has met an error, which may have a page; where it
        would have sent him is said all the same.
        """
        if answer is None or answer.location is None or answer.status not in self.conf.error_pages:
            return self.conf
        page, conf = self.page_of(answer, answer.status, self.handling)
        for part in self.handling.course:
            if part.answer is answer and page is not None:
                part.answer = replace(page, location=page.location or answer.location)
        return conf

    def page_of(
        self, block: Block | Answer, status: int | None, handling: Handling
    ) -> tuple[Answer | None, Conf]:
        """What goes out for an error, and where the server has come to by then."""
        if status is None:
            return None, self.conf
        page = self.conf.error_pages.get(status)
        if page is None or (self.in_error and not self.conf.recursive_errors) or self.changes == 0:
            return Answer(status, block.rank, self.conf.canned(status)), self.conf
        run = copy.copy(self)
        run.state = self.state.copied()
        run.at, run.done = {}, False
        run.in_error = True
        run.status = page.status_for(status)
        run.handling = Handling.begun("", self.server.place)
        start = run.to_page(page)
        if start is None and run.handling.way.answer is not None:
            return run.handling.way.answer, run.conf
        run.go(start)
        return run.outcome(block, handling, page)

    def to_page(self, page: ErrorPage) -> Action | None:
        """Where the page of an error leads."""
        try:
            where = self._value(page.page, page.line)
        except NotEvaluated:
            self._doubt(codes.SERVE_ERROR_PAGE, Phase.MAPPING, {"page": page.page.source})
            return lambda: None
        if where.startswith("/"):
            path, _, query = where.partition("?")
            # A page with an address turns every method but HEAD into GET; a named place keeps it.
            if self.state.method != "HEAD":
                self.state.method = "GET"
            return lambda: self._again(path, query)
        if where.startswith("@"):
            return lambda: self._named(where, page.line)
        status = page.status if page.status in config.REDIRECTS else 302
        self.handling.way.answer = Answer(
            status, self.rank(Phase.MAPPING), self.conf.canned(status), where
        )
        return None

    def outcome(
        self, block: Block | Answer, handling: Handling, page: ErrorPage
    ) -> tuple[Answer | None, Conf]:
        """What comes of the page of an error."""
        conf = self.finish()
        inner = self.handling
        weighed = weigh(inner.course, of_types=True)
        hangs_up = weighed.block is not None and weighed.block.status is None
        if not weighed.sure or hangs_up:
            facts = {"status": block.status, "page": page.page.source}
            handling.serve.doubts.append(
                Doubt(codes.SERVE_ERROR_PAGE, block.rank, facts, proof(page.line))
            )
            return Answer(block.status or 500, block.rank), conf
        if weighed.block is None:
            answer = weighed.answer
            if answer is not None and answer.status < 300:
                answer = replace(answer, file=inner.file)
            return answer, conf
        status = weighed.block.status or 500
        own = Answer(status, block.rank, self.conf.canned(status))
        return weighed.block.page or own, conf
