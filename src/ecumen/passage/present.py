"""From the engines' values to what is shown: names for numbers, words for outcomes."""

from __future__ import annotations

from functools import cache

from ecumen.caches import ByIdentity
from ecumen.contexts.confinement import type_of
from ecumen.engines.sealing import called, state_of
from ecumen.engines.sites import (
    Candidate,
    Claim,
    Contender,
    Labelled,
    Led,
    Lifetime,
    Mapped,
    Part,
    Proof,
    RuleLine,
    Rung,
    Sealed,
)
from ecumen.passage.verdict import (
    CandidateView,
    CertificateView,
    ClaimView,
    Evidence,
    LabelView,
    LedView,
    LifetimeView,
    MappingView,
    PlaceView,
    RuleView,
    RungView,
    SealView,
)
from ecumen.survey import Certificate, Entry, Kind, Survey

_CLAIM_WORDS = {
    "won": "claims the name and answers",
    "first": "answers, as the first on this address",
    "matched-later": "claims the name too, but stands later",
    "weaker": "claims the name too, but does not win",
    "other-name": "claims other names",
}
_MAPPING_WORDS = {
    "rewrite": "a rule of rewriting",
    "again": "the engine begins anew",
    "tried": "is found",
    "tried-last": "when nothing is found",
    "sent": "sends the visitor on",
    "upstream": "hands on",
    "kept": "is kept from being handed on",
    "status": "answers with a status",
    "root": "the document root",
    "alias": "an alias",
    "personal": "a personal site",
    "personal-off": "personal sites are off for this account",
    "personal-nobody": "no such account",
    "personal-missing": "no such folder; the next is tried",
    "personal-elsewhere": "personal sites are elsewhere",
}
_LED_WORDS = {
    "file": "by the server's own hosts file",
    "alias": "stands for",
    "v4": "by its v4 address",
    "v6": "by its v6 address",
}
MOST_NAMES = 24  # of a certificate, in a picture
_CHAIN_WORDS = {
    "whole": "leads to an authority that this system trusts",
    "order": "leads to an authority that this system trusts, but is not sent in its order",
    "itself": "vouches for itself",
    "cut": "breaks off: the certificate of {lacks} is not sent",
    "stranger": "ends at an authority that this system does not know",
    "unknown": "could not be looked at",
}
_LIFETIME_WORDS = {
    "stated": "up to {time}, as the configuration says",
    "asks": "they ask each time whether their copy still holds",
    "never": "they keep no copy",
    "guess": "about {time}: nothing is said, and browsers take a tenth of the file's age",
}
_NO_VALIDATOR = "; nothing lets them ask whether it changed, so they fetch it anew"
_SPANS = (("days", 86400), ("hours", 3600), ("minutes", 60), ("seconds", 1))


def spoken(seconds: int) -> str:
    """A span of time in its largest unit that fits twice or more."""
    name, size = next((span for span in _SPANS if seconds >= 2 * span[1]), ("seconds", 1))
    return f"{round(seconds / size)} {name}"


_PLACE_WORDS = {
    "won": "takes the address",
    "longest": "fits the beginning, but gives way",
    "other": "does not fit",
}
_CANDIDATE_WORDS = {
    "served": "goes out",
    "missing": "not there",
    "blocked": "there, but closed",
    "folder": "is a folder itself",
    "outranked": "there, but comes later",
    "not-tried": "not asked for",
}
_RULE_WORDS = {
    "granted": "lets this visitor in",
    "denied": "keeps this visitor out",
    "login": "asks to sign in",
    "neutral": "lets nobody in",
    "unsure": "not evaluated",
    "none": "replaced by a later section",
}
_BY_WORDS = {
    "root": "is root, and may always",
    "owner": "is the owner, so the owner's bits decide",
    "user": "is named in the ACL",
    "group": "is in the group, so the group's bits decide",
    "other": "is neither owner nor in the group, so the bits for others decide",
}
_LINK_WORDS = {
    "all": "links are followed here",
    "owner": "links are followed where both ends have one owner",
    "none": "links are not followed here",
}


MOST_KEPT = 20_000


