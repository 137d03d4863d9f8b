"""The sites of a server as a list, in an open format of our own: what is, and what shall be.

The format is checked against its JSON Schema (schemas/sites.json). A list may hold less of a site
than there is to say: what it leaves out is as most sites of the server have it, or stays as it is.
"""

from __future__ import annotations

import json
import pkgutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

import fastjsonschema

from ecumen.audit.scene import Scene, Site
from ecumen.engines.draft import read_binding
from ecumen.engines.engine import Engine, all_sites, renewed
from ecumen.errors import EcumenError
from ecumen.founding.proposal import Earlier, Wish, moved_defaults, opening, propose_beside
from ecumen.operations.operation import Operation
from ecumen.operations.reload import Reload
from ecumen.operations.trial import done

FORMAT = 1
EVERYONE = "everyone"


class ListError(EcumenError):
    """What was given is no list of sites."""


@dataclass(frozen=True, slots=True)
class Sought:
    """What brings a server to a list. refused: sites of the list that cannot be, each with why;
    otherwise: where a site is not as the list has it and no plan changes that; unlisted: sites that
    are here and not in the list. Nothing is ever taken away because it is not listed.
    """

    operations: tuple[Operation, ...]
    made: tuple[str, ...]
    opened: tuple[str, ...]
    refused: tuple[tuple[str, str], ...]
    otherwise: tuple[tuple[str, str], ...]
    unlisted: tuple[str, ...]


def listed(scene: Scene) -> dict[str, Any]:
    """The sites that are, as a list."""
    return {
        "format": FORMAT,
        "host": scene.survey.host,
        "sites": [_row(scene, site) for site in scene.hosts],
    }


def _row(scene: Scene, site: Site) -> dict[str, Any]:
    summary = site.summary
    entry = scene.survey.files.get((summary.root or "").rstrip("/"))
    row: dict[str, Any] = {"name": summary.asked_as, "engine": site.engine.kind}
    names = [name for name in summary.names if name.lower() != summary.asked_as.lower()]
    if names:
        row["names"] = names
    if entry is not None:
        row["owner"] = scene.survey.user_name(entry.uid)
    if summary.root:
        row["root"] = summary.root
    row["bindings"] = list(summary.bindings)
    if summary.log and summary.kept is not None and summary.kept.own:
        row["log"] = summary.log
    seen_by = site.engine.seen_by("\n".join(scene.text(summary.place.file)))
    if seen_by is not None:
        row["seen_by"] = list(seen_by) or [EVERYONE]
    row["declared_at"] = str(summary.place)
    return row


def read_list(data: object) -> list[dict[str, Any]]:
    """The rows of a list. Raises ListError."""
    try:
        checked = _checker()(data)
    except fastjsonschema.JsonSchemaException as error:
        raise ListError(f"no list of sites of format {FORMAT}: {error}") from error
    rows: list[dict[str, Any]] = checked["sites"]
    seen: set[tuple[str, str, frozenset[str]]] = set()
    for row in rows:
        # One name may have a block for plain HTTP and another one for TLS.
        key = row["name"].lower(), row.get("engine", ""), _bound(row.get("bindings", ()))
        if key in seen:
            raise ListError(f"{row['name']} stands in the list twice")
        seen.add(key)
    return rows


def _bound(bindings: Iterable[str]) -> frozenset[str]:
    return frozenset(each.lower() for each in bindings)


@cache
def _checker() -> Callable[[Any], Any]:
    source = pkgutil.get_data("ecumen.founding", "schemas/sites.json")
    assert source is not None
    return fastjsonschema.compile(json.loads(source))


