"""The values that a passage is made of; plain, so that they can be shown and sent anywhere."""

from __future__ import annotations

from dataclasses import dataclass, field, fields

from ecumen.codes import Verdict as Verdict


@dataclass(frozen=True, slots=True)
class Evidence:
    """Lines of configuration (file, line, text), an entry on disk (path and the rest), or a
    request with what comes of it.
    """

    file: str | None = None
    line: int | None = None
    text: str | None = None
    path: str | None = None
    kind: str | None = None
    mode: str | None = None
    owner: str | None = None
    group: str | None = None
    acl: str | None = None
    target: str | None = None
    request: str | None = None
    outcome: str | None = None
    context: str | None = None

    def said(self) -> dict[str, str | int]:
        """What it says, by name."""
        return {name: value for name in _SAID if (value := getattr(self, name)) is not None}


_SAID = tuple(field.name for field in fields(Evidence))


@dataclass(frozen=True, slots=True)
class ClaimView:
    """One site in the contest. outcome: won, first, matched-later, weaker or other-name."""

    site: str
    binding: str
    names: list[str]
    outcome: str
    words: str
    matched: str | None
    at: Evidence


@dataclass(frozen=True, slots=True)
class MappingView:
    """One step from address to path."""

    how: str
    words: str
    before: str
    after: str
    at: Evidence | None


@dataclass(frozen=True, slots=True)
class PlaceView:
    """One place of the configuration that could take the address. outcome: won, longest, other."""

    title: str
    outcome: str
    words: str
    at: Evidence | None


@dataclass(frozen=True, slots=True)
class RuleView:
    """One section with the access lines that it brings."""

    section: str
    effective: bool
    outcome: str
    words: str
    at: Evidence | None
    lines: list[Evidence]


@dataclass(frozen=True, slots=True)
class RungView:
    """One step of the ladder. triads: owner, group, other as rwx; by: which of them decided."""

    path: str
    name: str
    real_path: str
    kind: str
    mode: str
    triads: list[str]
    owner: str
    group: str
    acl: list[str]
    target: str | None
    need: str
    allowed: bool
    by: str
    line: str
    words: str


@dataclass(frozen=True, slots=True)
class LabelView:
    """One step under the security policy. type, expected: "" where they are not known."""

    path: str
    name: str
    kind: str
    type: str
    expected: str
    differs: bool
    allowed: bool | None
    words: str


@dataclass(frozen=True, slots=True)
class LedView:
    """One step of where a name leads. by: `file`, `alias`, `v4` or `v6`. ours: whether it is an
    address of this server; None for what is no address.
    """

    by: str
    name: str
    target: str
    ours: bool | None
    words: str


@dataclass(frozen=True, slots=True)
class CertificateView:
    """A certificate. key: its kind and size. begins, ends: seconds since 1970, UTC."""

    subject: str
    issuer: str
    key: str
    begins: int
    ends: int
    digest: str


@dataclass(frozen=True, slots=True)
class SealView:
    """The certificate that is shown for a name. asked: that name; held: the name of the certificate
    that holds it, None for none. names: all of its own, `more` of them left out. chain: those that
    lead from it to somebody who is trusted, `chain_state` and `chain_words` how far. fault: the
    code of why a browser refuses it; "" where none does. seen_at: when it was looked at; state: as
    it was then: over, not-yet, soon or in-time.
    """

    path: str
    key_path: str
    asked: str
    held: str | None
    names: list[str]
    more: int
    certificate: CertificateView
    chain: list[CertificateView]
    chain_state: str
    chain_words: str
    fault: str
    seen_at: int
    state: str
    others: list[CertificateView]
    at: Evidence


@dataclass(frozen=True, slots=True)
class CandidateView:
    """One name that could be served for a folder."""

    name: str
    path: str
    outcome: str
    words: str
    size: int | None


@dataclass(frozen=True, slots=True)
class GateResult:
    """One gate of a passage. Only the picture that belongs to the gate is filled."""

    gate: str
    verdict: Verdict
    code: str
    reason: str
    evidence: list[Evidence] = field(default_factory=list)
    claims: list[ClaimView] = field(default_factory=list)
    mappings: list[MappingView] = field(default_factory=list)
    places: list[PlaceView] = field(default_factory=list)
    rules: list[RuleView] = field(default_factory=list)
    rungs: list[RungView] = field(default_factory=list)
    candidates: list[CandidateView] = field(default_factory=list)
    labels: list[LabelView] = field(default_factory=list)
    seals: list[SealView] = field(default_factory=list)
    leads: list[LedView] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Obstacle:
    """A gate that would block this request. status: what the visitor gets; None is no answer."""

    gate: str
    code: str
    status: int | None
    reason: str
    mend: str
    evidence: list[Evidence]


@dataclass(frozen=True, slots=True)
class Uncertainty:
    """Something that is not evaluated and could change the answer."""

    gate: str
    code: str
    reason: str
    evidence: list[Evidence]


@dataclass(frozen=True, slots=True)
class SiteRef:
    """declared_at: FILE:LINE."""

    engine: str
    name: str
    declared_at: str


@dataclass(frozen=True, slots=True)
class LifetimeView:
    """How long a browser may go on showing an older copy. kind: stated, asks, never, guess."""

    kind: str
    seconds: int
    words: str
    at: Evidence | None


@dataclass(frozen=True, slots=True)
class Passage:
    """What happens to one request. address: of the server, to which the connection goes.

    premise: what it holds under, where nothing else is unsure, as words behind "if"; "" else.
    """

    url: str
    decided: bool
    status: int | None
    site: SiteRef | None
    file: str | None
    content_type: str | None
    location: str | None
    upstream: str | None
    log: str | None
    summary: str
    deciding_gate: str
    gates: list[GateResult]
    obstacles: list[Obstacle]
    unsure_because: list[Uncertainty]
    kept: LifetimeView | None = None
    address: str | None = None
    premise: str = ""
