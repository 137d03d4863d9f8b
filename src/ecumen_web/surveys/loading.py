"""Puts a survey file into the store: checked, copied, its sites asked once."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path
from typing import IO

from django.conf import settings
from django.db import DatabaseError, transaction

from ecumen.audit import audit
from ecumen.audit.scene import Scene
from ecumen.errors import EcumenError, SurveyError
from ecumen.passage import Follower
from ecumen.survey import Survey, read_survey
from ecumen_machine.origin import is_proven, key
from ecumen_machine.quiet import let_go, no_collecting
from ecumen_machine.spread import spread
from ecumen_web.store.models import FindingRecord, JobRecord, SiteRecord, SurveyRecord
from ecumen_web.store.translate import (
    break_rows,
    finding_row,
    site_row,
    survey_row,
    worst_impacts,
)

Progress = Callable[[str, int, int], None]
_BATCH = 500
_ASIDE = ".aside-"


class LoadCancelledError(EcumenError):
    """Somebody cancelled the load; nothing of it was kept."""


class MissingFileError(SurveyError):
    """A survey is listed of which the file is gone."""


def keep_file(stream: IO[bytes]) -> str:
    """Copies a survey file into the surveys folder. Returns its name there, made of its bytes.

    Raises SurveyError where it is larger than is allowed, or there is no room for it; nothing is
    left of it then.
    """
    digest = hashlib.sha256()
    size = 0
    made = None
    try:
        with tempfile.NamedTemporaryFile(dir=settings.SURVEYS, prefix=_ASIDE, delete=False) as copy:
            made = copy.name
            while block := stream.read(1 << 20):
                size += len(block)
                if size > settings.LARGEST_UPLOAD:
                    raise SurveyError(f"the file is larger than {settings.LARGEST_UPLOAD} bytes")
                digest.update(block)
                copy.write(block)
            copy.flush()
            os.fsync(copy.fileno())
        name = f"{digest.hexdigest()}.survey"
        os.replace(made, settings.SURVEYS / name)
    except OSError as error:
        why = error.strerror or str(error)
        raise SurveyError(f"the file cannot be kept in {settings.SURVEYS}: {why}") from error
    finally:
        if made is not None:
            Path(made).unlink(missing_ok=True)
    return name


def leave_nothing() -> None:
    """Removes what was left aside by a process that ended in the middle; called at the start."""
    for path in settings.SURVEYS.glob(f"{_ASIDE}*"):
        path.unlink(missing_ok=True)


def load_kept(
    name: str, progress: Progress, origin: SurveyRecord.Origin | None = None
) -> SurveyRecord:
    """Loads a file of the surveys folder. One that is there already keeps its number, and its
    sites are asked anew: a newer Ecumen may know more.

    origin: where whoever calls knows it. Raises SurveyError; the file is removed then, unless a
    survey that was loaded before, or another job, has it.
    """
    path: Path = settings.SURVEYS / name
    progress("reading the survey", 0, 0)
    try:
        with no_collecting():
            survey = _survey_in(path)
            if origin is None:
                origin = origin_of(path)
            return _store(survey, name, origin, progress)
    except DatabaseError as error:
        # Nothing of it was written down: that is done all at once, or not at all.
        _give_up(path)
        raise SurveyError(f"its records cannot be kept in {settings.HOME}: {error}") from error
    except EcumenError:
        _give_up(path)
        raise
    finally:
        let_go()


def _give_up(path: Path) -> None:
    with suppress(DatabaseError):
        if _is_wanted(path.name):
            return
    path.unlink(missing_ok=True)


def _is_wanted(name: str) -> bool:
    open_states = (JobRecord.State.WAITING, JobRecord.State.RUNNING)
    loads = JobRecord.objects.filter(
        kind=JobRecord.Kind.SURVEY, file=name, state__in=open_states, cancel=False
    )
    return SurveyRecord.objects.filter(file=name).exists() or loads.count() > 1


def origin_of(path: Path) -> SurveyRecord.Origin:
    """Whether a kept file is one that this machine's own capture took."""
    with path.open("rb") as stream:
        if settings.KEEPER is not None:
            proven = settings.KEEPER.is_proven(stream.fileno())
        else:
            proven = is_proven(stream, key())
    return SurveyRecord.Origin.HERE if proven else SurveyRecord.Origin.UNKNOWN


def remove(record: SurveyRecord) -> None:
    """Takes a survey out of the store, with its file."""
    path: Path = settings.SURVEYS / record.file
    record.delete()
    path.unlink(missing_ok=True)
    scene_of.cache_clear()


def _survey_in(path: Path) -> Survey:
    try:
        with path.open("rb") as stream:
            return read_survey(stream)
    except FileNotFoundError as error:
        raise MissingFileError(
            "the file of this survey is gone: load it again, or remove it from the list"
        ) from error


def _store(
    survey: Survey, name: str, origin: SurveyRecord.Origin, progress: Progress
) -> SurveyRecord:
    progress("reading the configuration", 0, 0)
    follower = Follower(survey)
    scene = Scene(follower)
    scene.look(spread, lambda *step: progress("following every front page", *step), in_words=True)
    rows = [scene.page(site) for site in scene.sites]
    found = audit(scene, progress)
    impacts = worst_impacts(found.findings)
    total = len(rows)
    progress("keeping the records", total, total)
    digest = name.removesuffix(".survey")
    with transaction.atomic():
        record = SurveyRecord.objects.filter(digest=digest).first()
        if record is None:
            record = survey_row(survey, name, digest)
        record.breaks = break_rows(follower.engines)
        record.failed_checks = [asdict(failed) for failed in found.failed_checks]
        record.origin = origin
        record.revision += 1
        record.save()
        record.findings.all().delete()
        FindingRecord.objects.bulk_create(
            [finding_row(record, position, each) for position, each in enumerate(found.findings)],
            batch_size=_BATCH,
        )
        record.sites.all().delete()
        SiteRecord.objects.bulk_create(
            [
                site_row(record, number, front, impacts, scene.sites[number].subject)
                for number, front in enumerate(rows)
            ],
            batch_size=_BATCH,
        )
    return record


@lru_cache(maxsize=2)
def scene_of(file: str) -> Scene:
    """A kept survey, ready to be looked at; it and what it is compared with stay in memory."""
    # The one that had to go for the one before this.
    let_go()
    with no_collecting():
        return Scene(Follower(_survey_in(settings.SURVEYS / file)))


def follower_of(file: str) -> Follower:
    """The follower of a kept survey."""
    return scene_of(file).follower
