"""One question, through the phases of the server up to what is served: where the address leads, the
walk, who may, and what the rules of the folder then do with it.

Source: httpd 2.4, "Request Processing in the Apache HTTP Server 2.x"; mod_rewrite, "API Phases".
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from ecumen import codes
from ecumen.engines.httpd import rewriting
from ecumen.engines.httpd.access import Visitor
from ecumen.engines.httpd.asking import Asked, Asking, Variables, is_ours, own_address
from ecumen.engines.httpd.callers import Callers
from ecumen.engines.httpd.marks import marked
from ecumen.engines.httpd.negotiation import Negotiation
from ecumen.engines.httpd.server import Server
from ecumen.engines.httpd.settings import Opt, Settings
from ecumen.engines.httpd.targets import Target, Targets
from ecumen.engines.httpd.walk import Walked
from ecumen.engines.httpd.way import AddressWay, AddressWays, not_evaluated, redirected, settle
from ecumen.engines.sites import Block, Doubt, Mapped, Part, Phase, Proof, Rank
from ecumen.survey import Kind

RULES = Rank(Phase.RULES)


@dataclass(slots=True)
class Looked:
    """What is known of a question before anything is served.

    before: the settings that hold until the walk is done. target: None where the address leads to
    nothing on disk or to an error. goes_on: the address with which the server begins anew. chosen:
    the question for the file that takes the place of one that is not there.
    """

    asking: Asking
    way: AddressWay
    before: Settings
    target: Target | None = None
    goes_on: str | None = None
    type: str | None = None
    handler: Proof | None = None
    scripts: Proof | None = None
    doubts: list[Doubt] = field(default_factory=list)
    chosen: Looked | None = None

    @property
    def part(self) -> Part:
        """What is to be said of the way."""
        return self.way.part


class Phases:
    """The phases of one server."""

    def __init__(
        self, server: Server, ways: AddressWays, targets: Targets, callers: Callers
    ) -> None:
        self.server = server
        self.callers = callers
        self.ways = ways
        self.targets = targets
        self.negotiation = Negotiation(server, targets.walker, self.look)

    def look(self, asking: Asking) -> Looked:
        """Never raises. Blocks and doubts of the way stand in its part, others in the target."""
        host = asking.host
        arrival = asking.arrival
        facts = Asked(asking)
        if host.marks and not asking.by_itself:
            facts.marks = marked(host.marks, facts, facts.marks)
            asking = facts.asking = asking.marked(facts.marks)
        facts.raw = False
        visitor = Visitor(
            arrival.client,
            arrival.address,
            asking.method,
            arrival.signed_in,
            asking.judged,
            facts,
            again=asking.by_itself or asking.lap > 0,
            callers=self.callers,
        )
        before, doubts = self.targets.located(host, asking.path, visitor)
        way = self._way(asking, before)
        if way.root is not None:
            asking = facts.asking = replace(asking, root=way.root)
        facts.uri, facts.args = way.path, way.query
        if way.env:
            facts.marks = facts.marks.with_values(way.env)
        before_folders = facts.marks
        looked = Looked(
            asking, way, before, type=way.type, handler=way.handler, scripts=way.scripts,
            doubts=doubts,
        )  # fmt: skip
        if way.upstream is not None:
            target = looked.target = self.targets.beside(host, way.path, visitor)
            # Only then is it handed on: what a section says by pattern sends visitors elsewhere.
            redirects, rank = list(target.settings.redirects), Rank(Phase.RULES, 1)
            if redirected(
                redirects, asking, target.settings, looked.part, rank, way.path, way.query
            ):
                way.upstream = None
            return looked
        if way.filename is None:
            return looked
        looked.target = self.targets.of(host, way.path, way.filename, visitor, asking.before)
        if asking.file is not None:
            looked.target.walked.rest = asking.file[1]
        if facts.marks is not before_folders:
            looked.asking = asking.marked(facts.marks)
            way.env = dict(facts.marks.values)
        if not looked.target.walked.unseen:
            self._in_folder(looked, looked.target)
        return looked

    def _way(self, asking: Asking, settings: Settings) -> AddressWay:
        if asking.file is None:
            return self.ways.find(asking, settings)
        part = Part(codes.WAY_ROOT, {"address": asking.path})
        return AddressWay(part, asking.path, asking.query, asking.file[0])

    # --- the rules of the folder ---

    def _in_folder(self, looked: Looked, target: Target) -> None:
        """What is chosen in place of a missing name, which the rules of the folder then meet."""
        chosen = looked.chosen = self.negotiation.choose(looked, target)
        if chosen is None or chosen.target is None:
            self._rules(looked, target)
            return
        looked.way.path = chosen.way.path
        self._rules(looked, chosen.target)
        chosen.type = looked.type or chosen.type
        chosen.handler = looked.handler or chosen.handler

    def _rules(self, looked: Looked, target: Target) -> None:
        """Rewriting, then redirects."""
        if self._rewriting(looked, target):
            return
        asking, settings = looked.asking, target.settings
        redirects = list(settings.redirects)
        if settings.redirect is not None:
            redirects.insert(0, settings.redirect)
        rank = Rank(Phase.RULES, 1)
        way = looked.way
        if redirected(redirects, asking, settings, looked.part, rank, way.path, way.query):
            looked.goes_on = None

    def _rewriting(self, looked: Looked, target: Target) -> bool:
        """True where a rule ends the request here."""
        rules, walked = target.settings.rewriting, target.walked
        asks = looked.asking.rewrites and not looked.way.ended
        if rules is None or not rules.on or rules.folder is None or not asks:
            return False
        filename = _filename(walked)
        if filename == rules.folder[:-1] and "allownoslash" not in (rules.options or ()):
            # Not in the folder yet: the visitor is first sent to its address with a slash.
            return False
        options = target.settings.options
        if options is None or not options.bits & (Opt.FOLLOW | Opt.OWNER_MATCH):
            proofs = (Proof(place=options.place, text=options.text),) if options else ()
            block = Block(codes.WAY_RULES_NEED_LINKS, RULES, 403, {"path": rules.folder}, proofs)
            looked.part.blocks.append(block)
            return False
        if not rules.rules:
            return False
        try:
            return self._applied(looked, target, rules, filename)
        except rewriting.NotEvaluated as what:
            not_evaluated(looked.part, what, RULES)
            return False

    def _applied(
        self, looked: Looked, target: Target, rules: rewriting.Rewriting, filename: str
    ) -> bool:
        asking, settings = looked.asking, target.settings
        variables = Variables(asking, settings, self.server)
        variables.prefix, variables.context_root = looked.way.prefix, looked.way.context_root
        subject = rewriting.RewriteSubject(
            filename=filename,
            uri=looked.way.path,
            args=looked.way.query,
            path_info=target.walked.rest,
            folder=rules.folder,
            look=self.ways.look,
            variable=variables,
            own=own_address(asking, settings),
            ours=lambda name, port: is_ours(asking, name, port),
            mapped=self.ways.mapped(asking.host),
            by_itself=asking.by_itself,
            env={**asking.env, **looked.way.env},
        )
        result = rewriting.apply(rules.rules, subject)
        part = looked.part
        part.picture += result.steps
        part.proofs += [step.proof for step in result.steps if step.proof]
        looked.way.env, looked.way.ended = subject.env, result.ended
        looked.type = result.type or looked.type
        if result.handler is not None:
            looked.handler = result.steps[-1].proof
        if result.action is rewriting.Action.NONE:
            return False
        self._with_base(result, subject, rules)
        if settle(part, result, subject, looked.way.query, RULES, self.server.version):
            return True
        if result.to_upstream:
            looked.way.upstream = subject.filename
            return True
        self._goes_on(looked, result, subject, rules, filename)
        return False

    def _with_base(
        self,
        result: rewriting.Result,
        subject: rewriting.RewriteSubject,
        rules: rewriting.Rewriting,
    ) -> None:
        """A path on disk that stands in an address is put right where a base is given."""
        scheme, mark, rest = subject.filename.partition("://")
        if rules.base is None or not mark or result.to_upstream:
            return
        host, slash, path = rest.partition("/")
        folder = (rules.folder or "/")[1:]
        if slash and path:
            path = put_prefix(path, folder, rules.base[1:])
            subject.filename = f"{scheme}://{host}/{path}"

    def _goes_on(
        self,
        looked: Looked,
        result: rewriting.Result,
        subject: rewriting.RewriteSubject,
        rules: rewriting.Rewriting,
        before: str,
    ) -> None:
        made = subject.filename
        looked.way.query = subject.args
        if made == before:
            return
        if 300 <= result.status < 400 and result.last is not None:
            # A rule sent the visitor on, and a later one led elsewhere: the status of the first
            # goes out with what the second leads to.
            what = "an address by a rule that is overruled by a later one"
            raise rewriting.NotEvaluated(result.last.directive, what)
        if looked.handler is not None and result.last is not None:
            # What is to make the content takes the place of what would begin anew.
            what = "another address together with a maker of content"
            raise rewriting.NotEvaluated(result.last.directive, what)
        if not made.startswith("/"):
            looked.part.blocks.append(Block(codes.WAY_BAD_PATH, RULES, 400, {"address": made}))
            return
        after = made
        if rules.base is not None:
            after = put_prefix(made, rules.folder or "/", rules.base)
        else:
            root = (looked.asking.root or looked.asking.host.root or "/").rstrip("/")
            if root and made.startswith(f"{root}/"):
                after = made[len(root) :]
        way = looked.way
        if after == made and "ignorecontextinfo" not in (rules.options or ()):
            context = way.context_root or looked.asking.root or looked.asking.host.root or ""
            after = put_prefix(made, context, way.prefix)
        looked.goes_on = after
        looked.part.picture.append(Mapped("again", made, after))


def put_prefix(text: str, folder: str, prefix: str) -> str:
    """`text` with `prefix` in place of `folder`, where it lies in that folder."""
    folder = folder.rstrip("/") if folder.endswith("/") else folder
    if not text.startswith(f"{folder}/"):
        return text
    rest = text[len(folder) + 1 :]
    slash = "" if not prefix or prefix.endswith("/") else "/"
    return f"{prefix}{slash}{rest}"


def _filename(walked: Walked) -> str:
    """The path as the server holds it by now: a folder keeps the slash that it was asked with."""
    folder = walked.entry is not None and walked.entry.kind is Kind.DIR
    if folder and walked.slash and not walked.path.endswith("/"):
        return f"{walked.path}/"
    return walked.path
