"""Puts a survey file into the store: checked, copied, its sites asked once."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Callable
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path
from typing import IO

from django.conf import settings
from django.db import transaction

from ecumen.audit import audit
from ecumen.audit.scene import Scene
from ecumen.engines.quiet import let_go
from ecumen.errors import EcumenError, SurveyError
from ecumen.passage import Follower
from ecumen.survey import Survey, read_survey
from ecumen_web.store.models import FindingRecord, SiteRecord, SurveyRecord
from ecumen_web.store.translate import (
    break_rows,
    finding_row,
    site_row,
    survey_row,
    worst_impacts,
)

Progress = Callable[[str, int, int], None]
_BATCH = 500


class LoadCancelledError(EcumenError):
    """Somebody cancelled the load; nothing of it was kept."""


def keep_file(stream: IO[bytes]) -> str:
    """Copies a survey file into the surveys folder. Returns its name there, made of its bytes.

    Raises SurveyError where it is larger than is allowed.
    """
    digest = hashlib.sha256()
    size = 0
    with tempfile.NamedTemporaryFile(dir=settings.SURVEYS, delete=False) as copy:
        while block := stream.read(1 << 20):
            size += len(block)
            if size > settings.LARGEST_UPLOAD:
                os.unlink(copy.name)
                raise SurveyError(f"the file is larger than {settings.LARGEST_UPLOAD} bytes")
            digest.update(block)
            copy.write(block)
    name = f"{digest.hexdigest()}.survey"
    os.replace(copy.name, settings.SURVEYS / name)
    return name


def load_kept(name: str, progress: Progress) -> SurveyRecord:
    """Loads a file of the surveys folder. One that is there already keeps its number, and its
    sites are asked anew: a newer Ecumen may know more.

    Raises SurveyError; the file is removed then.
    """
    digest = name.removesuffix(".survey")
    path: Path = settings.SURVEYS / name
    progress("reading the survey", 0, 0)
    try:
        return _store(_survey_in(path), name, digest, progress)
    except EcumenError:
        path.unlink(missing_ok=True)
        raise
    finally:
        let_go()


def _survey_in(path: Path) -> Survey:
    with path.open("rb") as stream:
        return read_survey(stream)


def _store(survey: Survey, name: str, digest: str, progress: Progress) -> SurveyRecord:
    progress("reading the configuration", 0, 0)
    follower = Follower(survey)
    scene = Scene(follower)
    total = len(scene.sites)
    rows = []
    for number, site in enumerate(scene.sites):
        if number % 50 == 0:
            progress("following every front page", number, total)
        rows.append(scene.page(site))
    found = audit(scene, progress)
    impacts = worst_impacts(found.findings)
    progress("keeping the records", total, total)
    with transaction.atomic():
        record = SurveyRecord.objects.filter(digest=digest).first()
        if record is None:
            record = survey_row(survey, name, digest)
        record.breaks = break_rows(follower.engines)
        record.failed_checks = [asdict(failed) for failed in found.failed_checks]
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


@lru_cache(maxsize=4)
def scene_of(file: str) -> Scene:
    """A kept survey, ready to be looked at; the last few stay in memory."""
    # The one that had to go for the one before this.
    let_go()
    return Scene(Follower(_survey_in(settings.SURVEYS / file)))


def follower_of(file: str) -> Follower:
    """The follower of a kept survey."""
    return scene_of(file).follower
