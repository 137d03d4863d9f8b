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
        "way.rewritten": Words("Rules of rewriting lead {address} to {path}."),
        "way.upstream": Words("The request is handed to {upstream}."),
        "way.upstream-answers": Words("What {upstream} answers is not known."),
        "way.upstream-closed": Words(
            "Nothing listens at {upstream}, to which this address is handed.",
            "Start what should answer at {upstream}, or hand the address elsewhere.",
        ),
        "way.redirect": Words("Whether {directive} takes this address is not worked out."),
        "way.sent": Words("The visitor is sent to {location}."),
        "way.status": Words(
            "The configuration answers this address with status {status}.",
            "Take the line out that gives this address a status.",
        ),
        "way.refused": Words(
            "A rule of rewriting refuses this address.",
            "Leave this address out of the rule that refuses it.",
        ),
        "way.gone": Words(
            "The configuration says that what was here is gone for good.",
            "Take the line out that says so, if it is back.",
        ),
        "way.rules-fail": Words(
            "The rules of rewriting go round without end on this address.",
            "End the rules once they have led somewhere.",
        ),
        "way.rules-need-links": Words(
            "Rules of rewriting in {path} need links to be followed, and they are not.",
            "Have links followed in {path}, at least where owners agree.",
        ),
        "way.pattern-unknown": Words("Whether the pattern {pattern} fits is not evaluated."),
        "way.said": Words("The configuration answers this address itself, with status {status}."),
        "way.internal": Words(
            "The place that takes {address} is for the engine's own use: visitors find nothing.",
            "Ask for another address, or open the place to visitors.",
        ),
        "way.hung-up": Words(
            "The configuration has the engine hang up without an answer.",
            "Take the line out that has it hang up.",
        ),
        "way.no-such-place": Words(
            "{name}, to which the request is led, is not there or was led to too often.",
            "Add the place {name} to the site's configuration, or lead elsewhere.",
        ),
        "way.alias-rewritten": Words(
            "The address {address} was rewritten in a place that has an alias: the engine fails.",
            "Use a document root in place of the alias there.",
        ),
        "way.loops": Words(
            "The rules of rewriting lead in a circle: the engine gives up after ten laps.",
            "Leave out of the rules what they themselves lead to.",
        ),
        "way.pattern-fails": Words(
            "The engine gives up on the pattern {pattern}, and fails the request: matching takes "
            "more steps than it allows, or the address is no UTF-8.",
            "Write the pattern so that no text can be taken by it in many ways.",
        ),
        "way.rule-unknown": Words("A rule of rewriting asks for {what}, which is not worked out."),
        "way.not-evaluated": Words("{directive} is not evaluated yet."),
        "way.account-unknown": Words(
            "The survey does not hold all accounts of this server; {account} may be one of them."
        ),
        "way.personal-unseen": Words("The survey does not hold {path}."),
    },
)
