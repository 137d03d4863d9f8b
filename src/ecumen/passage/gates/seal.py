"""TLS: does the door speak it, whose certificate is shown, and would a browser take it?

What a browser refuses it refuses by itself: the server answers whoever asks all the same, so that
this blocks nothing here.
"""

from __future__ import annotations

from ecumen import codes
from ecumen.codes import Code
from ecumen.engines.sealing import Chain, Shown, chain_of, day_of, holds, shown
from ecumen.engines.sites import Part, Sealed
from ecumen.engines.tree import Place
from ecumen.passage.situation import Gate, Situation, not_reached


def judge(now: Situation) -> Part:
    if now.request.scheme != "https":
        return Part(codes.SEAL_PLAIN_HTTP)
    if now.engine is None or now.arrival is None:
        return not_reached()
    part = now.engine.seal(now.arrival)
    declared = part.facts.get("declared")
    if not part.blocks and isinstance(declared, Place):
        all_ = shown(now.survey, now.engine.seals_of(declared))
        if all_ and all_[0].certificate is not None:
            _weigh(now, part, all_)
    return part


def _weigh(now: Situation, part: Part, all_: list[Shown]) -> None:
    first = all_[0]
    certificate, chain = first.certificate, chain_of(now.survey, first)
    assert certificate is not None
    asked = now.request.name
    held, at = holds(certificate, asked), now.survey.taken_at
    fault, day = _fault(held, certificate.begins, certificate.ends, chain, at)
    if fault is not None:
        part.code = fault
        part.facts |= {"asked": asked, "day": day}
    others = tuple(each.certificate for each in all_[1:] if each.certificate is not None)
    part.picture.append(
        Sealed(
            first.pair, certificate, asked, held, "" if fault is None else str(fault),
            chain.links, chain.state, chain.lacks, at, others,
        )
    )  # fmt: skip


def _fault(
    held: str | None, begins: int, ends: int, chain: Chain, at: int
) -> tuple[Code | None, str]:
    """What a browser says first; and the day on which a certificate ends or begins."""
    if at > ends:
        return codes.SEAL_ENDED, day_of(ends)
    if at < begins:
        return codes.SEAL_NOT_YET, day_of(begins)
    if held is None:
        return codes.SEAL_OTHER_NAME, ""
    if chain.state == "cut":
        return codes.SEAL_CUT, ""
    if chain.state in ("itself", "stranger"):
        return codes.SEAL_UNTRUSTED, ""
    return None, ""


GATE = Gate("seal", judge)
