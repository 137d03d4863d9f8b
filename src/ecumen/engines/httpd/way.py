"""From the address to a path on disk: rewriting, upstream, redirect, alias, personal site, root.

Source: httpd 2.4, "Mapping URLs to Filesystem Locations", mod_rewrite, mod_proxy, mod_alias,
mod_userdir; measured.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import TypeVar

from ecumen import codes
from ecumen.codes import Code
from ecumen.engines.httpd import rewriting
from ecumen.engines.httpd.asking import (
    Asking,
    Variables,
    is_ours,
    own_address,
    own_name,
    own_port,
)  # fmt: skip
from ecumen.engines.httpd.redirects import Redirect, alias_length, find_redirect, put_groups
from ecumen.engines.httpd.server import Alias, Host, Server, clean
from ecumen.engines.httpd.settings import Settings, Upstream
from ecumen.engines.httpd.statuses import KNOWN, WITHOUT_CONTENT
from ecumen.engines.releases import PREFIX, QUESTION_MARK, REWRITTEN_QUERY, doubts
from ecumen.engines.sites import Answer, Block, Doubt, Mapped, Part, Phase, Proof, Rank, proof_of
from ecumen.engines.source import SurveySource
from ecumen.engines.upstreams import is_closed
from ecumen.patterns import Hit, TooCostly
from ecumen.rights import WRITE, Problem, Walker, decide
from ecumen.survey import Entry, Kind, Survey

RANK = Rank(Phase.MAPPING)
# By the scheme of an upstream, what can speak to it: where none of these is there, the server has
# no handler for it (mod_proxy.c, proxy_handler).
_SPEAKERS = {
    "http": ("proxy_http_module",),
    "https": ("proxy_http_module",),
    "ws": ("proxy_wstunnel_module", "proxy_http_module"),
    "wss": ("proxy_wstunnel_module", "proxy_http_module"),
    **{name: (f"proxy_{name}_module",) for name in ("ajp", "fcgi", "scgi", "uwsgi")},
}
_Entry = TypeVar("_Entry", Alias, Upstream)
REDIRECT = "text/html; charset=iso-8859-1"


@dataclass(slots=True)
class AddressWay:
    """filename: None where the request ends here (an error or a redirect).

    path, query: of the address, as the rules have changed them. root: the document root, where the
    name that was asked for says it. upstream: what the request is
    handed to. prefix, context_root: of the alias or personal site that it went through. handler:
    what makes the content of whatever lies there, by a rule. scripts: what lies there is run, by an
    alias. type: what the rules say it is.
    """

    part: Part
    path: str
    query: str | None
    filename: str | None = None
    upstream: str | None = None
    prefix: str = ""
    context_root: str | None = None
    root: str | None = None
    handler: Proof | None = None
    scripts: Proof | None = None
    type: str | None = None
    env: dict[str, str | None] = field(default_factory=dict)
    ended: bool = False


class AddressWays:
    """Where the addresses of one server lead. Built once."""

    def __init__(self, survey: Survey, server: Server, walker: Walker | None) -> None:
        self.survey = survey
        self.server = server
        self.walker = walker
        self._maps = rewriting.MapTexts(SurveySource(survey))

    def mapped(self, host: Host) -> Callable[[str, str], str | None]:
        """What rules of a site look up in its maps."""
        return lambda name, key: self._maps.value(host.maps.get(name), key)

    def find(self, asking: Asking, settings: Settings) -> AddressWay:
        """settings: those that hold for the address alone, before any folder is known."""
        path = asking.path
        way = AddressWay(Part(codes.WAY_ROOT, {"address": path}), path, asking.query)
        if asking.address.problem:
            facts = {"address": path}
            rank = Rank(Phase.ADDRESS)
            block = Block(asking.address.problem, rank, asking.address.status, facts)
            way.part.blocks.append(block)
            return way
        if not self._rewritten(asking, settings, way):
            self._mapped(asking, settings, way)
        if asking.method == "TRACE" and way.filename is not None:
            self._traced(settings, way)
        return way

    def _traced(self, settings: Settings, way: AddressWay) -> None:
        """Sent back before anything is looked at on disk, or asked who may (measured)."""
        way.filename = None
        choice = settings.trace
        if choice is not None and choice.value == "off":
            line = Proof(place=choice.place, text=choice.text)
            way.part.blocks.append(Block(codes.WAY_TRACE_OFF, RANK, 405, {}, (line,)))
            return
        way.part.code = codes.WAY_TRACED
        way.part.answer = Answer(200, RANK, "message/http")

    def _mapped(self, asking: Asking, settings: Settings, way: AddressWay) -> None:
        host = asking.host
        # Redirects that stand in a section on addresses go before what hands on; those of the
        # server behind it (measured).
        first = [settings.redirect] if settings.redirect is not None else []
        found = (
            redirected(first, asking, settings, way.part, RANK, way.path, way.query)
            or self._upstream(host, settings, way)
            or self._redirected(asking, settings, way)
            or self._aliased(host, way)
            or self._personal(host, way)
            or self._by_name(asking, settings, way)
        )
        if not found:
            self._in_root(host, way.path, way)

    def _in_root(self, host: Host, path: str, way: AddressWay) -> None:
        if host.root is None:
            way.part.doubts.append(Doubt(codes.WAY_NO_ROOT, RANK))
            return
        filename = f"{host.root.rstrip('/')}{path}" or "/"
        proof = proof_of(host.root_line) if host.root_line else None
        way.part.picture.append(Mapped("root", path, filename, proof))
        way.part.facts |= {"path": filename, "root": host.root}
        way.part.proofs += [proof] if proof else []
        way.filename = filename

    # --- rewriting by the rules of the host ---

    def _rewritten(self, asking: Asking, settings: Settings, way: AddressWay) -> bool:
        """True where the rules settle where the address leads."""
        rules = asking.host.rewriting
        on = settings.rewriting is not None and settings.rewriting.on
        if rules is None or not on or not rules.rules or not asking.rewrites:
            return False
        variables = Variables(asking, settings, self.server)
        subject = rewriting.RewriteSubject(
            filename=asking.path,
            uri=asking.path,
            args=asking.query,
            path_info="",
            folder=None,
            look=self.look,
            variable=variables,
            own=own_address(asking, settings),
            ours=lambda name, port: is_ours(asking, name, port),
            mapped=self.mapped(asking.host),
            by_itself=asking.by_itself,
            env=dict(asking.env),
        )
        try:
            result = rewriting.apply(rules.rules, subject)
            return self._after_rules(asking, result, subject, way)
        except rewriting.NotEvaluated as what:
            not_evaluated(way.part, what, RANK)
            return False

    def _after_rules(
        self,
        asking: Asking,
        result: rewriting.Result,
        subject: rewriting.RewriteSubject,
        way: AddressWay,
    ) -> bool:
        way.part.picture += result.steps
        way.part.proofs += [step.proof for step in result.steps if step.proof]
        way.env, way.ended, way.type = subject.env, result.ended, result.type
        if result.handler is not None:
            way.handler = result.steps[-1].proof
        if result.action is rewriting.Action.NONE:
            return False
        if settle(way.part, result, subject, asking.query, RANK, self.server.version):
            return True
        way.query = subject.args
        if result.to_upstream:
            way.upstream = subject.filename
            return True
        if result.passes_on:
            way.path = subject.filename
            return False
        self._local(asking, result, subject, way)
        return True

    def _local(
        self,
        asking: Asking,
        result: rewriting.Result,
        subject: rewriting.RewriteSubject,
        way: AddressWay,
    ) -> None:
        host, made = asking.host, subject.filename
        if not made.startswith("/"):
            way.part.blocks.append(Block(codes.WAY_BAD_PATH, RANK, 400, {"address": made}))
            return
        if made.startswith("/~"):
            rule = result.last
            assert rule is not None
            raise rewriting.NotEvaluated(rule.directive, "the home of an account")
        first = "/" + made.lstrip("/").partition("/")[0]
        try:
            there = self.look(first, True) is not None
        except LookupError:
            rule = result.last
            assert rule is not None
            raise rewriting.NotEvaluated(rule.directive, f"whether there is {first}") from None
        root = host.root or "/"
        written = result.last is not None and result.last.output.startswith(first)
        if there and not result.reduced and (written or made.startswith(root)):
            way.filename = cleaned(made)
            way.part.facts |= {"path": way.filename}
            way.part.code = codes.WAY_REWRITTEN
            return
        if there and not result.reduced:
            way.part.doubts += doubts(codes.WAY_RELEASE, self.server.version, PREFIX, RANK)
        below = cleaned(f"{root.rstrip('/')}/{made.lstrip('/')}")
        if not f"{below}/".startswith(f"{root.rstrip('/')}/"):
            way.part.blocks.append(Block(codes.WAY_REFUSED, RANK, 403, {"address": made}))
            return
        self._in_root(host, below[len(root.rstrip("/")) :], way)
        way.part.code = codes.WAY_REWRITTEN

    def look(self, path: str, follow: bool) -> Entry | None:
        """What the worker finds there. Raises LookupError where the survey cannot tell."""
        if self.walker is None:
            raise LookupError(path)
        walk = self.walker.walk(path, follow)
        if walk.problem is Problem.UNSEEN and not walk.blocked:
            raise LookupError(path)
        entry = None if walk.problem or walk.blocked else walk.entry
        return entry if entry is None or self.walker.looks(entry) else None

    # --- upstreams and redirects ---

    def upstream_fault(self, url: str) -> tuple[Code, int] | None:
        """What is known to go wrong where a request is handed to an upstream, and the status that
        the server then gives. url: also of a socket, as `unix:PATH|URL`.
        """
        url = url.removeprefix("proxy:")
        path, _, url = url.rpartition("|") if url.lower().startswith("unix:") else ("", "", url)
        speakers = _SPEAKERS.get(url.partition("://")[0].lower())
        if speakers is None:
            return None
        modules = self.server.reader.modules
        if modules.isdisjoint(speakers):
            if "proxy_module" not in modules:
                return None
            return codes.WAY_UPSTREAM_UNSPOKEN, 500
        if self._reaches_nobody(path, url):
            return codes.WAY_UPSTREAM_CLOSED, 503
        return None

    def _reaches_nobody(self, path: str, url: str) -> bool:
        """Whether nothing answers at an upstream of this very machine, by the survey."""
        if not path:
            return is_closed(self.survey, url)
        if self.walker is None:
            return False
        walk = self.walker.walk(path[5:])
        if walk.problem is Problem.UNSEEN and not walk.blocked:
            return False
        if walk.problem or walk.blocked or walk.entry is None:
            return True
        shut = not decide(walk.entry, self.walker.subject, WRITE).allowed
        return walk.entry.kind is not Kind.SOCKET or shut

    def _upstream(self, host: Host, settings: Settings, way: AddressWay) -> bool:
        # What a section on addresses says goes first, and what it keeps is kept from all others.
        first = [settings.upstream] if settings.upstream is not None else []
        for upstream, taken in _that_take((*first, *host.upstreams), way):
            proof = proof_of(upstream.directive)
            if upstream.url is None:
                way.part.picture.append(Mapped("kept", way.path, way.path, proof))
                return False
            if isinstance(taken, Hit):
                url = put_groups(upstream.url, taken)
                way.upstream = url if url != upstream.url else upstream.url + way.path
            else:
                way.upstream = upstream.url + way.path[taken:]
            way.part.picture.append(Mapped("upstream", way.path, way.upstream, proof))
            way.part.proofs.append(proof)
            return True
        return False

    def _redirected(self, asking: Asking, settings: Settings, way: AddressWay) -> bool:
        redirects = asking.host.redirects
        return redirected(redirects, asking, settings, way.part, RANK, way.path, way.query)

    # --- aliases ---

    def _aliased(self, host: Host, way: AddressWay) -> bool:
        for alias, taken in _that_take(host.aliases, way):
            self._through(alias, taken, way)
            return True
        return False

    def _through(self, alias: Alias, taken: int | Hit, way: AddressWay) -> None:
        if isinstance(taken, Hit):
            filename = put_groups(alias.real, taken)
        else:
            filename = alias.real + way.path[taken:]
            way.prefix, way.context_root = alias.fake, alias.real
        if not filename.startswith("/"):
            filename = f"{self.server.root.rstrip('/')}/{filename}"
        filename = cleaned(filename)
        proof = proof_of(alias.directive)
        way.part.code = codes.WAY_ALIAS
        way.part.facts |= {"path": filename, "alias": alias.fake}
        way.part.picture.append(Mapped("alias", way.path, filename, proof))
        way.part.proofs.append(proof)
        way.filename = filename
        if alias.scripts:
            way.scripts = proof
        if alias.late:
            way.handler = proof

    # --- folders that are sites ---

    def _by_name(self, asking: Asking, settings: Settings, way: AddressWay) -> bool:
        """Whether the folder is told by the name that was asked for, or by the address."""
        host, path = asking.host, way.path
        # The beginning of the address is the server's own word, and leads to no other folder.
        programs = path.startswith("/cgi-bin/")
        pattern = host.programs_by_name if programs else host.by_name
        if pattern is None or not pattern.pattern:
            return False
        named = own_name(asking, settings)
        name = asking.arrival.address if pattern.by_address else named
        proof = proof_of(pattern.directive)
        if name is None:
            way.part.doubts.append(Doubt(codes.SERVE_OWN_NAME, RANK, {}, (proof,)))
            return False
        folder = pattern.folder(name, own_port(asking, settings))
        rest = path.removeprefix("/cgi-bin") if programs else path
        filename = f"{folder}{rest}" or "/"
        way.part.picture.append(Mapped("root", path, filename, proof))
        way.part.facts |= {"path": filename, "root": folder}
        way.part.proofs.append(proof)
        way.filename, way.root = filename, folder
        if programs:
            way.scripts, way.prefix, way.context_root = proof, "/cgi-bin", folder
        return True

    # --- personal sites ---

    def _personal(self, host: Host, way: AddressWay) -> bool:
        path, part = way.path, way.part
        settings = host.user_folders
        if settings.folders is None or not path.startswith("/~"):
            return False
        name, slash, rest = path[2:].partition("/")
        if name in ("", ".", ".."):
            return False
        off = settings.off_for(name)
        if off is not None:
            part.picture.append(Mapped("personal-off", path, path, proof_of(off)))
            part.facts["account"] = name
            return False
        for number, pattern in enumerate(settings.folders):
            last = number == len(settings.folders) - 1
            if self._candidate(host, way, name, slash + rest, pattern, last):
                return True
        return False

    def _candidate(
        self, host: Host, way: AddressWay, name: str, behind: str, pattern: str, last: bool
    ) -> bool:
        line = host.user_folders.folders_line
        proof = proof_of(line) if line else None
        proofs = (proof,) if proof else ()
        absolute = pattern.startswith("/")
        prefix, star, tail = pattern.partition("*")
        part, path = way.part, way.path
        if star:
            if not absolute and ":" in prefix:
                return _elsewhere(way, proof, f"{prefix}{name}{behind}")
            if not absolute:
                part.doubts.append(
                    Doubt(codes.WAY_NOT_EVALUATED, RANK, {"directive": pattern}, proofs)
                )
                return False
            folder = f"{prefix}{name}{tail}"
        elif absolute:
            folder = f"{pattern}/{name}"
        elif ":" in pattern:
            return _elsewhere(way, proof, f"{pattern}/{name}{behind}")
        else:
            account = self.survey.account_by_name.get(name)
            if account is None and any(gap.what == "accounts" for gap in self.survey.gaps):
                part.doubts.append(
                    Doubt(codes.WAY_ACCOUNT_UNKNOWN, RANK, {"account": name}, proofs)
                )
            if account is None:
                part.picture.append(Mapped("personal-nobody", path, path, proof))
                return False
            folder = f"{account.home}/{pattern}"
        if not last:
            walk = self.walker.walk(folder) if self.walker else None
            if walk is None or walk.problem == "unseen":
                part.doubts.append(Doubt(codes.WAY_PERSONAL_UNSEEN, RANK, {"path": folder}, proofs))
            elif walk.problem or walk.blocked:
                part.picture.append(Mapped("personal-missing", path, folder, proof))
                return False
        filename = clean(folder).rstrip("/") + behind
        part.code = codes.WAY_PERSONAL
        part.facts |= {"account": name, "path": filename}
        part.picture.append(Mapped("personal", path, filename, proof))
        part.proofs += [proof] if proof else []
        way.filename, way.prefix, way.context_root = filename, f"/~{name}", clean(folder)
        return True


def cleaned(path: str) -> str:
    """A path in its plainest form; a slash at its end stays."""
    return clean(path).rstrip("/") + ("/" if path.endswith("/") else "")


def takes(entry: Alias | Upstream, path: str) -> int | Hit | None:
    """How much of the path is taken, or the match; 0: nothing; None: that is not worked out."""
    if not entry.by_pattern:
        return alias_length(entry.fake, path)
    if entry.regex is None:
        return None
    target = entry.real if isinstance(entry, Alias) else entry.url
    try:
        hit = entry.regex.search(path)
        if hit is not None and target is not None:
            # What grows too long is not worked out either.
            put_groups(target, hit)
        return hit or 0
    except TooCostly:
        return None


def _that_take(entries: Iterable[_Entry], way: AddressWay) -> Iterator[tuple[_Entry, int | Hit]]:
    """Those that take the path, in order; one that is not worked out is doubted and passed by."""
    for entry in entries:
        taken = takes(entry, way.path)
        if taken is None:
            facts = {"directive": entry.directive.name}
            proofs = (proof_of(entry.directive),)
            way.part.doubts.append(Doubt(codes.WAY_NOT_EVALUATED, RANK, facts, proofs))
        elif taken:
            yield entry, taken


def _elsewhere(way: AddressWay, proof: Proof | None, location: str) -> bool:
    part = way.part
    part.code = codes.WAY_PERSONAL_ELSEWHERE
    part.facts["location"] = location
    part.picture.append(Mapped("personal-elsewhere", way.path, location, proof))
    part.answer = Answer(302, RANK, REDIRECT, location)
    return True


def personal_folder(pattern: str, name: str, home: str) -> str | None:
    """Where a pattern has the personal site of an account; None where that is elsewhere."""
    if ":" in pattern:
        return None
    before, star, after = pattern.partition("*")
    if star:
        return clean(f"{before}{name}{after}") if pattern.startswith("/") else None
    if pattern.startswith("/"):
        return clean(f"{pattern}/{name}")
    return clean(f"{home}/{pattern}") if home.startswith("/") else None


# --- what the rules of hosts and those of folders have in common ---

# Among the facts of a way that a rule of rewriting ends.
BY_RULE = "by_rule"


def not_evaluated(part: Part, what: rewriting.NotEvaluated, rank: Rank) -> None:
    """Notes that a rule of rewriting was beyond what is worked out."""
    facts = {"what": what.what}
    part.doubts.append(Doubt(codes.WAY_RULE_UNKNOWN, rank, facts, (proof_of(what.directive),)))


def settle(
    part: Part,
    result: rewriting.Result,
    subject: rewriting.RewriteSubject,
    asked_with: str | None,
    rank: Rank,
    version: str,
) -> bool:
    """Whether the rules end the request here, with a status or by sending the visitor on. version:
    of the server.
    """
    proofs = tuple(proof for step in result.steps[-1:] if (proof := step.proof) is not None)
    sent = subject.filename.lower().startswith(("http://", "https://"))
    leads_away = sent and not result.to_upstream and result.action is rewriting.Action.CHANGED
    query = subject.args or ""
    if (result.keeps_escapes or not leads_away) and any(
        char <= " " or char == "\x7f" for char in query
    ):
        part.blocks.append(Block(codes.WAY_REFUSED, rank, 403, {}, proofs))
        part.doubts += doubts(codes.WAY_RELEASE, version, REWRITTEN_QUERY, rank, proofs)
        return True
    if result.question_mark:
        part.doubts += doubts(codes.WAY_RELEASE, version, QUESTION_MARK, rank, proofs)
    if result.action is rewriting.Action.STATUS:
        ended(part, result.status, rank, proofs)
        part.facts[BY_RULE] = True
        return True
    if not leads_away:
        return False
    part.facts[BY_RULE] = True
    location = rewriting.location_of(result, subject, asked_with)
    status = result.status if 300 <= result.status < 400 else 302
    part.code = codes.WAY_SENT
    part.facts |= {"location": location}
    kind = None if status in WITHOUT_CONTENT else REDIRECT
    part.answer = Answer(status, rank, kind, location)
    return True


def ended(part: Part, status: int, rank: Rank, proofs: tuple[Proof, ...]) -> None:
    """A rule that ends the request with a status."""
    facts = {"status": status}
    if status >= 400:
        code = {403: codes.WAY_REFUSED, 410: codes.WAY_GONE, 500: codes.WAY_RULES_FAIL}.get(
            status, codes.WAY_STATUS
        )
        part.blocks.append(Block(code, rank, status, facts, proofs))
        return
    part.code = codes.WAY_SAID
    part.facts |= facts
    part.answer = Answer(status, rank, None if status in WITHOUT_CONTENT else REDIRECT)


def redirected(
    redirects: list[Redirect],
    asking: Asking,
    settings: Settings,
    part: Part,
    rank: Rank,
    path: str,
    query: str | None,
) -> bool:
    """Whether a redirect takes this address."""
    if not redirects:
        return False
    own = "" if settings.redirect_relative else own_address(asking, settings)
    sent = find_redirect(redirects, path, query, own)
    if sent is None:
        return False
    if isinstance(sent, Redirect):
        facts = {"directive": sent.directive.name}
        part.doubts.append(Doubt(codes.WAY_REDIRECT, rank, facts, (proof_of(sent.directive),)))
        return False
    proof = proof_of(sent.redirect.directive)
    part.proofs.append(proof)
    if sent.status <= 0:
        # Words of the server's own code in disguise: "go on", "leave it to others", "done".
        facts = {"directive": sent.redirect.directive.name}
        part.doubts.append(Doubt(codes.WAY_REDIRECT, rank, facts, (proof,)))
        return False
    status = sent.status if sent.status in KNOWN else 500
    if not 300 <= sent.status < 400:
        part.picture.append(Mapped("status", path, str(status), proof))
        ended(part, status, rank, (proof,))
        return True
    if sent.location is None:
        part.doubts.append(Doubt(codes.SERVE_OWN_NAME, rank, {}, (proof,), only_type=True))
    part.code = codes.WAY_SENT
    part.facts |= {"location": sent.location or ""}
    part.picture.append(Mapped("sent", path, sent.location or "", proof))
    kind = None if status in WITHOUT_CONTENT else REDIRECT
    part.answer = Answer(status, rank, kind, sent.location)
    return True
