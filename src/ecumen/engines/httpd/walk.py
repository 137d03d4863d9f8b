"""The walk down to a file as the server takes it: at each folder its sections, the override files
and the rules on links, and under all that the kernel's permissions.

Source: httpd 2.4, core ("Directory", "Options", "AllowOverride"); measured.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from ecumen import codes
from ecumen.caches import Bounded, ByIdentity
from ecumen.engines.httpd.overrides import OverrideReader, asks_for
from ecumen.engines.httpd.server import Host, Section
from ecumen.engines.httpd.settings import Opt, Settings
from ecumen.engines.sites import Block, Doubt, Phase, Proof, Rank, Rung, proof_of
from ecumen.engines.tree import Directive
from ecumen.rights import READ, Problem, Walker, decide
from ecumen.rights.walk import Step, join
from ecumen.survey import Entry, Kind

MOST_KEPT = 100_000
# What these ask of a certificate is asked of sealed connections alone (ssl_hook_Access).
SEALED_ALONE = frozenset(("sslverifyclient", "sslverifydepth", "sslrequire", "ssloptions"))
HALF = 1000  # ranks of one folder's sections and of the lookup below it keep their order


@dataclass(slots=True)
class Walked:
    """Where the walk ended. entry: None where nothing is there; rest: what stands behind a file.

    sections: those that bind, in the order in which they are merged. slash: asked with one. named:
    sections on the name of a file are among them. folder: settings and number of sections before
    those on files, as the next walk of the same request may take them over.
    """

    path: str
    settings: Settings
    sections: list[tuple[str, Settings, Section | None]]
    rungs: list[Rung] = field(default_factory=list)
    blocks: list[Block] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    entry: Entry | None = None
    rest: str = ""
    unseen: bool = False
    slash: bool = False
    named: bool = False
    folder: tuple[Settings, int] | None = None

    @property
    def remembered(self) -> str:
        """The folder, with a slash, for which the server remembers this walk: what lies in it may
        be asked next. Of a folder that was asked without a slash it remembers nothing of use
        (server/request.c, ap_directory_walk: `cached` beside `entry_dir`).
        """
        if self.entry is not None and self.entry.kind is Kind.DIR:
            return join(self.path, "") if self.slash else self.path
        return f"{self.path.rpartition('/')[0]}/"

    def copied(self) -> Walked:
        """A copy that may go on by itself."""
        return Walked(
            self.path, self.settings, self.sections.copy(), self.rungs.copy(),
            self.blocks.copy(), self.doubts.copy(), self.entry,
        )  # fmt: skip


@dataclass(slots=True)
class Known:
    """What is worked out once for all walks on a server: steps, how far walks have come, and for
    folders the names of override files of which none is there.
    """

    rungs: Bounded[str, Rung] = field(default_factory=lambda: Bounded(MOST_KEPT))
    plain: Bounded[str, list[tuple[Rung, Entry]]] = field(
        default_factory=lambda: Bounded(MOST_KEPT)
    )
    reached: Bounded[tuple[int, str], Walked] = field(default_factory=lambda: Bounded(MOST_KEPT))
    without: Bounded[str, tuple[str, ...]] = field(default_factory=lambda: Bounded(MOST_KEPT))


class FolderWalk:
    """Walks for one site and one worker."""

    def __init__(
        self,
        host: Host,
        walker: Walker,
        overrides: OverrideReader,
        known: Known,
    ) -> None:
        self.host = host
        self.walker = walker
        self.overrides = overrides
        self.by_depth: dict[int, list[Section]] = {}
        for section in host.folders:
            self.by_depth.setdefault(section.depth, []).append(section)
        self._known = known
        # Rules of rewriting that stand for the host as a whole are merged last.
        settings = host.settings
        self.bare = settings if settings.rewriting is None else settings.with_rules(None)
        # Merging is pure, and the same few sections meet at every request.
        self._merged: dict[tuple[int, int], tuple[Settings, Settings, Settings]] = Bounded(
            MOST_KEPT
        )
        self._ruled: ByIdentity[Settings, Settings] = ByIdentity(MOST_KEPT)

    def merge(self, base: Settings, later: Settings) -> Settings:
        """`later` upon `base`."""
        key = (id(base), id(later))
        known = self._merged.get(key)
        if known is None:
            # Both are kept, so that their numbers stay theirs.
            known = self._merged[key] = (base, later, later.over(base))
        return known[2]

    def merged(self, base: Settings, later: Iterable[Settings]) -> Settings:
        """Sections of one kind upon `base`: the server merges them with each other first."""
        joined: Settings | None = None
        for each in later:
            joined = each if joined is None else self.merge(joined, each)
        return base if joined is None else self.merge(base, joined)

    def walk(self, filename: str, before: Walked | None = None) -> Walked:
        """filename: absolute. before: the walk that the server has just made for the same request,
        where it goes on to another address or asks itself for an index. For a file in the folder
        where that one ended it takes over what was merged then, whatever binds the new name
        (server/request.c, ap_directory_walk; measured).
        """
        names = [name for name in filename.split("/") if name]
        done, walked = self._begun(names)
        if walked.entry is None:
            self._unseen(walked, "/", 0)
            return walked
        known = "" if before is None else before.remembered
        for depth, name in enumerate(names[done:], done + 1):
            last = depth == len(names) and not filename.endswith("/")
            again = last and join(walked.path, "") == known
            ends = depth == len(names)
            if not self._component(walked, name, depth, last, ends, again=again):
                walked.rest = "".join(f"/{left}" for left in names[depth:])
                if filename.endswith("/"):
                    walked.rest += "/"
                break
            # Whether a folder may be looked at is asked of the last one alone: such is not kept.
            if depth >= len(names) - 1 and self._is_seen(walked):
                self._keep("/".join(names[:depth]), walked)
        # A folder keeps the slash that it is asked with; a file or what is not there loses it.
        walked.slash = filename.endswith("/") and walked.entry is not None and not walked.rest
        full = join(walked.path, "") if walked.slash else walked.path
        if before is not None and before.folder is not None and _looked_in(walked) == known:
            walked.settings, count = before.folder
            walked.sections = before.sections[:count]
            walked.doubts += [doubt for doubt in before.doubts if doubt not in walked.doubts]
        else:
            self._patterns(walked, full)
        walked.folder = walked.settings, len(walked.sections)
        self._files(walked, full.rpartition("/")[2])
        walked.settings = self._with_host_rules(walked.settings)
        return walked

    def _begun(self, names: Sequence[str]) -> tuple[int, Walked]:
        """The walk as far as another has come on the same path, and how many names that is."""
        for done in range(len(names), 0, -1):
            known = self._known.reached.get((id(self.host), "/".join(names[:done])))
            if known is not None:
                return done, known.copied()
        walked = Walked("/", self.bare, [("server", self.host.settings, None)])
        walked.entry = self.walker.files.get("/")
        if walked.entry is None:
            return 0, walked
        self._enter(walked, walked.entry, 0)
        plain = self._plain(names[:-1], walked.entry)
        bound, before, asks = self.by_depth, None, False
        for depth, (rung, folder) in enumerate(plain, 1):
            walked.rungs.append(rung)
            walked.path, walked.entry = folder.path, folder
            if walked.settings is not before:
                before = walked.settings
                asks = asks_for(before.override, before.override_list)
            # In most folders on the way nothing is said, and nothing is looked for.
            if asks or depth in bound:
                self._enter(walked, folder, depth)
        return len(plain), walked

    def _plain(self, names: Sequence[str], here: Entry) -> list[tuple[Rung, Entry]]:
        """The folders at the beginning of a path that are no links and open to the worker, each
        with the step to it. They are the same for all sites.
        """
        path = "/".join(names)
        known = self._known.plain.get(path)
        if known is not None:
            return known
        known = []
        for name in names:
            step = self.walker.search(here)
            entry, _ = self.walker.look(here.path, name)
            if step.blocked or entry is None or entry.kind is not Kind.DIR:
                break
            if not self.walker.looks(entry):
                break
            known.append((self._rung(here.path, step), entry))
            here = entry
        self._known.plain[path] = known
        return known

    def _keep(self, path: str, walked: Walked) -> None:
        """Remembers a folder that was reached: how it was asked for makes no difference so far."""
        self._known.reached[id(self.host), path] = walked.copied()

    def _with_host_rules(self, settings: Settings) -> Settings:
        own = self.host.settings.rewriting
        if own is None:
            return settings
        known = self._ruled.get(settings)
        if known is not None:
            return known
        inner = settings.rewriting
        rules = own if inner is None else inner.over(own)
        return self._ruled.put(settings, settings.with_rules(rules))

    # --- one folder ---

    def _enter(self, walked: Walked, folder: Entry, depth: int) -> None:
        """Sections of a folder that was reached, and its override files."""
        self._sections(walked, depth)
        if asks_for(walked.settings.override, walked.settings.override_list):
            self._override(walked, folder, depth)

    def _sections(self, walked: Walked, depth: int) -> None:
        for section in self.by_depth.get(depth, ()):
            fits = section.fits_folder(walked.path)
            if fits is None:
                self._pattern_doubt(walked, section, depth)
            elif fits:
                self._apply(walked, section.directive.quoted, section.settings, section, depth)

    def _apply(
        self, walked: Walked, title: str, settings: Settings, section: Section | None, depth: int
    ) -> None:
        walked.settings = self.merge(walked.settings, settings)
        walked.sections.append((title, settings, section))
        for directive in settings.unread:
            walked.doubts.append(unread(directive, Rank(Phase.WALK, depth * HALF)))

    def _override(self, walked: Walked, folder: Entry, depth: int) -> None:
        names = self.host.override_names or (".htaccess",)
        if self._known.without.get(walked.path) == names:
            return
        rank = Rank(Phase.WALK, depth * HALF + 1)
        step = self.walker.search(folder)
        found = len(walked.blocks) + len(walked.doubts)
        if step.blocked:
            # What its override file says comes to bear once the folder is open.
            self._shut(walked, step, rank)
            rank = Rank(Phase.WALK, depth * HALF + 2)
        for name in names:
            if self._override_file(walked, folder, name, depth, rank):
                return
        if not step.blocked and len(walked.blocks) + len(walked.doubts) == found:
            self._known.without[walked.path] = names

    def _override_file(
        self, walked: Walked, folder: Entry, name: str, depth: int, rank: Rank
    ) -> bool:
        """Whether this name was found and read; the names behind it are not looked for then."""
        path = join(walked.path, name)
        walk = self.walker.walk(join(folder.path, name))
        facts = {"path": path}
        entry = walk.entry
        if walk.problem is Problem.UNSEEN:
            self._unseen(walked, path, depth)
            return False
        # A link that leads nowhere is as good as none.
        if walk.problem in (Problem.MISSING, Problem.NOT_FOLDER):
            return False
        shut = {block.path for block in walked.blocks if block.code == codes.LADDER_SHUT}
        kept_out = any(step.protected or step.entry.path not in shut for step in walk.blocked)
        if walk.problem is not None or entry is None or kept_out:
            walked.blocks.append(Block(codes.RULE_OVERRIDE_CLOSED, rank, 403, facts, ()))
            return False
        proof = Proof(entry=entry, path=path)
        if entry.kind is Kind.PIPE:
            # Opening one holds the worker up for good; what others then get is not known.
            walked.doubts.append(Doubt(codes.RULE_OVERRIDE_FILE, rank, facts, (proof,)))
            return False
        if entry.kind is not Kind.FILE or not decide(entry, self.walker.subject, READ).allowed:
            walked.blocks.append(Block(codes.RULE_OVERRIDE_CLOSED, rank, 403, facts, (proof,)))
            return False
        settings = walked.settings
        read = self.overrides.read(path, walk.physical, settings.override, settings.override_list)
        if read is None:
            walked.doubts.append(Doubt(codes.RULE_OVERRIDE_FILE, rank, facts, (proof,)))
            return True
        walked.doubts += [_unjudged(directive, rank) for directive in read.doubts]
        if read.fault is not None:
            place, why = read.fault
            proofs = (Proof(place=place, text=why), proof)
            block = Block(codes.RULE_OVERRIDE_REFUSED, rank, 500, {**facts, "why": why}, proofs)
            walked.blocks.append(block)
            return True
        merged = self.merge(walked.settings, read.settings)
        kept = walked.settings.options
        # To the server itself such a file says nothing: nothing of its is merged.
        if not read.of_server and kept is not None and kept.left_over:
            merged = merged.with_options(kept)
        walked.settings = merged
        walked.sections.append((path, read.settings, None))
        for directive in read.settings.unread:
            walked.doubts.append(unread(directive, rank))
        return True

    # --- one component ---

    def _component(
        self,
        walked: Walked,
        name: str,
        depth: int,
        last: bool,
        ends: bool,
        *,
        again: bool,
    ) -> bool:
        """Goes one name further; False where the walk ends there. last: no name and no slash
        follows; ends: no name does. again: the server has just been in this folder.
        """
        here = walked.entry
        assert here is not None
        options = walked.settings.options
        bits = options.bits if options else Opt.NONE
        follows_unseen = bits & (Opt.FOLLOW | Opt.OWNER_MATCH) == Opt.FOLLOW
        rank = Rank(Phase.WALK, depth * HALF - 1)
        step = self.walker.search(here)
        walked.rungs.append(self._rung(walked.path, step))
        if step.blocked:
            self._shut(walked, step, rank)
        walked.path = join(walked.path, name)
        entry, problem = self.walker.look(here.path, name)
        if entry is None:
            walked.entry = None
            if problem is Problem.UNSEEN:
                self._unseen(walked, walked.path, depth)
            elif problem is Problem.TOO_LONG:
                facts = {"path": walked.path}
                walked.blocks.append(Block(codes.LADDER_NAME_TOO_LONG, rank, 403, facts))
            return False
        if entry.kind is Kind.LINK:
            if not follows_unseen:
                self._looked_at(walked, entry, rank)
            target = self._link(walked, entry, rank, again=again)
            if target is None:
                walked.entry = None
                return False
            entry = target
        walked.entry = entry
        # At first the whole path is looked at, which asks it of its end; where links are judged,
        # each name on the way is (server/request.c, ap_directory_walk).
        if ends or entry.kind is not Kind.DIR or not follows_unseen:
            self._looked_at(walked, entry, rank)
        if entry.kind is Kind.DIR:
            self._enter(walked, entry, depth)
            return True
        if entry.kind is Kind.FILE:
            if last and not again and follows_unseen:
                # Where every link is followed the server spares itself the look at the last
                # name, and takes it for one folder more: sections on it bind the file.
                self._sections(walked, depth)
        elif not (last and follows_unseen):
            # Spared the look, the server goes on with what is no file as with one (measured).
            self._special(walked, entry, rank)
        return False

    def _rung(self, asked: str, step: Step) -> Rung:
        """The step of searching a folder, as it is shown."""
        rungs = self._known.rungs
        known = rungs.get(asked)
        if known is not None and known.entry is step.entry:
            return known
        decision = step.decision
        assert decision is not None
        rung = Rung(asked, step.entry, "x", decision.allowed, decision.by, decision.line)
        rungs[asked] = rung
        return rung

    def _shut(self, walked: Walked, step: Step, rank: Rank) -> None:
        """The worker may not search a folder."""
        known = {block.path for block in walked.blocks if block.code == codes.LADDER_SHUT}
        if step.entry.path not in known:
            facts = {"path": step.entry.path}
            proof = Proof(entry=step.entry)
            walked.blocks.append(Block(codes.LADDER_SHUT, rank, 403, facts, (proof,)))

    def _looked_at(self, walked: Walked, entry: Entry, rank: Rank) -> None:
        """What may not be looked at ends the walk, whatever else may be done with it."""
        if self.walker.looks(entry):
            return
        code = codes.LADDER_SHUT if entry.kind is not Kind.FILE else codes.LADDER_UNREADABLE
        facts = {"path": entry.path}
        walked.blocks.append(Block(code, rank, 403, facts, (Proof(entry=entry),)))

    def _is_seen(self, walked: Walked) -> bool:
        return walked.entry is None or self.walker.looks(walked.entry)

    def _special(self, walked: Walked, entry: Entry, rank: Rank) -> None:
        facts = {"path": walked.path, "kind": entry.kind.value}
        proofs = (Proof(entry=entry),)
        if entry.kind is Kind.PIPE:
            walked.doubts.append(Doubt(codes.SERVE_PIPE, rank, facts, proofs))
        else:
            walked.blocks.append(Block(codes.SERVE_NO_FILE, rank, 403, facts, proofs))

    # --- links ---

    def _link(self, walked: Walked, link: Entry, rank: Rank, *, again: bool) -> Entry | None:
        options = walked.settings.options
        bits = options.bits if options else Opt.NONE
        place = options.place if options else None
        line = Proof(place=place, text=options.text if options else "")
        lead = self.walker.follow(link)
        rule = "owner" if bits & Opt.OWNER_MATCH else "all" if bits & Opt.FOLLOW else "none"
        if again and bits & Opt.FOLLOW:
            # Where both are said, nobody compares the owners of an index (measured).
            rule = "all"
        allowed = rule != "none"
        facts = {"path": walked.path, "target": link.target or ""}
        if not allowed:
            proofs = (Proof(entry=link, path=walked.path), *((line,) if place else ()))
            walked.blocks.append(Block(codes.LADDER_LINK_REFUSED, rank, 403, facts, proofs))
        if lead.problem is Problem.UNSEEN:
            self._unseen(walked, lead.physical, rank.step // HALF)
        self._lead(walked, lead.steps, rank)
        if rule == "owner" and lead.entry is not None and lead.entry.uid != link.uid:
            allowed = False
            proofs = (Proof(entry=link, path=walked.path), Proof(entry=lead.entry), line)
            walked.blocks.append(Block(codes.LADDER_LINK_OWNER, rank, 403, facts, proofs))
        walked.rungs.append(Rung(walked.path, link, "", allowed, "", "", rule))
        if lead.problem in (Problem.MISSING, Problem.LOOP, Problem.NOT_FOLDER, Problem.TOO_LONG):
            code = (
                codes.LADDER_LINK_LOOP
                if lead.problem is Problem.LOOP
                else codes.LADDER_LINK_NOWHERE
            )
            proofs = (Proof(entry=link, path=walked.path),)
            walked.blocks.append(Block(code, rank, 403, facts, proofs))
        return None if lead.problem else lead.entry

    def _lead(self, walked: Walked, steps: Sequence[Step], rank: Rank) -> None:
        """What the kernel asks on the way that a link leads."""
        for step in steps:
            if step.decision is not None:
                walked.rungs.append(self._rung(step.entry.path, step))
                if step.blocked:
                    self._shut(walked, step, rank)
            elif step.protected:
                facts = {"path": step.entry.path, "target": step.entry.target or ""}
                proofs = (Proof(entry=step.entry),)
                walked.blocks.append(Block(codes.LADDER_LINK_PROTECTED, rank, 403, facts, proofs))

    # --- after the walk ---

    def _patterns(self, walked: Walked, full: str) -> None:
        for section in self.host.folder_patterns:
            fits = section.fits_regex(full)
            if fits is None:
                self._pattern_doubt(walked, section, 0)
            elif fits:
                self._apply(walked, section.directive.quoted, section.settings, section, HALF)

    def _files(self, walked: Walked, leaf: str) -> None:
        done: set[int] = set()
        again, base, bound = True, walked.settings, list[Settings]()
        # A section on files may itself hold more of them.
        while again:
            again = False
            for section in walked.settings.files:
                if id(section) in done:
                    continue
                done.add(id(section))
                fits = section.fits(leaf)
                if fits is None:
                    walked.doubts.append(
                        Doubt(
                            codes.RULE_PATTERN_UNKNOWN,
                            Rank(Phase.WALK, HALF * HALF),
                            {"pattern": section.pattern},
                            (proof_of(section.directive),),
                        )
                    )
                elif fits:
                    again = True
                    title = section.directive.quoted
                    self._apply(walked, title, section.settings, None, HALF)
                    bound.append(section.settings)
                    walked.named = True
        walked.settings = self.merged(base, bound)

    def _pattern_doubt(self, walked: Walked, section: Section, depth: int) -> None:
        proof = proof_of(section.directive)
        facts = {"pattern": section.pattern}
        rank = Rank(Phase.WALK, depth * HALF)
        walked.doubts.append(Doubt(codes.RULE_PATTERN_UNKNOWN, rank, facts, (proof,)))

    def _unseen(self, walked: Walked, path: str, depth: int) -> None:
        walked.unseen = True
        rank = Rank(Phase.WALK, depth * HALF + 2)
        walked.doubts.append(Doubt(codes.LADDER_UNSEEN, rank, {"path": path}))


def _looked_in(walked: Walked) -> str | None:
    """The folder, with a slash, in which what was found lies, or which it is; None for what is not
    there and what is neither file nor folder.
    """
    entry = walked.entry
    if entry is not None and entry.kind is Kind.DIR:
        return join(walked.path, "")
    if entry is None or entry.kind is not Kind.FILE or walked.rest:
        return None
    return f"{walked.path.rpartition('/')[0]}/"


def unread(directive: Directive, rank: Rank) -> Doubt:
    """The doubt about a directive that is not evaluated."""
    facts = {"directive": directive.name.lstrip("<")}
    return Doubt(codes.RULE_NOT_EVALUATED, rank, facts, (proof_of(directive),))


def _unjudged(directive: Directive, rank: Rank) -> Doubt:
    """The doubt whether the server takes a line at all: where it does not, it fails on every
    request, whatever the line bears on.
    """
    facts = {"directive": f"{directive.name.lstrip('<')} with its arguments"}
    return Doubt(codes.RULE_NOT_EVALUATED, rank, facts, (proof_of(directive),))


def may_read(walker: Walker, entry: Entry) -> Rung:
    """The last rung: the file itself is opened for reading."""
    decision = decide(entry, walker.subject, READ)
    return Rung(entry.path, entry, "r", decision.allowed, decision.by, decision.line)
