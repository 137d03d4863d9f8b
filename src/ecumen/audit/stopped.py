"""Front pages that are stopped, and by what."""

from __future__ import annotations

from ecumen.audit.scene import Front, Scene, Site
from ecumen.engines.sites import Block


def stopped(scene: Scene) -> list[tuple[Site, Front, Block]]:
    """The sites whose own front page is stopped, and by what. Worked out once."""
    return scene.once("stopped fronts", _stopped)


def _stopped(scene: Scene) -> list[tuple[Site, Front, Block]]:
    """The sites whose own front page is stopped, and by what."""
    found = []
    for site in scene.sites:
        front = scene.front(site)
        # In front of the contest of sites nobody has answered yet.
        own = front.answered_by == site.summary.place or front.gate in ("name", "door", "seal")
        if front.decided and front.block is not None and own:
            found.append((site, front, front.block))
    return found
