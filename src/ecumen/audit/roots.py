"""The document roots of a scene, as they lie on disk, and what lies in them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass

from ecumen.audit.holdings import Holding, holdings
from ecumen.audit.scene import Scene, Site
from ecumen.rights import Problem
from ecumen.survey import Entry

# Endings of what sites consist of: of each one file is asked for.
SAMPLED = frozenset("css js mjs svg png jpg jpeg gif webp avif ico html htm".split())


@dataclass(frozen=True, slots=True)
class DocumentRoot:
    """One document root as it lies on disk. physical: links in the path are followed."""

    path: str
    physical: str
    entry: Entry | None
    problem: Problem | None
    sites: list[Site]


def _roots(scene: Scene) -> dict[str, DocumentRoot]:
    """Every document root by its path as configured."""
    by_path: dict[str, list[Site]] = defaultdict(list)
    for site in scene.sites:
        if site.summary.root:
            # Links on the way are not followed for the key: two paths to one folder are two roots,
            # and that is worth a finding of its own.
            by_path[site.summary.root.rstrip("/") or "/"].append(site)
    found = {}
    for path, sites in by_path.items():
        walk = scene.walker.walk(path)
        found[path] = DocumentRoot(path, walk.physical, walk.entry, walk.problem, sites)
    return found


def roots(scene: Scene) -> Mapping[str, DocumentRoot]:
    return scene.once("roots", _roots)


def _by_ground(scene: Scene) -> dict[str, list[Site]]:
    found: dict[str, list[Site]] = defaultdict(list)
    for root in roots(scene).values():
        found[root.physical] += root.sites
    return found


def sites_of(scene: Scene, physical: str) -> list[Site]:
    """The sites that serve a folder as their root."""
    return scene.once("sites by ground", _by_ground).get(physical, [])


def twins(one: Site, other: Site) -> bool:
    """Whether two blocks are one site: under the same name, as in plain HTTP and sealed."""
    names = {claim.name for claim in one.summary.claims}
    return any(claim.name in names for claim in other.summary.claims)


def _holdings(scene: Scene) -> Mapping[str, Holding]:
    grounds = {root.physical for root in roots(scene).values() if root.entry is not None}
    return holdings(scene.survey.files, grounds, SAMPLED)


def under(scene: Scene) -> Mapping[str, Holding]:
    """What lies in each root, by its real path."""
    return scene.once("holdings", _holdings)
