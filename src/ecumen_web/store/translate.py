"""Between the core's values and rows; nothing else."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Any

from ecumen.audit import Finding
from ecumen.audit.finding import Remedy
from ecumen.engines.engine import Engine, all_sites
from ecumen.operations import read_operation, written
from ecumen.operations.opens import Opening
from ecumen.passage.front import FrontPage
from ecumen.survey import Survey
from ecumen_web.store.models import FindingRecord, SiteRecord, SurveyRecord


def clean(text: str) -> str:
    """Names that are no UTF-8 cannot be stored as they stand: their bytes are written out."""
    return text.encode("utf-8", "backslashreplace").decode("utf-8")


def survey_row(survey: Survey, file: str, digest: str) -> SurveyRecord:
    return SurveyRecord(
        host=clean(survey.host)[:255],
        taken_at=datetime.fromtimestamp(survey.taken_at, UTC),
        file=file,
        digest=digest,
        paths=len(survey.files),
        engines=[
            {"kind": e.kind, "version": e.version, "config": e.config} for e in survey.engines
        ],
        # An owner can make any number of folders that cannot be read; a thousand say what the rest
        # would.
        gaps=[{"what": g.what, "path": clean(g.path), "why": g.why} for g in survey.gaps[:1000]],
    )


def break_rows(engines: Sequence[Engine]) -> list[dict[str, object]]:
    """Where each engine stops reading its configuration, and how many sites stand behind."""
    stops = [(engine, [each for each in engine.breaks if not each.unread]) for engine in engines]
    return [
        {
            "engine": engine.kind,
            "file": clean(broken[0].place.file),
            "line": broken[0].place.line,
            "message": clean(broken[0].message)[:2000],
            "engine_says": broken[0].engine_says,
            "runs_since": broken[0].runs_since,
            "behind": sum(site.behind for site in all_sites(engine)),
        }
        for engine, broken in stops
        if broken
    ]


def finding_row(survey: SurveyRecord, position: int, finding: Finding) -> FindingRecord:
    return FindingRecord(
        survey=survey,
        position=position,
        key=finding.key,
        check_id=finding.id,
        impact=finding.impact.value,
        title=clean(finding.title),
        subject=clean(finding.subject),
        sites=[clean(name) for name in finding.sites],
        evidence=[_plain(each.said()) for each in finding.evidence],
        toll=asdict(finding.toll),
        group=clean(finding.group),
        remedies=[remedy_row(each) for each in finding.remedies],
    )


def remedy_row(remedy: Remedy) -> dict[str, Any]:
    """A remedy with its operations in the plan format: exact, whatever bytes a path has."""
    return {
        "title": clean(remedy.title),
        "operations": [written(operation) for operation in remedy.operations],
        "openings": [asdict(opening) for opening in remedy.openings],
        "commands": [clean(line) for line in remedy.commands],
        "left": remedy.left,
    }


def remedy_of(row: dict[str, Any]) -> Remedy:
    """The remedy of a row. Raises PlanError."""
    return Remedy(
        row["title"],
        [read_operation(each) for each in row["operations"]],
        [Opening(**each) for each in row["openings"]],
        row["commands"],
        row.get("left", 0),
    )


def _plain(row: dict[str, str | int]) -> dict[str, str | int]:
    """With bytes that are no UTF-8 written out."""
    return {key: clean(said) if isinstance(said, str) else said for key, said in row.items()}


def worst_impacts(findings: Sequence[Finding]) -> dict[str, str]:
    """By site: the worst that is found of it. Findings come the worst first."""
    found: dict[str, str] = {}
    for finding in findings:
        # The first site is the one that the finding is about; the others are those beside it.
        for name in finding.sites[:1]:
            found.setdefault(clean(name), finding.impact.value)
    return found


def site_row(
    survey: SurveyRecord,
    position: int,
    front: FrontPage,
    impacts: dict[str, str],
    subject: str,
) -> SiteRecord:
    site = front.site
    return SiteRecord(
        survey=survey,
        position=position,
        engine=front.engine,
        name=clean(site.name)[:300],
        personal=site.personal is not None,
        declared_at=clean(str(site.place)),
        binding=clean(", ".join(site.bindings))[:300],
        root=None if site.root is None else clean(site.root)[:4100],
        owner=None if front.owner is None else clean(front.owner)[:300],
        volume=None if front.volume is None else clean(front.volume)[:1000],
        url=clean(front.url)[:1000],
        to=front.to,
        state=front.state,
        status=front.status,
        gate=front.gate,
        reason=clean(front.reason),
        obstacles=front.obstacles,
        behind=site.behind,
        subject=clean(subject)[:1000],
        impact=impacts.get(clean(site.name), ""),
    )