def sought(scene: Scene, rows: Sequence[dict[str, Any]]) -> Sought:
    """What brings the server to a list; nothing where all is so."""
    known: dict[tuple[str, str], list[Site]] = {}
    for each in scene.hosts:
        known.setdefault((each.summary.asked_as.lower(), each.engine.kind), []).append(each)
    here = {name for name, _ in known}
    earlier = Earlier()
    operations: list[Operation] = []
    made, opened, kinds = [], [], []
    refused: list[tuple[str, str]] = []
    otherwise: list[tuple[str, str]] = []
    for row in rows:
        name = row["name"].lower()
        engines = [row["engine"]] if "engine" in row else [e.kind for e in scene.engines]
        blocks = next((known[name, kind] for kind in engines if (name, kind) in known), [])
        if blocks:
            wanted = _bound(row.get("bindings", ()))
            alike = (each for each in blocks if _bound(each.summary.bindings) == wanted)
            site = next(alike, blocks[0])
            here.discard(name)
            steps, differs = _brought(scene, site, row)
            operations += steps
            opened += [name] if steps else []
            otherwise += [(name, words) for words in differs]
            kinds += [site.engine.kind] if steps else []
            continue
        proposal = propose_beside(scene, _wish(row), earlier)
        if not proposal.possible:
            refused.append((name, next(c.words for c in proposal.clashes if c.stops)))
            continue
        operations += [each for each in proposal.operations if not isinstance(each, Reload)]
        made.append(name)
        kinds.append(proposal.engine)
    if made:
        then = renewed(scene.engines, done(scene.survey, operations))
        unread = _unread(scene, then, made)
        if unread:
            # The others must not rest on what those would have made.
            left = [row for row in rows if row["name"].lower() not in unread]
            found = sought(scene, left)
            words = "its file would not be read where it lies"
            return replace(found, refused=(*found.refused, *((name, words) for name in unread)))
        otherwise += [
            (engine.kind, words)
            for before, engine in zip(scene.engines, then, strict=True)
            for words in moved_defaults(scene.survey, before, engine)
        ]
    programs = {engine.kind: engine.programs[0] for engine in scene.engines}
    operations += [Reload(kind, programs[kind]) for kind in dict.fromkeys(kinds)]
    return Sought(
        tuple(operations), tuple(made), tuple(opened), tuple(refused), tuple(otherwise),
        tuple(sorted(here)),
    )  # fmt: skip


def _unread(scene: Scene, engines: Sequence[Engine], made: Sequence[str]) -> list[str]:
    """New sites that no engine would answer by, once all is done."""
    found = {
        summary.asked_as.lower()
        for engine, before in zip(engines, scene.engines, strict=True)
        for number in range(max(0, before.blocks - 1), engine.blocks)
        for summary in engine.sites_of(number)
    }
    if not set(made) <= found:
        # New ones may stand anywhere among those that are there.
        found |= {s.asked_as.lower() for engine in engines for s in all_sites(engine)}
    return [name for name in made if name not in found]


def _wish(row: dict[str, Any]) -> Wish:
    seen_by = row.get("seen_by", [EVERYONE])
    return Wish(
        row.get("owner", ""), row["name"], row.get("engine", ""), row.get("root", ""),
        tuple(row.get("names", ())), tuple(map(read_binding, row.get("bindings", ()))),
        row.get("log", ""), "", () if seen_by == [EVERYONE] else tuple(seen_by),
    )  # fmt: skip


def _brought(
    scene: Scene, site: Site, row: dict[str, Any]
) -> tuple[tuple[Operation, ...], list[str]]:
    """What brings a site that is there to its row, and where that is for a person to do."""
    now = _row(scene, site)
    differs = []
    for key in ("owner", "root", "log"):
        if key in row and row[key] != now.get(key):
            differs.append(f"{key} is {now.get(key, 'not its own')}, and {row[key]} in the list")
    for key in ("names", "bindings"):
        if key in row and {x.lower() for x in row[key]} != {x.lower() for x in now.get(key, ())}:
            here = " ".join(now.get(key, ())) or "none"
            differs.append(f"{key} are {here}, and {' '.join(row[key])} in the list")
    if "seen_by" not in row or row["seen_by"] == now.get("seen_by"):
        return (), differs
    wanted = [] if row["seen_by"] == [EVERYONE] else row["seen_by"]
    try:
        steps = opening(scene, site, wanted)
    except (LookupError, ValueError) as error:
        return (), [*differs, str(error)]
    return tuple(each for each in steps if not isinstance(each, Reload)), differs