@cache
def triads(mode: int) -> tuple[str, str, str]:
    """Owner, group and other as `rwx` texts."""
    owner, group, other = (
        "".join(c if mode >> shift & bit else "-" for c, bit in (("r", 4), ("w", 2), ("x", 1)))
        for shift in (6, 3, 0)
    )
    return owner, group, other


class Presenter:
    """Words and names for one survey."""

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        # Most claims of a contest, and most steps of a ladder, are those of the last one.
        self._claims: ByIdentity[Claim, ClaimView] = ByIdentity(MOST_KEPT)
        self._rungs: ByIdentity[Rung, tuple[str, RungView]] = ByIdentity(MOST_KEPT)

    def evidence(self, proof: Proof) -> Evidence:
        if proof.entry is not None:
            entry = proof.entry
            return Evidence(
                path=proof.path or entry.path,
                kind=entry.kind.value,
                mode=f"{entry.mode:04o}",
                owner=self.survey.user_name(entry.uid),
                group=self.survey.group_name(entry.gid),
                acl=", ".join(self.acl(entry)) or None,
                target=entry.target,
                context=entry.context,
            )
        if proof.place is not None:
            return Evidence(proof.place.file, proof.place.line, proof.text)
        return Evidence(path=proof.path, text=proof.text or None)

    def acl(self, entry: Entry) -> list[str]:
        """ACL entries with names for numbers."""
        lines = []
        for item in entry.acl or ():
            who = ""
            if item.id is not None:
                named = self.survey.user_name if item.tag == "user" else self.survey.group_name
                who = named(item.id)
            lines.append(f"{item.tag}:{who}:{item.text().rpartition(':')[2]}")
        return lines

    def picture(self, part: Part) -> dict[str, list[object]]:
        """The part's picture by the field of GateResult that it belongs to."""
        found: dict[str, list[object]] = {}
        worker = str(part.facts.get("worker", ""))
        for item in part.picture:
            if isinstance(item, Claim):
                found.setdefault("claims", []).append(self._claim(item))
            elif isinstance(item, Rung):
                found.setdefault("rungs", []).append(self.rung(item, worker))
            elif isinstance(item, RuleLine):
                found.setdefault("rules", []).append(self._rule(item))
            elif isinstance(item, Mapped):
                found.setdefault("mappings", []).append(self._mapping(item))
            elif isinstance(item, Contender):
                found.setdefault("places", []).append(self._place(item))
            elif isinstance(item, Candidate):
                found.setdefault("candidates", []).append(self._candidate(item))
            elif isinstance(item, Labelled):
                found.setdefault("labels", []).append(_label(item))
            elif isinstance(item, Led):
                view = LedView(item.by, item.name, item.target, item.ours, _LED_WORDS[item.by])
                found.setdefault("leads", []).append(view)
            elif isinstance(item, Sealed):
                found.setdefault("seals", []).append(_seal(item))
        return found

    def _claim(self, claim: Claim) -> ClaimView:
        known = self._claims.get(claim)
        if known is not None:
            return known
        view = ClaimView(
            claim.site,
            claim.binding,
            # Certificates for a whole house make sites of thousands of names; nobody reads them in
            # a picture.
            list(claim.names[:50]),
            claim.outcome,
            _CLAIM_WORDS[claim.outcome],
            claim.matched,
            Evidence(claim.place.file, claim.place.line),
        )
        return self._claims.put(claim, view)

    def _mapping(self, step: Mapped) -> MappingView:
        at = self.evidence(step.proof) if step.proof else None
        return MappingView(step.how, _MAPPING_WORDS[step.how], step.before, step.after, at)

    def _place(self, place: Contender) -> PlaceView:
        at = self.evidence(place.proof) if place.proof else None
        return PlaceView(place.title, place.outcome, _PLACE_WORDS[place.outcome], at)

    def lifetime(self, lifetime: Lifetime) -> LifetimeView:
        """How long browsers keep a copy, in words."""
        words = _LIFETIME_WORDS[lifetime.kind].format(time=spoken(lifetime.seconds))
        if lifetime.kind != "never":
            means = " and ".join(lifetime.validators)
            words += f"; whether it changed they ask by {means}" if means else _NO_VALIDATOR
        at = self.evidence(lifetime.proof) if lifetime.proof else None
        return LifetimeView(lifetime.kind, lifetime.seconds, words, at)

    def _rule(self, rule: RuleLine) -> RuleView:
        title = "The server as a whole" if rule.section == "server" else rule.section
        return RuleView(
            title,
            rule.effective,
            rule.outcome,
            _RULE_WORDS[rule.outcome],
            self.evidence(rule.proof) if rule.proof else None,
            [self.evidence(line) for line in rule.lines],
        )

    def rung(self, rung: Rung, worker: str) -> RungView:
        """A step of the ladder, as this account takes it."""
        known = self._rungs.get(rung)
        if known is None or known[0] != worker:
            known = self._rungs.put(rung, (worker, self._rung_view(rung, worker)))
        return known[1]

    def _rung_view(self, rung: Rung, worker: str) -> RungView:
        entry = rung.entry
        link = entry.kind is Kind.LINK
        words = _LINK_WORDS[rung.link_rule] if link else f"{worker} {_BY_WORDS[rung.by]}"
        return RungView(
            path=rung.asked,
            name=rung.asked.rpartition("/")[2] or "/",
            real_path=entry.path,
            kind=entry.kind.value,
            mode=f"{entry.mode:04o}",
            triads=list(triads(entry.mode)),
            owner=self.survey.user_name(entry.uid),
            group=self.survey.group_name(entry.gid),
            acl=self.acl(entry),
            target=entry.target,
            need=rung.need,
            allowed=rung.allowed,
            by=rung.by,
            line=self._named(rung.line),
            words=words,
        )

    def _named(self, line: str) -> str:
        """A line of the permissions with names in place of numbers."""
        kind, colon, rest = line.partition(":")
        number, second, bits = rest.partition(":")
        # Lines without a number (`user::rwx`, `mask::r-x`) name nobody.
        if not colon or not second or not number.isdecimal():
            return line
        name = self.survey.user_name if kind == "user" else self.survey.group_name
        return f"{kind}:{name(int(number))}:{bits}"

    def _candidate(self, candidate: Candidate) -> CandidateView:
        return CandidateView(
            candidate.name,
            candidate.path,
            candidate.outcome,
            _CANDIDATE_WORDS[candidate.outcome],
            candidate.entry.size if candidate.entry else None,
        )


