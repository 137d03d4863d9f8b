"""Security context and policy switches. Not evaluated yet: unsure where a policy is enforced."""

from __future__ import annotations

from ecumen.engines.sites import Doubt, Part, Phase, Rank
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    if now.handling is None:
        return not_reached()
    mode = now.survey.kernel.get("security.mode", "unknown")
    part = Part("context.none", {"mode": mode})
    if mode == "permissive":
        part.code = "context.permissive"
    elif mode != "disabled":
        part.code = "context.enforced"
        part.doubts.append(Doubt("context.not-evaluated", Rank(Phase.WALK), {"mode": mode}))
    return part


GATE = Gate(
    "context",
    judge,
    {
        "context.none": Words("No security policy is enforced on this server."),
        "context.permissive": Words("The security policy only warns: it stops nothing."),
        "context.enforced": Words("A security policy is enforced."),
        "context.not-evaluated": Words(
            "Security contexts are not evaluated yet, and the policy's mode is {mode}."
        ),
    },
)
