"""An audit as text, JSON, SARIF 2.1.0 and CSV."""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from collections.abc import Callable
from dataclasses import asdict
from datetime import UTC, datetime
from importlib.metadata import version
from typing import Any

from ecumen.audit import CHECKS, Audit, Finding, Impact, Remedy
from ecumen.audit.telling import told
from ecumen.operations import written
from ecumen.passage.request import escaped_path
from ecumen.passage.verdict import Evidence
from ecumen.survey import Survey
from ecumen_cli.said import printable

Report = Callable[[Survey, Audit], str]
# SARIF's own levels (section 3.27.10).
_LEVELS = {
    Impact.OUTAGE: "error", Impact.EXPOSURE: "error", Impact.CLASH: "warning",
    Impact.DRIFT: "warning", Impact.UPKEEP: "note",
}  # fmt: skip


def _clean(text: str) -> str:
    """Names that are no UTF-8 have their bytes written out."""
    return text.encode("utf-8", "backslashreplace").decode("utf-8")


def finding_row(finding: Finding) -> dict[str, Any]:
    """A finding in the form of the contract."""
    return {
        "id": finding.id,
        "key": finding.key,
        "impact": finding.impact.value,
        "title": finding.title,
        "subject": finding.subject,
        "sites": finding.sites,
        "evidence": [each.said() for each in finding.evidence],
        "toll": asdict(finding.toll),
        "group": finding.group,
        "remedies": [_remedy_row(remedy) for remedy in finding.remedies],
    }


def _remedy_row(remedy: Remedy) -> dict[str, Any]:
    """plan: the operations in the plan format, all of them."""
    return {**asdict(told(remedy)), "plan": [written(each) for each in remedy.operations]}


def as_json(survey: Survey, audit: Audit) -> str:
    taken = datetime.fromtimestamp(survey.taken_at, UTC).isoformat()
    of = {"host": survey.host, "taken_at": taken, "taken_by": survey.taken_by}
    failed = [asdict(each) for each in audit.failed_checks]
    # A finding a line: an encoder that indents takes ten times as long.
    findings = ",\n".join(json.dumps(finding_row(each)) for each in audit.findings)
    return (
        f'{{"survey": {json.dumps(of)},\n"findings": [\n{findings}\n],\n'
        f'"failed_checks": {json.dumps(failed)}}}\n'
    )


def as_text(survey: Survey, audit: Audit) -> str:
    lines = []
    groups: dict[tuple[Impact, str], list[Finding]] = defaultdict(list)
    for finding in audit.findings:
        groups[finding.impact, finding.group].append(finding)
    for (impact, _), findings in groups.items():
        lines.append(f"{impact.value}  {findings[0].id}  {CHECKS[findings[0].id].title}")
        for finding in findings:
            lines.append(f"  {finding.title}")
            lines += [f"      {_shown(each)}" for each in finding.evidence[:3]]
        lines += [f"  To mend it: {remedy.title}" for remedy in findings[0].remedies[:1]]
        lines.append("")
    lines += [f"check {failed.id} failed: {failed.why}" for failed in audit.failed_checks]
    counts = {impact: sum(f.impact is impact for f in audit.findings) for impact in Impact}
    told = ", ".join(f"{count} {impact.value}" for impact, count in counts.items() if count)
    lines.append(told or "Nothing was found.")
    return "".join(f"{printable(line)}\n" for line in lines)


def _shown(evidence: Evidence) -> str:
    if evidence.request is not None:
        return f"{evidence.request} → {evidence.outcome}"
    if evidence.file is not None:
        return f"{evidence.file}:{evidence.line}  {evidence.text or ''}".rstrip()
    if evidence.path is None:
        return evidence.text or ""
    whose = f"  {evidence.mode} {evidence.owner}:{evidence.group}" if evidence.mode else ""
    return f"{evidence.path}{whose}"


def as_csv(survey: Survey, audit: Audit) -> str:
    stream = io.StringIO()
    rows = csv.writer(stream, lineterminator="\n")
    rows.writerow(("impact", "id", "title", "subject", "sites", "evidence", "remedy", "key"))
    for finding in audit.findings:
        rows.writerow(
            [
                _tame(cell)
                for cell in (
                    finding.impact.value,
                    finding.id,
                    finding.title,
                    finding.subject,
                    " ".join(finding.sites),
                    "; ".join(_shown(each) for each in finding.evidence),
                    finding.remedies[0].title if finding.remedies else "",
                    finding.key,
                )
            ]
        )
    return stream.getvalue()


def _tame(text: str) -> str:
    """What a spreadsheet would take for a formula is not one."""
    text = printable(_clean(text))
    return f"'{text}" if text.lstrip()[:1] in tuple("=+-@") else text


def as_sarif(survey: Survey, audit: Audit) -> str:
    """SARIF 2.1.0 (OASIS standard), one run."""
    used = sorted({finding.id for finding in audit.findings})
    run = {
        "tool": {
            "driver": {
                "name": "Ecumen",
                "version": version("ecumen"),
                "rules": [_rule(id) for id in used],
            }
        },
        "invocations": [
            {
                "executionSuccessful": not audit.failed_checks,
                "toolExecutionNotifications": [
                    {"level": "error", "message": {"text": f"{failed.id}: {failed.why}"}}
                    for failed in audit.failed_checks
                ],
            }
        ],
        "results": [_result(finding, used.index(finding.id)) for finding in audit.findings],
    }
    log = {
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [run],
    }
    return json.dumps(log, indent=1) + "\n"


def _rule(id: str) -> dict[str, Any]:
    check = CHECKS[id]
    return {
        "id": id,
        "shortDescription": {"text": check.title},
        "defaultConfiguration": {"level": _LEVELS[check.impact]},
        "properties": {"impact": check.impact.value},
    }


def _result(finding: Finding, rule: int) -> dict[str, Any]:
    return {
        "ruleId": finding.id,
        "ruleIndex": rule,
        "level": _LEVELS[finding.impact],
        "message": {"text": _clean(finding.title)},
        "locations": [_location(each) for each in finding.evidence[:10] if _placed(each)],
        "partialFingerprints": {"finding/v1": finding.key},
        "properties": {
            "impact": finding.impact.value,
            "sites": [_clean(site) for site in finding.sites],
            "group": _clean(finding.group),
        },
    }


def _placed(evidence: Evidence) -> bool:
    return evidence.file is not None or evidence.path is not None


def _location(evidence: Evidence) -> dict[str, Any]:
    place: dict[str, Any] = {
        "artifactLocation": {"uri": _uri(evidence.file or evidence.path or "")}
    }
    if evidence.file is not None and evidence.line:
        place["region"] = {"startLine": evidence.line}
        if evidence.text:
            place["region"]["snippet"] = {"text": _clean(evidence.text)}
    return {"physicalLocation": place}


def _uri(path: str) -> str:
    return f"file://{escaped_path(path)}"


FORMATS: dict[str, Report] = {
    "text": as_text, "json": as_json, "sarif": as_sarif, "csv": as_csv,
}  # fmt: skip
