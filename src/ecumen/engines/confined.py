"""The file system as a worker finds it: by modes and ACLs, and by the policy in force."""

from __future__ import annotations

from dataclasses import replace

from ecumen.contexts.confinement import Confinement
from ecumen.rights import Subject, Walker
from ecumen.survey import EngineRecord


def confined_walker(confinement: Confinement, record: EngineRecord, worker: Subject) -> Walker:
    """Walks as the engine's worker, in the engine's domain and with its own view of mounts."""
    guard = confinement.guard if confinement.confines(record) else None
    subject = worker if guard is None else replace(worker, guard=guard)
    return Walker(confinement.survey, subject, frozenset(record.own_view))
