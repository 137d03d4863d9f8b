"""`ecumen rehearse`: what a plan would change, before anything is touched."""

from __future__ import annotations

import json
import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

import click

from ecumen.errors import PlanError
from ecumen_cli import exit as statuses
from ecumen_cli.files import open_survey, patterns_apart, plan_text
from ecumen_cli.said import printable, warn
from ecumen_machine.quiet import no_collecting
from ecumen_machine.spread import spread

if TYPE_CHECKING:
    from ecumen.audit.finding import Finding
    from ecumen.rehearsal import Fared, Rehearsal

MOST_SHOWN = 20  # of each kind, in words


@click.command()
@click.option("--survey", "survey_file", required=True, help="The survey file to try it on.")
@click.option("--json", "as_json", is_flag=True, help="The whole as one JSON object.")
@click.argument("plan")
def rehearse(survey_file: str, as_json: bool, plan: str) -> int:
    """Says what a plan would change, for visitors and for accounts: what opens, what closes, who
    could then read what, which findings it mends. Nothing is touched. Exit status 1 where something
    gets worse.
    """
    from ecumen.audit.scene import Scene
    from ecumen.operations.plan import read_plan
    from ecumen.passage import Follower
    from ecumen.rehearsal import rehearse as run

    patterns_apart()
    wanted = read_plan(plan_text(plan))
    with no_collecting():
        survey = open_survey(survey_file)
        if wanted.ground.host != survey.host:
            warn(f"{plan}: made for {wanted.ground.host}, and tried on a survey of {survey.host}")
        try:
            found = run(Scene(Follower(survey)), wanted.operations, spread=spread)
        except LookupError as error:
            raise PlanError(f"{plan}: {error.args[0] if error.args else error}") from error
    if as_json:
        json.dump({"title": wanted.title, **_row(found)}, sys.stdout)
        sys.stdout.write("\n")
    else:
        lines = [wanted.title, "", *_lines(found)]
        sys.stdout.writelines(f"{printable(line)}\n" for line in lines)
    if found.stale:
        return statuses.WRONG_INPUT
    return statuses.FOUND if found.worse else statuses.DONE


def _row(found: Rehearsal) -> dict[str, Any]:
    return {
        "stale": found.stale,
        "worse": found.worse,
        "worsened": found.worsened,
        "steps": [asdict(each) for each in found.steps],
        "asked": found.asked,
        "addresses": [asdict(each) for each in found.addresses],
        "openings": [asdict(each) for each in found.openings],
        "exposed": [asdict(each) for each in found.exposed],
        "hidden": [asdict(each) for each in found.hidden],
        "mended": list(map(_finding, found.mended)),
        "new": list(map(_finding, found.new)),
        "reloads": found.reloads,
    }


def _finding(finding: Finding) -> dict[str, str]:
    return {
        "key": finding.key,
        "id": finding.id,
        "impact": finding.impact.value,
        "title": finding.title,
    }


def _lines(found: Rehearsal) -> Iterator[str]:
    from ecumen.rehearsal import Fate

    yield found.summary
    for step in found.steps:
        yield f"  {step.standing.value:<6} {step.words}"
    for fate in Fate:
        fares = [each for each in found.addresses if each.fate is fate]
        fronts = [each for each in fares if each.front]
        for each in fronts[:MOST_SHOWN]:
            yield from _told(each)
        yield from _more(fronts)
        # Of other pages one for each site: what befalls a folder befalls all that lies in it.
        sites = Counter(each.of for each in fares if not each.front)
        for of, count in sites.most_common(MOST_SHOWN):
            first = next(each for each in fares if each.of == of and not each.front)
            yield from _told(first)
            if count > 1:
                yield f"  and {count - 1} more of {of}"
        yield from _more(list(sites))
    for opening in found.openings[:MOST_SHOWN]:
        yield opening.words
    yield from _more(found.openings)
    for title, cells in (("exposed", found.exposed), ("no longer exposed", found.hidden)):
        for cell in cells[:MOST_SHOWN]:
            yield f"{title}: {cell.worst} of {cell.owner}, to {cell.other}"
        yield from _more(cells)
    for title, findings in (("new", found.new), ("mended", found.mended)):
        for finding in findings[:MOST_SHOWN]:
            yield f"{title}, {finding.impact.value}: {finding.title}"
        yield from _more(findings)
    for kind in found.reloads:
        yield f"{kind} must read its configuration again"


def _told(each: Fared) -> Iterator[str]:
    yield f"{each.fate.value}: {each.url}"
    yield f"  before  {each.before.words}"
    yield f"  after   {each.after.words}"


def _more(each: Sequence[object]) -> Iterator[str]:
    if len(each) > MOST_SHOWN:
        yield f"  and {len(each) - MOST_SHOWN} more"
