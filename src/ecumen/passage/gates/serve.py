"""What goes out: the file, an index, a listing, a redirect to the folder. By the adapter."""

from __future__ import annotations

from ecumen.engines.sites import Part
from ecumen.passage.situation import Gate, Situation, Words, not_reached


def judge(now: Situation) -> Part:
    return now.handling.serve if now.handling else not_reached()


GATE = Gate(
    "serve",
    judge,
    {
        "serve.file": Words("{path} goes out as {type}."),
        "serve.index": Words("The index {index} goes out as {type}."),
        "serve.index-refused": Words("The index {path} is there, but may not be served."),
        "serve.listing": Words("There is no index, and the folder's listing is shown."),
        "serve.folder-redirect": Words("{path} is a folder: the visitor is sent to {location}."),
        "serve.index-folder": Words(
            "The index is a folder itself: the visitor is sent to {location}."
        ),
        "serve.missing": Words(
            "There is no {path}.", "Put the file there, or mend the address that leads to it."
        ),
        "serve.no-index": Words(
            "{path} has no index, and its listing is off.",
            "Add an index to {path}.",
        ),
        "serve.no-file": Words(
            "{path} is neither a file nor a folder.", "Put a plain file in its place."
        ),
        "serve.post-on-folder": Words(
            "The folder {path} has no index to send a form to.", "Add an index to {path}."
        ),
        "serve.trailing-path": Words(
            "{path} is a file, and {rest} behind it leads to nothing.",
            "Leave out what stands behind the file.",
        ),
        "serve.handler": Words("The content is made by {handler}; what it answers is not known."),
        "serve.variant": Words("{path}, whose endings fit, goes out as {type}."),
        "serve.variants": Words(
            "Several files could be chosen for {name}; which one is not worked out."
        ),
        "serve.index-elsewhere": Words("The index {name} lies elsewhere; not evaluated yet."),
        "serve.pipe": Words("{path} is a pipe: the request would wait for its other end."),
        "serve.types-unread": Words("The list of content types {path} is not in the survey."),
        "serve.error-page": Words("For status {status} the site shows {page}; how is not known."),
        "serve.no-folder": Words(
            "{path} should be a folder, and is none.", "Put a folder in its place."
        ),
        "serve.listing-fails": Words(
            "The engine gives up on the listing of {path}: the link {link} leads to {target}, "
            "through a file.",
            "Mend or remove the link {link}.",
        ),
        "serve.listing-type": Words("What the listing of {path} looks like is not worked out."),
        "serve.index-sent": Words("Asked for {index}, the engine sends the visitor on."),
        "serve.fallback": Words("What stands in for what is missing, {name}, is not worked out."),
        "serve.fallback-file": Words(
            "{fallback} stands in for what is missing; it goes out as {type}."
        ),
        "serve.fallback-missing": Words(
            "{path}, which should stand in for what is missing, is missing itself.",
            "Put {path} there, or take the line out that names it.",
        ),
        "serve.status-page": Words("The engine shows its own status page."),
        "serve.options": Words("The engine says which methods it takes."),
        "serve.method": Words(
            "The engine does not take {method} for {path}.", "Ask with GET, HEAD or POST."
        ),
        "serve.method-unknown": Words(
            "The engine does not know the method {method}.", "Ask with GET, HEAD or POST."
        ),
        "serve.own-name": Words("The name that the site calls itself by is not known."),
    },
)
