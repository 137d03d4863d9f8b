"""Owner, mode and ACL at every step of the path, as the kernel decides for the engine's worker.

Source: path_resolution(7), acl(5). The links that the configuration allows are judged here too.
"""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    return now.handling.ladder if now.handling else not_reached()


GATE = Gate(
    "ladder",
    judge,
    {
        "ladder.clear": Words("{worker} may pass every step down to the end."),
        "ladder.walked-by-another": Words(
            "The engine's master walks to the folder, and {worker} only opens what lies there: "
            "whether a folder that is closed on the way stops the request is not worked out."
        ),
        "ladder.shut": Words(
            "The web server may not pass through {path}: it belongs to {owner}:{group} with mode "
            "{mode}, and {worker} has no right to enter.",
            "Let {worker} pass through {path}.",
        ),
        "ladder.unreadable": Words(
            "The web server may not read {path}: it belongs to {owner}:{group} with mode {mode}, "
            "and {worker} has no right to read it.",
            "Let {worker} read {path}.",
        ),
        "ladder.unlistable": Words(
            "The web server may enter {path}, but not list it: mode {mode}, {owner}:{group}.",
            "Let {worker} list {path}.",
        ),
        "ladder.link-refused": Words(
            "{path} is a link, and the configuration does not follow links here.",
            "Put the files in place of the link, or have links followed where owners agree.",
        ),
        "ladder.link-owner": Words(
            "The link {path} and what it leads to belong to different owners.",
            "Give link and target one owner.",
        ),
        "ladder.link-nowhere": Words(
            "The link {path} leads to {target}, which is not there.",
            "Point the link {path} to something that exists, or remove it.",
        ),
        "ladder.link-loop": Words(
            "The link {path} leads in a circle.", "Point the link {path} to a file or folder."
        ),
        "ladder.link-unknown": Words(
            "Whether the engine lets the link {path} through is not worked out."
        ),
        "ladder.link-protected": Words(
            "The kernel does not follow the link {path}: it lies in a folder that everybody may "
            "write to, and belongs to somebody else.",
            "Move the link out of the shared folder.",
        ),
        "ladder.name-too-long": Words(
            "A name in the path is longer than any file's can be.", "Ask for a shorter name."
        ),
        "ladder.unseen": Words("The survey does not hold {path}."),
        "ladder.no-worker": Words("The engine's worker account {worker} is not in the survey."),
    },
)
