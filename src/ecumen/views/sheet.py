"""One site whole: how it is reached, where it lives, and the lines that it is made of."""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.audit.scene import Scene, Site, outcome_words
from ecumen.engines.sites import shown_at
from ecumen.passage import gates
from ecumen.passage.verdict import Evidence
from ecumen.views.lanes import LaneName, lane_names

MOST_LINES = 600


@dataclass(frozen=True, slots=True)
class SheetDoor:
    """One address and port that the site is bound to. names: as they fare there."""

    where: str
    declared_at: str
    sealed: bool
    default: bool
    names: list[LaneName]


@dataclass(frozen=True, slots=True)
class SheetLine:
    """A line of configuration as it stands. number: from 1."""

    number: int
    text: str


@dataclass(frozen=True, slots=True)
class Sheet:
    """front: the request for the front page, and what comes of it. folder: of the root.

    certificate: the lines by which it is shown, for a site that is sealed. rules: those that bind
    the front page. cut: the block goes on behind the lines that are given.
    """

    name: str
    engine: str
    personal: bool
    declared_at: str
    file: str
    root: str | None
    folder: Evidence | None
    index: list[str]
    log: str | None
    certificate: list[Evidence]
    rules: list[Evidence]
    doors: list[SheetDoor]
    front: str
    outcome: str
    status: int | None
    decided: bool
    lines: list[SheetLine]
    cut: bool


def sheet(scene: Scene, site: Site) -> Sheet:
    """Everything about one site that the survey tells."""
    summary = site.summary
    front = scene.front(site)
    folder = scene.survey.files.get((summary.root or "").rstrip("/"))
    lines = block(scene, site)
    ran = scene.follower.run(front.request)
    seal, rule = ran.at(gates.seal.GATE), ran.at(gates.rule.GATE)
    return Sheet(
        name=site.name,
        engine=site.engine.kind,
        personal=summary.personal is not None,
        declared_at=str(summary.place),
        file=summary.place.file,
        root=summary.root,
        folder=None if folder is None else scene.entry(folder),
        index=list(summary.index),
        log=summary.log,
        certificate=[scene.evidence(proof) for proof in seal.proofs if summary.sealed],
        rules=[scene.evidence(proof) for proof in rule.proofs],
        doors=[
            SheetDoor(
                shown_at(door.address, door.port),
                str(door.place),
                door.sealed,
                door.default,
                lane_names(scene, site, door),
            )
            for door in summary.doors
        ],
        front=front.request.url,
        outcome=outcome_words(front),
        status=front.status,
        decided=front.decided,
        lines=lines[:MOST_LINES],
        cut=len(lines) > MOST_LINES,
    )


def block(scene: Scene, site: Site) -> list[SheetLine]:
    """The lines from where a site begins to where its section or braces close."""
    place = site.summary.place
    # Read from the survey and not from the disk: a screen shows one moment, also when the server is
    # another machine.
    text = scene.text(place.file)[place.line - 1 :]
    count = site.engine.extent(text[: MOST_LINES + 1])
    return [SheetLine(place.line + n, line) for n, line in enumerate(text[:count])]
