"""Which virtual host answers, and why that one? The engine's adapter holds the contest."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    if now.engine is None or now.arrival is None:
        return not_reached()
    now.handling = now.engine.handle(now.arrival)
    return now.handling.site


GATE = Gate(
    "site",
    judge,
    {
        "site.named": Words("{site} answers: it claims the name {matched}."),
        "site.only": Words(
            "{site} answers: it is the only site on this address and port, whatever the name."
        ),
        "site.default": Words(
            "No site here claims {host}, so the first of {count} on this address answers: {site}."
        ),
        "site.first": Words("{site} answers, as the first site on this address and port."),
        "site.main": Words(
            "No site is bound to this address and port {port}; the main server answers."
        ),
        "site.no-host": Words(
            "The request names no host, and the engine refuses it.",
            "Send a Host header; every browser does.",
        ),
        "site.bad-host": Words(
            "The engine refuses the host name {host} as malformed.",
            "Use a name of letters, digits, hyphens and dots.",
        ),
        "site.fails-check": Words("The engine would not load this configuration: {why}."),
        "site.fails-reload": Words(
            "The engine would not load this configuration: {why}. It goes on with what it read on "
            "{read}."
        ),
        "site.unread": Words("What the engine reads there is not known: {why}."),
        "site.variable-unknown": Words("The survey does not know the variable {name}."),
        "site.module-unknown": Words("What the module {module} does is not known."),
        "site.condition-unknown": Words("Whether this conditional section holds is not known."),
        "site.not-evaluated": Words("{directive} is not evaluated yet."),
        "site.binding-unresolved": Words(
            "A site is bound to {name}, of which no address is known."
        ),
        "site.nameless": Words(
            "A site without a name takes that of {address}, which is not known."
        ),
        "site.pattern-unknown": Words("The pattern {pattern} is not evaluated."),
        "site.method": Words("Requests by {method} are not evaluated yet."),
        "site.marked": Words(
            "No site here claims {host}; {site} is marked as the one that answers then."
        ),
        "site.misdirected": Words(
            "{site} is asked for, but the connection was sealed for {greeted}, with another "
            "certificate: the engine refuses.",
            "Ask for the name that the connection was made for, or give both one certificate.",
        ),
        "site.bad-request": Words(
            "The engine refuses the request as malformed.",
            "Mend the escapes in the address, and do not lead above its root.",
        ),
        "site.nobody": Words("No site is bound here, so it is not known who would answer."),
        "site.bad-method": Words(
            "The engine refuses requests by {method}.", "Ask with GET, HEAD or POST."
        ),
        "site.long-line": Words("The engine may refuse a request line of this length."),
        "seal.plain": Words(
            "This door speaks TLS, and the request comes in plain HTTP.", "Ask with https."
        ),
    },
)
