"""Where an address leads: the walk down to it, the settings that hold there, and who may.

Source: httpd 2.4, "Configuration Sections: How the sections are merged".
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ecumen.engines.httpd.access import Access, Outcome, Visitor, judge
from ecumen.engines.httpd.server import Host, Section
from ecumen.engines.httpd.settings import Settings
from ecumen.engines.httpd.walk import FolderWalk, Walked, unread
from ecumen.engines.sites import Block, Doubt, Phase, Proof, Rank, RuleLine, Rung, proof_of
from ecumen.rights import Walker

# A section that binds: its title, its settings, and where it stands (None: the server's own).
Bound = tuple[str, Settings, Section | None]


@dataclass(slots=True)
class Target:
    """One address with the path that it leads to, walked, and the settings that hold there."""

    walked: Walked
    settings: Settings
    lines: list[RuleLine]
    blocks: list[Block] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)


class Targets:
    """The targets of one worker; what can be merged once is merged once."""

    def __init__(self, walker: Walker) -> None:
        self.walker = walker
        self._walks: dict[int, FolderWalk] = {}
        self._rungs: dict[str, Rung] = {}

    def of(
        self, host: Host, path: str, filename: str, visitor: Visitor, *, asked: bool = True
    ) -> Target:
        """path: of the address, decoded; filename: where it leads on disk. asked: by the visitor,
        and not by the server itself, which looks for an index.
        """
        walk = self._walks.get(id(host))
        if walk is None:
            walk = self._walks[id(host)] = FolderWalk(host, self.walker, self._rungs)
        walked = walk.walk(filename, asked=asked)
        settings = walked.settings
        sections: list[Bound] = list(walked.sections)
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
        target = Target(walked, settings, [], list(walked.blocks), doubts)
        self._access(target, sections, visitor)
        return target

    def _access(self, target: Target, sections: Sequence[Bound], visitor: Visitor) -> None:
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
        self, target: Target, visitor: Visitor, rank: Rank, proofs: tuple[Proof, ...]
    ) -> None:
        kind = target.settings.auth_type
        if visitor.signed_in or (kind is not None and kind.value.lower() != "basic"):
            target.doubts.append(Doubt("rule.login-unknown", rank, {}, proofs))
        elif kind is None or target.settings.auth_name is None:
            target.blocks.append(Block("rule.login-broken", rank, 500, {}, proofs))
        else:
            target.blocks.append(Block("rule.login", rank, 401, {}, proofs))


def _only_local(proofs: tuple[Proof, ...]) -> bool:
    return bool(proofs) and all("local" in proof.text.lower().split() for proof in proofs)


def _rule_lines(
    sections: Sequence[Bound], access: Access | None, outcome: Outcome | None
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
