"""Who may, by configuration and per-folder override. By the engine's adapter."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    return now.handling.rule if now.handling else not_reached()


GATE = Gate(
    "rule",
    judge,
    {
        "rule.open": Words("No rule closes this folder: everybody may."),
        "rule.granted": Words("The rules let this visitor in."),
        "rule.denied": Words(
            "The rules keep {client} out.",
            "Open the folder to these visitors, in the section that closes it.",
        ),
        "rule.local-only": Words(
            "Only the server itself may see this; {client} may not.",
            "Open the folder to everybody, if the site is ready for visitors.",
        ),
        "rule.login": Words(
            "The visitor must sign in first.", "Sign in, or open the folder without a password."
        ),
        "rule.login-broken": Words(
            "A sign-in is asked for, but no way to sign in is set: the engine fails.",
            "Say how visitors sign in: the kind of sign-in and its name.",
        ),
        "rule.login-unknown": Words("What comes of signing in is not evaluated."),
        "rule.unknown-test": Words("A rule tests something that the survey cannot tell."),
        "rule.login-unused": Words(
            "A way to sign in is set, but no rule asks for it: the engine fails.",
            "Say who may, beside the kind of sign-in, or take the sign-in out.",
        ),
        "rule.override-file": Words("The survey does not hold the override file {path}."),
        "rule.override-closed": Words(
            "The web server may not read the override file {path}, and refuses all that is below.",
            "Let the web server read {path}, or take the file away.",
        ),
        "rule.override-refused": Words(
            "The override file {path} holds something that the engine does not accept: {why}.",
            "Take the line out of {path}, or allow it in the configuration.",
        ),
        "rule.pattern-unknown": Words("Whether the pattern {pattern} fits is not evaluated."),
        "rule.not-evaluated": Words("{directive} is not evaluated yet."),
    },
)
