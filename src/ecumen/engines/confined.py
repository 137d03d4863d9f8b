"""The file system as a worker finds it: by modes and ACLs, and by the policy in force."""

from __future__ import annotations

from dataclasses import replace

from ecumen.contexts.confinement import confinement_of
from ecumen.rights import Subject, Walker
from ecumen.survey import Survey


def confined_walker(survey: Survey, worker: Subject) -> Walker:
    """Walks as the engine's worker, in the engine's domain."""
    guard = confinement_of(survey).guard
    return Walker(survey, worker if guard is None else replace(worker, guard=guard))
