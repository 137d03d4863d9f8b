"""What a plan cannot touch, and is not evaluated again.

A front page that is served plainly rests on the lines of its site and on what holds for all of
them, on which site its name comes to, on the folders and links that were passed with the override
files in them, on what lies right in the folder where the way ends, and on nothing else (`Short`):
on names, modes, owners, ACLs and contexts there. Where the plan changes none of that, what was
found before holds after it. All that is answered in any other way is evaluated again, and so is
everything where a plan changes more than paths and texts.
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
    touched = Touched({*delta.entries, *delta.texts}, then.engines)
    return {
        (e, at): (e, there)
        for e, (was, now) in enumerate(pairs)
        for at, there in now.unchanged(was).items()
        if _holds(was, now, before.looked[e, there][1], touched)
    }


class Touched:
    """What a plan changes: which of it a front page rests on."""

    def __init__(self, paths: set[str], engines: Sequence[Engine]) -> None:
        names = {name for engine in engines for name in engine.override_names}
        # What is called so lies deeper than the folder that it is looked for in.
        self.anything = any("/" in name for name in names)
        self.paths = paths
        self.around = {path.rpartition("/")[0] or "/" for path in paths}
        self.overridden = {
            folder or "/"
            for folder, _, name in (path.rpartition("/") for path in paths)
            if name in names
        }

    def bears_on(self, path: str) -> bool:
        """path: as in `Seen.rests`."""
        return self.anything or path in self.around or self._on_the_way(path)

    def _on_the_way(self, path: str) -> bool:
        while path:
            if path in self.paths or path in self.overridden:
                return True
            path = path.rpartition("/")[0]
        return "/" in self.paths or "/" in self.overridden


def _beyond(delta: Delta) -> Iterator[bool]:
    for each in fields(delta):
        yield each.name not in _BOUND and bool(getattr(delta, each.name))


def _heard(engine: Engine) -> set[tuple[str, int | None]]:
    return {(binding.address, binding.port) for binding in engine.listens}


def _holds(was: Engine, now: Engine, sites: Sequence[Seen], touched: Touched) -> bool:
    for site in sites:
        if site.rests is None or any(map(touched.bears_on, site.rests)):
            return False
        request = site.front.request
        host = request.host_header
        if host is None or request.to is None:
            return False
        if not now.answers_alike(was, request.to, request.port, host):
            return False
    return True
