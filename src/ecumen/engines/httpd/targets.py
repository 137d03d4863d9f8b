"""Where an address leads: the walk down to it, the settings that hold there, and who may.

Source: httpd 2.4, "Configuration Sections: How the sections are merged".
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from ecumen import codes
from ecumen.engines.httpd.access import Access, AccessOutcome, Judged, Visitor, judge
from ecumen.engines.httpd.asking import Asked, speaks_tls
from ecumen.engines.httpd.compat import Compat
from ecumen.engines.httpd.deciding import Ruling, ruled
from ecumen.engines.httpd.expressions import holds
from ecumen.engines.httpd.marks import marked
from ecumen.engines.httpd.overrides import OverrideReader
from ecumen.engines.httpd.server import Host, Section
from ecumen.engines.httpd.settings import Choice, Conditional, Settings
from ecumen.engines.httpd.walk import SEALED_ALONE, FolderWalk, Known, Walked, unread
from ecumen.engines.sites import Block, Doubt, Phase, Proof, Rank, RuleLine, proof_of
from ecumen.engines.tree import Directive
from ecumen.rights import Walker
from ecumen.rights.walk import join
from ecumen.survey import Kind

# A section that binds: its title, its settings, and where it stands (None: the server's own).
Bound = tuple[str, Settings, Section | None]


@dataclass(slots=True)
class Target:
    """One address with the path that it leads to, walked, and the settings that hold there."""

    address: str
    walked: Walked
    settings: Settings
    lines: list[RuleLine]
    blocks: list[Block] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)

    @property
    def judged(self) -> Judged:
        """For what the server looks up next."""
        walked = self.walked
        folder: str | None = walked.path.rpartition("/")[0]
        if walked.entry is not None and walked.entry.kind is Kind.DIR:
            folder = walked.path if walked.slash else None
        return Judged(self.settings, folder, self.address, walked.path)


class Targets:
    """The targets of one worker; what can be merged once is merged once. judges_again: who may is
    asked again under the same rules, unless the server takes over the whole walk of before.
    """

    def __init__(
        self, walker: Walker, overrides: OverrideReader, *, judges_again: bool = False
    ) -> None:
        self.judges_again = judges_again
        self.walker = walker
        self.overrides = overrides
        self._walks: dict[int, FolderWalk] = {}
        self._known = Known()
        self._last: tuple[Host, str, Walked] | None = None

    def located(self, host: Host, path: str, visitor: Visitor) -> tuple[Settings, list[Doubt]]:
        """The settings that hold for an address before it is known where it leads."""
        settings = host.settings
        sections, doubts = _by_address(host, path)
        settings = self.walk(host).merged(settings, (each.settings for each in sections))
        if settings.conditionals:
            settings, _, more = self._conditional(host, settings, visitor, Rank(Phase.ENTRY, 2))
            doubts += more
        return settings, doubts

    def _conditional(
        self, host: Host, settings: Settings, visitor: Visitor, rank: Rank
    ) -> tuple[Settings, list[Bound], list[Doubt]]:
        """With the sections whose condition holds; they are merged last, in their order."""
        bound: list[Bound] = []
        doubts: list[Doubt] = []
        first = level = settings.conditionals
        while level:
            # Conditions within those that hold come after all of these.
            within: list[Conditional] = []
            if level is not first and visitor.again:
                # What the server remembers of the request before may make it pass these by.
                doubts += [unread(section.directive, rank) for section in level]
                break
            joined = []
            for section, held in _held(level, visitor):
                if held is None:
                    doubts.append(unread(section.directive, rank))
                elif held:
                    joined.append(section.settings)
                    bound.append((section.directive.quoted, section.settings, None))
                    doubts += [unread(d, rank) for d in section.settings.unread]
                    within += section.settings.conditionals
            settings = self.walk(host).merged(settings, joined)
            level = tuple(within)
        return settings, bound, doubts

    def walk(self, host: Host) -> FolderWalk:
        """The walks of one site."""
        walk = self._walks.get(id(host))
        if walk is None:
            walk = FolderWalk(host, self.walker, self.overrides, self._known)
            self._walks[id(host)] = walk
        return walk

    def walked(self, host: Host, filename: str) -> Walked:
        """The walk to a path, whoever asks; several do, one after the other."""
        known = self._last
        if known is None or known[0] is not host or known[1] != filename:
            known = self._last = host, filename, self.walk(host).walk(filename)
        return known[2]

    def beside(self, host: Host, path: str, visitor: Visitor) -> Target:
        """What holds for an address that leads to nothing on disk: an upstream."""
        settings = host.settings
        walked = Walked("/", settings, [("server", settings, None)])
        return self._target(host, path, walked, visitor)

    def of(
        self,
        host: Host,
        path: str,
        filename: str,
        visitor: Visitor,
        before: Walked | None = None,
    ) -> Target:
        """path: of the address, decoded; filename: where it leads. before: as for a walk."""
        walked = self.walk(host).walk(filename, before)
        return self._target(host, path, walked, visitor)

    def _target(self, host: Host, path: str, walked: Walked, visitor: Visitor) -> Target:
        settings = walked.settings
        sections: list[Bound] = list(walked.sections)
        found, doubts = _by_address(host, path)
        doubts = walked.doubts + doubts
        settings = self.walk(host).merged(settings, (section.settings for section in found))
        for section in found:
            sections.append((section.directive.quoted, section.settings, section))
            doubts += [unread(d, Rank(Phase.ENTRY, 2)) for d in section.settings.unread]
        if isinstance(visitor.facts, Asked):
            if not speaks_tls(visitor.facts.asking):
                doubts = [each for each in doubts if not _of_seals(each)]
            # From here on conditions know where the address leads.
            visitor.facts.settings = settings
            visitor.facts.filename = join(walked.path, "") if walked.slash else walked.path
        if settings.conditionals:
            rank = Rank(Phase.ACCESS)
            settings, bound, more = self._conditional(host, settings, visitor, rank)
            sections += bound
            doubts += more
        asked = visitor.facts
        if settings.marks and isinstance(asked, Asked) and not asked.asking.by_itself:
            asked.marks = marked(settings.marks, asked, asked.marks)
        target = Target(path, walked, settings, [], list(walked.blocks), doubts)
        before = visitor.judged
        # What was merged for this very address, or name of a file, is taken over.
        anew = (
            len(sections) > len(walked.sections) + len(found)
            or (bool(found) and (before is None or before.address != path))
            or (walked.named and (before is None or before.file != walked.path))
        )
        self._access(target, sections, visitor, anew=anew)
        return target

    def _is_judged(self, target: Target, visitor: Visitor, anew: bool) -> bool:
        """Whether who may was answered by the request before. anew: sections that are merged after
        the walk bind this one.

        The server compares pointers to what it merged. With such a module it merges anew, but for a
        file that is there, or a folder, where the walk ended before (request.c, the walks;
        measured with 9 ways of asking and 5 of merging).
        """
        before = visitor.judged
        if before is None or before.settings is not target.settings:
            return False
        if not self.judges_again:
            return True
        entry, folder = target.walked.entry, target.walked.path
        if entry is None or target.walked.rest or anew:
            return False
        if entry.kind is not Kind.DIR:
            folder = folder.rpartition("/")[0]
        return folder == before.folder

    def _access(
        self, target: Target, sections: Sequence[Bound], visitor: Visitor, *, anew: bool
    ) -> None:
        settings = target.settings
        access = settings.access
        if self._is_judged(target, visitor, anew):
            target.lines = _rule_lines(sections, access, AccessOutcome.GRANTED)
            return
        self._methods(target, visitor)
        any_will_do = settings.compat is not None and settings.compat.any_will_do(visitor.method)
        let_in = self._compat(target, visitor)
        if self._lacks_seal(target, visitor, any_will_do=any_will_do):
            let_in = False
        outcome: AccessOutcome | None = AccessOutcome.GRANTED
        if not (any_will_do and let_in):
            outcome = self._ruled(target, visitor)
        target.lines = _rule_lines(sections, access, outcome)

    def _ruled(self, target: Target, visitor: Visitor) -> AccessOutcome | None:
        """Notes what comes of the visitor by the rules; returns what they say."""
        settings = target.settings
        outcome: AccessOutcome | None = AccessOutcome.GRANTED
        unknown: tuple[Directive, ...] = ()

        def judged(access: Access) -> AccessOutcome | None:
            nonlocal outcome, unknown
            outcome, unknown = judge(access, visitor)
            return outcome

        ruling = ruled(settings, judged, signed_in=visitor.signed_in)
        proofs = settings.access.lines if settings.access is not None else ()
        rank = Rank(Phase.ACCESS, 1)
        match ruling:
            case Ruling.UNSURE:
                doubts = tuple(proof_of(directive) for directive in unknown)
                target.doubts.append(Doubt(codes.RULE_UNKNOWN_TEST, rank, {}, doubts))
            case Ruling.LOGIN_UNKNOWN:
                target.doubts.append(Doubt(codes.RULE_LOGIN_UNKNOWN, rank, {}, proofs))
            case Ruling.LOGIN_UNUSED:
                choice = settings.auth_type or Choice("")
                line = Proof(place=choice.place, text=choice.text)
                target.blocks.append(Block(codes.RULE_LOGIN_UNUSED, rank, 500, {}, (line,)))
            case Ruling.LOGIN_BROKEN:
                target.blocks.append(Block(codes.RULE_LOGIN_BROKEN, rank, 500, {}, proofs))
            case Ruling.LOGIN:
                target.blocks.append(Block(codes.RULE_LOGIN, rank, 401, {}, proofs))
            case Ruling.DENIED:
                code = codes.RULE_LOCAL_ONLY if _only_local(proofs) else codes.RULE_DENIED
                target.blocks.append(Block(code, rank, 403, _whom(visitor), proofs))
        return outcome

    def _methods(self, target: Target, visitor: Visitor) -> None:
        """The methods that are allowed at all: asked before any rule."""
        choice = target.settings.methods
        if choice is None or not choice.value or visitor.method in choice.value.split():
            return
        facts = {"method": visitor.method, "allowed": choice.value.replace(" ", ", ")}
        line = Proof(place=choice.place, text=choice.text)
        rank = Rank(Phase.ACCESS, -1)
        target.blocks.append(Block(codes.RULE_METHOD, rank, 405, facts, (line,)))

    def _lacks_seal(self, target: Target, visitor: Visitor, *, any_will_do: bool) -> bool:
        """Asked with the older rules, before the newer ones (ssl_hook_Access): where any will do,
        those may let in all the same, unless an option says that they may not.
        """
        choice, asked = target.settings.sealed_only, visitor.facts
        if choice is None or not isinstance(asked, Asked) or speaks_tls(asked.asking):
            return False
        line, rank = Proof(place=choice.place, text=choice.text), Rank(Phase.ACCESS)
        if not any_will_do:
            target.blocks.append(Block(codes.RULE_NEEDS_SEAL, rank, 403, {}, (line,)))
        for directive in target.settings.unread if any_will_do else ():
            if directive.name.lower() == "ssloptions":
                target.doubts.append(unread(directive, rank))
        return True

    def _compat(self, target: Target, visitor: Visitor) -> bool | None:
        """Whether the older rules let the visitor in; they are judged first."""
        compat = target.settings.compat
        if compat is None:
            return True
        mark = visitor.facts.mark if visitor.facts is not None else None
        allowed = compat.allowed(visitor.client, visitor.method, mark, visitor.callers)
        if compat.any_will_do(visitor.method) and allowed is False:
            return False
        if allowed is None:
            rank = Rank(Phase.ACCESS)
            target.doubts.append(Doubt(codes.RULE_UNKNOWN_TEST, rank, {}, compat.lines))
        elif not allowed:
            block = Block(codes.RULE_DENIED, Rank(Phase.ACCESS), 403, _whom(visitor), compat.lines)
            target.blocks.append(block)
        return allowed


def _held(
    conditionals: Sequence[Conditional], visitor: Visitor
) -> Iterator[tuple[Conditional, bool | None]]:
    """Which of them hold; what follows one that does, as its alternative, does not."""
    before: bool | None = False
    for section in conditionals:
        if section.kind == "if":
            before = False
        elif before:
            continue
        held: bool | None = True
        if section.kind != "else":
            held = None if visitor.facts is None else holds(section.text, visitor.facts)
        if before is None and held:
            held = None
        before = None if before is None or held is None else held
        yield section, held


def _whom(visitor: Visitor) -> dict[str, str]:
    return {"client": visitor.client or "a visitor from outside"}


def _of_seals(doubt: Doubt) -> bool:
    return str(doubt.facts.get("directive", "")).lower() in SEALED_ALONE


def _by_address(host: Host, path: str) -> tuple[list[Section], list[Doubt]]:
    """The sections that bind an address, and those of which that is not worked out."""
    known = [(section, section.fits_address(path)) for section in host.addresses]
    doubts = [_unknown_pattern(section) for section, fits in known if fits is None]
    return [section for section, fits in known if fits], doubts


def _unknown_pattern(section: Section) -> Doubt:
    facts = {"pattern": section.pattern}
    proofs = (proof_of(section.directive),)
    return Doubt(codes.RULE_PATTERN_UNKNOWN, Rank(Phase.ENTRY, 2), facts, proofs)


def _only_local(proofs: tuple[Proof, ...]) -> bool:
    return bool(proofs) and all("local" in proof.text.lower().split() for proof in proofs)


def _rule_lines(
    sections: Sequence[Bound], access: Access | None, outcome: AccessOutcome | None
) -> list[RuleLine]:
    lines = []
    for title, settings, section in sections:
        own = settings.access
        if settings.compat is not None:
            lines.append(_compat_line(title, settings.compat, section))
        if own is None or not own.rules:
            continue
        effective = access is not None and _within(own, access)
        shown = (outcome.value if outcome else "unsure") if effective else "none"
        proof = proof_of(section.directive) if section is not None else None
        lines.append(RuleLine(title, proof, own.lines, effective, shown))
    return lines


def _compat_line(title: str, compat: Compat, section: Section | None) -> RuleLine:
    proof = proof_of(section.directive) if section is not None else None
    return RuleLine(title, proof, compat.lines, False)


def _within(own: Access, access: Access) -> bool:
    """Whether the rules of one section are among those that hold in the end."""
    if access.rules == own.rules:
        return True
    return any(_within(own, part) for part in access.parts)