def _seal(seal: Sealed) -> SealView:
    held = seal.certificate
    names = [*held.names, *held.addresses]
    # That which holds is shown, however many there are.
    names.sort(key=lambda each: each != seal.held)
    words = _CHAIN_WORDS[seal.chain_state].format(lacks=seal.lacks)
    return SealView(
        path=seal.pair.certificate,
        key_path=seal.pair.key,
        asked=seal.asked,
        held=seal.held,
        names=names[:MOST_NAMES],
        more=max(0, len(names) - MOST_NAMES),
        certificate=_certificate(held),
        chain=[_certificate(each) for each in seal.chain],
        chain_state=seal.chain_state,
        chain_words=words,
        fault=seal.fault,
        seen_at=seal.seen_at,
        state=state_of(held, seal.seen_at),
        others=[_certificate(each) for each in seal.others],
        at=Evidence(seal.pair.place.file, seal.pair.place.line, seal.pair.text),
    )


def _certificate(held: Certificate) -> CertificateView:
    return CertificateView(
        called(held.subject), called(held.issuer), held.key, held.begins, held.ends, held.digest
    )


def _label(step: Labelled) -> LabelView:
    entry = step.entry
    words = "is not known" if step.allowed is None else "lets it through"
    if step.allowed is False:
        # What stands behind the colon is the policy's rule in full, for whoever opens the step.
        words = step.why.partition(": ")[0]
    return LabelView(
        path=entry.path,
        name=entry.path.rpartition("/")[2] or "/",
        kind=entry.kind.value,
        type=step.type,
        expected=type_of(step.expected) or "",
        differs=bool(step.expected) and type_of(step.expected) != step.type,
        allowed=step.allowed,
        words=words,
    )
