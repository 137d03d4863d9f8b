"""What a plan cannot touch, and is not evaluated again.

A front page that is served plainly rests on the lines of its site and on what holds for all of
them, on which site its name comes to, on the folders and links that were passed, and on what lies
right in these: on names, modes, owners, ACLs, contexts and override files there, and on nothing
else (`Short`). Where the plan changes none of that, what was found before holds after it. All that
is answered in any other way is evaluated again, and so is everything where a plan changes more than
paths and texts.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields

from ecumen.audit.scene import Part, Scene, Seen
from ecumen.engines.engine import Engine
from ecumen.survey import Delta

_BOUND = {"entries", "texts"}


def carried(before: Scene, then: Scene, delta: Delta) -> Mapping[Part, Part]:
    """Of a scene after a change those parts of which all is as it was, with what they were before.
    `before` must have been looked at.
    """
    pairs = list(zip(before.engines, then.engines, strict=False))
    same = len(before.engines) == len(then.engines)
    if not same or not before.looked or any(_beyond(delta)):
        return {}
    # Where anything else is listened at, a request may come to another engine.
    if any(_heard(was) != _heard(now) for was, now in pairs):
        return {}
    touched = {*delta.entries, *delta.texts}
    touched |= {path.rpartition("/")[0] or "/" for path in touched}
    return {
        (e, at): (e, there)
        for e, (was, now) in enumerate(pairs)
        for at, there in now.unchanged(was).items()
        if _holds(was, now, before.looked[e, there][1], touched)
    }


def _beyond(delta: Delta) -> Iterator[bool]:
    for each in fields(delta):
        yield each.name not in _BOUND and bool(getattr(delta, each.name))


def _heard(engine: Engine) -> set[tuple[str, int | None]]:
    return {(binding.address, binding.port) for binding in engine.listens}


def _holds(was: Engine, now: Engine, sites: Sequence[Seen], touched: set[str]) -> bool:
    for site in sites:
        if site.rests is None or any(_lies_on(path, touched) for path in site.rests):
            return False
        request = site.front.request
        host = request.host_header
        if host is None or request.to is None:
            return False
        if not now.answers_alike(was, request.to, request.port, host):
            return False
    return True


def _lies_on(path: str, touched: set[str]) -> bool:
    """Whether a path, or any folder above it, is one of these."""
    while path:
        if path in touched:
            return True
        path = path.rpartition("/")[0]
    return "/" in touched
