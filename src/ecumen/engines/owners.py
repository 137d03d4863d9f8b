"""Whose the things are that stop a request: told of every block that the ladder has."""

from __future__ import annotations

from dataclasses import replace

from ecumen.engines.sites import Block, Handling
from ecumen.rights import Subject
from ecumen.survey import Survey


def name_owners(handling: Handling, survey: Survey, worker: Subject | None) -> None:
    """Adds the worker, and owner, group and mode of what each block stands on, for the words."""
    name = worker.name if worker else ""
    handling.ladder.facts["worker"] = name
    handling.ladder.blocks = [_told(block, survey, name) for block in handling.ladder.blocks]


def _told(block: Block, survey: Survey, worker: str) -> Block:
    facts: dict[str, object] = {"worker": worker}
    entry = block.entry
    if entry is not None:
        facts |= {
            "owner": survey.user_name(entry.uid),
            "group": survey.group_name(entry.gid),
            "mode": entry.mode,
        }
    return replace(block, facts={**facts, **block.facts})
