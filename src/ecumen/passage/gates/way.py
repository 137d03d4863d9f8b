"""From the address to a path on disk: root, alias, personal site. By the engine's adapter."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    return now.handling.way if now.handling else not_reached()


GATE = Gate(
    "way",
    judge,
    {
        "way.root": Words("{address} lies in the site's document root: {path}."),
        "way.alias": Words("The alias {alias} leads to {path}."),
        "way.personal": Words("The personal site of {account} lives at {path}."),
        "way.personal-elsewhere": Words(
            "Personal sites are elsewhere: the visitor is sent to {location}."
        ),
        "way.bad-path": Words(
            "The engine refuses the path as malformed.",
            "Mend the escapes in the address, and do not lead above its root.",
        ),
        "way.forbidden-escape": Words(
            "The engine finds nothing under a path with an escaped slash or zero byte.",
            "Use a plain slash, or let the engine accept escaped ones.",
        ),
        "way.no-root": Words("No document root is set, and the engine's own is not known."),
        "way.upstream": Words(
            "{directive} may hand this request to an upstream; not evaluated yet."
        ),
        "way.redirect": Words("{directive} may send the visitor on; not evaluated yet."),
        "way.not-evaluated": Words("{directive} is not evaluated yet."),
        "way.account-unknown": Words(
            "The survey does not hold all accounts of this server; {account} may be one of them."
        ),
        "way.personal-unseen": Words("The survey does not hold {path}."),
    },
)
