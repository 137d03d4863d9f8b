"""The vocabulary that both engines share: bindings, sites, and what is asked of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import IntEnum

from ecumen import codes
from ecumen.codes import Code, Facts
from ecumen.engines.tree import Directive, Place
from ecumen.patterns import Regex
from ecumen.survey import Certificate, Entry


class Phase(IntEnum):
    """The order in which an engine meets things. What comes first decides."""

    REACH = 0
    ENTRY = 1
    ADDRESS = 2
    MAPPING = 3
    WALK = 4
    ACCESS = 5
    RULES = 6
    FOLDER = 7
    CONTENT = 8


_LAP = 16


@dataclass(frozen=True, slots=True, order=True)
class Rank:
    """When in a request something happens; `step` orders within a phase.

    Where an engine begins anew with another address, that is a lap: phases of later laps come
    behind all of earlier ones.
    """

    phase: int
    step: int = 0

    def on_lap(self, lap: int) -> Rank:
        """The same moment, so many laps later."""
        return Rank(self.phase + lap * _LAP, self.step) if lap else self

    @property
    def within(self) -> int:
        """The phase within its lap."""
        return self.phase % _LAP

    @property
    def lap(self) -> int:
        return self.phase // _LAP


@dataclass(frozen=True, slots=True)
class AccessPattern:
    """A pattern that decides who is kept out. regex: None where it is not evaluated."""

    pattern: str
    regex: Regex | None
    place: Place
    text: str


@dataclass(frozen=True, slots=True)
class Proof:
    """A piece of evidence: lines of configuration or an entry of the file table."""

    place: Place | None = None
    text: str = ""
    entry: Entry | None = None
    path: str | None = None


@dataclass(frozen=True, slots=True)
class SealPair:
    """A certificate with its key, as a site names them: paths. place, text: the line that names the
    certificate. more: files out of which the engine completes what it sends. stands: whether both
    are known; what is made up for each greeting is not.
    """

    certificate: str
    key: str
    place: Place
    text: str
    more: tuple[str, ...] = ()
    stands: bool = True


@dataclass(frozen=True, slots=True)
class Led:
    """One step of where a name leads. by: `file` for the hosts file, `alias`, `v4` or `v6`. ours:
    whether that is an address of this server; None for what is none.
    """

    by: str
    name: str
    target: str
    ours: bool | None


@dataclass(frozen=True, slots=True)
class Sealed:
    """The certificate that is shown for a name. asked: that name; held: under which of its own
    names it holds that, None for under none. fault: why a browser would refuse it, "" for no
    reason. chain: certificates that lead from it to somebody who is trusted; chain_state: as
    `Chain.state`. seen_at: when it was looked at.
    """

    pair: SealPair
    certificate: Certificate
    asked: str
    held: str | None
    fault: str
    chain: tuple[Certificate, ...]
    chain_state: str
    lacks: str
    seen_at: int
    others: tuple[Certificate, ...] = ()


def proof_of(directive: Directive) -> Proof:
    return Proof(place=directive.place, text=directive.quoted)


@dataclass(frozen=True, slots=True)
class Block:
    """Something that stops a request. status: what the visitor gets; None is no HTTP answer.

    page: what goes out in place of the engine's own page.
    """

    code: Code
    rank: Rank
    status: int | None
    facts: Facts = field(default_factory=dict)
    proofs: tuple[Proof, ...] = ()
    page: Answer | None = None

    @property
    def path(self) -> str:
        """What on disk is in the way; "" where it is nothing on disk."""
        return str(self.facts.get("path", ""))

    @property
    def entry(self) -> Entry | None:
        """The entry of the file table that is in the way."""
        return next((proof.entry for proof in self.proofs if proof.entry is not None), None)

    @property
    def same(self) -> tuple[Code, str, tuple[Proof, ...]]:
        """What two blocks have in common that say the same."""
        return self.code, self.path, self.proofs


@dataclass(frozen=True, slots=True)
class Doubt:
    """Something that is not evaluated and could change the answer from `rank` on.

    only_type: it could change the content type or the log alone, never status and site.
    """

    code: Code
    rank: Rank
    facts: Facts = field(default_factory=dict)
    proofs: tuple[Proof, ...] = ()
    only_type: bool = False

    @property
    def path(self) -> str:
        """What on disk it is about; "" where it is nothing on disk."""
        return str(self.facts.get("path", ""))

    @property
    def same(self) -> tuple[Code, str, tuple[Proof, ...]]:
        """What two doubts have in common that say the same."""
        return self.code, self.path, self.proofs


@dataclass(frozen=True, slots=True)
class Answer:
    """What the visitor gets, where nothing earlier stops the request. file: of a page that goes out
    in place of an error and with a status of its own.
    """

    status: int
    rank: Rank
    content_type: str | None = None
    location: str | None = None
    file: str | None = None


def before_answer(answer: Answer | None) -> Rank:
    """Right before something goes out."""
    if answer is None:
        return Rank(Phase.CONTENT, -1)
    return Rank(answer.rank.phase, answer.rank.step - 1)


@dataclass(frozen=True, slots=True)
class Binding:
    """address: `*` for all, else a literal address or a name. port: None for any."""

    address: str
    port: int | None
    place: Place

    def __str__(self) -> str:
        return shown_at(self.address, self.port)


def shown_at(address: str, port: int | None) -> str:
    """An address and port as one writes them."""
    host = f"[{address}]" if ":" in address else address
    return f"{host}:{'*' if port is None else port}"


@dataclass(frozen=True, slots=True)
class Claim:
    """One site in the contest for a request, in the order in which it is weighed.

    outcome: a code of the gate `site`: won, matched-later, other-name, other-address, first.
    """

    site: str
    place: Place
    binding: str
    names: tuple[str, ...]
    outcome: str
    matched: str | None = None


@dataclass(frozen=True, slots=True)
class Mapped:
    """One step from address to path: what it was, what it became, and by which line."""

    how: str
    before: str
    after: str
    proof: Proof | None = None


@dataclass(frozen=True, slots=True)
class RuleLine:
    """One section that bears on the request, and the access lines that it brings.

    effective: its access lines stand in the end. outcome: granted, denied, login, unsure or none.
    """

    section: str
    proof: Proof | None
    lines: tuple[Proof, ...]
    effective: bool
    outcome: str = "none"


@dataclass(frozen=True, slots=True)
class Candidate:
    """One thing that could be served for a folder. outcome: served, missing, passed, blocked."""

    name: str
    path: str
    outcome: str
    entry: Entry | None = None


@dataclass(frozen=True, slots=True)
class Rung:
    """One step of the ladder, as the worker takes it.

    asked: the path as it was walked; entry: what stands there. need: r, w, x letters. by: which
    line of the permissions decided (root, owner, user, group, other), "" for a link.
    """

    asked: str
    entry: Entry
    need: str
    allowed: bool
    by: str
    line: str
    link_rule: str = ""


@dataclass(frozen=True, slots=True)
class Labelled:
    """One step under the security policy. type: that the entry has, expected: the context that the
    rules give it; both "" where that is not known. allowed: None where it is not known.
    """

    entry: Entry
    type: str
    expected: str
    allowed: bool | None
    why: str


@dataclass(frozen=True, slots=True)
class Arrival:
    """A request as it arrives at an engine.

    address, port: of the server's end of the connection. host: the Host header, None where none is
    sent. path: as in the request line, escapes and all; query: None without `?`. client: None is a
    visitor outside whose address is not given. headers: all others, by names in lower case.
    """

    address: str
    port: int
    sealed: bool
    server_name: str | None
    host: str | None
    method: str
    path: str
    query: str | None
    client: str | None
    signed_in: bool = False
    headers: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Door:
    """One address and port that a site is bound to. address: `*` for all of them, else a literal.

    port: None for any. default: marked as the one that answers when nobody is named.
    """

    address: str
    port: int | None
    place: Place
    sealed: bool = False
    default: bool = False


@dataclass(frozen=True, slots=True)
class Named:
    """One name that a site claims. name: in lower case. exact: False for wildcards and patterns."""

    name: str
    place: Place
    exact: bool = True


def counterpart(name: str) -> str | None:
    """The bare name of one with `www`, and the reverse; None for names deeper than that."""
    bare = name.removeprefix("www.")
    if bare.count(".") != 1:
        return None
    return bare if bare != name else f"www.{name}"


@dataclass(frozen=True, slots=True)
class LogKeeping:
    """How a site's access lines are kept. line: that says so. template: in the engine's language,
    "" where it is not known. own: said for the site itself, and not for the server as a whole.
    """

    line: Proof
    template: str
    own: bool


@dataclass(frozen=True, slots=True)
class SiteSummary:
    """One site as configured, and one way to ask for it.

    personal: the account whose site it is, for a personal site. asked_as, address, port, path: a
    request that is meant for it. behind: the engine's reading breaks in front of it, or within.
    index: names that are tried for a folder, in order. log: where its lines certainly go.
    kept: how they go there. errors: where the engine says what went wrong, None where that is no
    file.
    """

    name: str
    place: Place
    bindings: tuple[str, ...]
    names: tuple[str, ...]
    root: str | None
    address: str
    port: int
    asked_as: str
    path: str = "/"
    personal: str | None = None
    sealed: bool = False
    behind: bool = False
    doors: tuple[Door, ...] = ()
    claims: tuple[Named, ...] = ()
    index: tuple[str, ...] = ()
    log: str | None = None
    kept: LogKeeping | None = None
    errors: str | None = None


@dataclass(frozen=True, slots=True)
class PersonalGround:
    """Where an account's personal site would lie. offered: whether the configuration has one for
    it; line: that says so. site: with a request that is meant for it.
    """

    account: str
    folder: str
    offered: bool
    line: Proof | None
    site: SiteSummary


@dataclass(frozen=True, slots=True)
class Contender:
    """One place of the configuration that could take the address, in the order of weighing.

    outcome: won, longest (the longest prefix, where a pattern may still win), or other.
    """

    title: str
    outcome: str
    proof: Proof | None = None


def not_shown(rungs: Iterable[Rung], picture: Iterable[object]) -> list[Rung]:
    """The rungs that a picture does not hold yet."""
    shown = {item.asked for item in picture if isinstance(item, Rung)}
    return [rung for rung in rungs if rung.asked not in shown]


Picture = Claim | Contender | Mapped | RuleLine | Rung | Candidate | Labelled | Led | Sealed | Proof


@dataclass(slots=True)
class Part:
    """What an engine has to say at one gate. code: of the words where nothing is in the way."""

    code: Code
    facts: dict[str, object] = field(default_factory=dict)
    proofs: list[Proof] = field(default_factory=list)
    picture: list[Picture] = field(default_factory=list)
    blocks: list[Block] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    answer: Answer | None = None


@dataclass(frozen=True, slots=True)
class Weighed:
    """What decides among parts: a block, in its part, or an answer; never both, and none of them
    where nothing was found. rank: its rank. sure: no doubt is met before it.
    """

    rank: Rank | None
    part: Part | None
    block: Block | None
    answer: Answer | None
    sure: bool


def weigh(parts: Sequence[Part], *, of_types: bool = False) -> Weighed:
    """The rule by which all is decided: what ranks first. Of two that rank alike a block goes
    before an answer, and the earlier part before the later one; a doubt that ranks no later leaves
    it unsure. parts: in the order in which they are met. of_types: doubts about nothing but the
    type of what goes out count, too.
    """
    blocks = [(block, part) for part in parts for block in part.blocks]
    block, part = min(blocks, key=lambda each: each[0].rank, default=(None, None))
    answers = (each.answer for each in parts if each.answer is not None)
    answer = min(answers, key=lambda each: each.rank, default=None)
    if block is not None and (answer is None or block.rank <= answer.rank):
        answer = None
    else:
        block = part = None
    first = block or answer
    rank = first.rank if first is not None else None
    sure = rank is not None and not any(
        doubt.rank <= rank and (of_types or not doubt.only_type)
        for each in parts
        for doubt in each.doubts
    )
    return Weighed(rank, part, block, answer, sure)


# RFC 9110, section 8.8.
VALIDATORS = ("Last-Modified", "ETag")


@dataclass(frozen=True, slots=True)
class Lifetime:
    """How long browsers keep a copy. kind: stated, asks (each time), never, or guess.

    validators: the headers by which they can ask afterwards whether the copy still holds.
    """

    kind: str
    seconds: int
    proof: Proof | None
    validators: tuple[str, ...] = VALIDATORS


@dataclass(slots=True)
class Handling:
    """All that an engine does with one request, gate by gate.

    file: what the request ends at, links not resolved. log: where the access line goes.
    """

    site_name: str
    site_place: Place
    site: Part
    way: Part
    rule: Part
    ladder: Part
    serve: Part
    record: Part
    file: str | None = None
    log: str | None = None
    upstream: str | None = None
    lifetime: Lifetime | None = None

    def part(self, code: Code) -> Part:
        """What an engine has to say at the gate to which a code belongs."""
        part: Part = getattr(self, code.gate)
        return part

    def take(self, blocks: Iterable[Block], doubts: Iterable[Doubt]) -> None:
        """Each goes to the gate to which its code belongs."""
        for block in blocks:
            self.part(block.code).blocks.append(block)
        for doubt in doubts:
            self.part(doubt.code).doubts.append(doubt)

    @property
    def course(self) -> tuple[Part, ...]:
        """What may stop or answer the request, in the order in which it is met."""
        return (self.site, self.way, self.rule, self.ladder, self.serve)

    @classmethod
    def begun(
        cls, name: str, place: Place, site: Part | None = None, record: Part | None = None
    ) -> Handling:
        """A request at its beginning: nothing stands against it yet."""
        return cls(
            name,
            place,
            site=site or Part(codes.PASSAGE_NOT_REACHED),
            way=Part(codes.WAY_ROOT),
            rule=Part(codes.RULE_OPEN),
            ladder=Part(codes.LADDER_CLEAR),
            serve=Part(codes.SERVE_FILE),
            record=record or Part(codes.PASSAGE_NOT_REACHED),
        )
