"""`ecumen audit`: what is wrong on a server."""

from __future__ import annotations

import sys

import click

from ecumen.audit import Audit, Impact
from ecumen.audit import audit as run
from ecumen.errors import PlanError
from ecumen.operations import Plan, PlanGround
from ecumen.passage import Follower
from ecumen.survey import Survey
from ecumen_cli import exit as statuses
from ecumen_cli.files import open_survey, patterns_apart
from ecumen_cli.reports import FORMATS
from ecumen_cli.said import printable
from ecumen_machine.quiet import no_collecting
from ecumen_machine.spread import spread


@click.command()
@click.option("--survey", "survey_file", required=True, help="The survey file to look at.")
@click.option(
    "--format", "form", type=click.Choice(list(FORMATS)), default="text", show_default=True
)
@click.option(
    "--fail-on",
    multiple=True,
    type=click.Choice([impact.value for impact in Impact]),
    help="Exit status 1 where anything of this impact is found; may be given more than once.",
)
@click.option(
    "--plan",
    "key",
    help="In place of all findings: the plan that mends the one of this key, as rehearse takes it.",
)
def audit(survey_file: str, form: str, fail_on: tuple[str, ...], key: str | None) -> int:
    """Finds outages, exposures, clashes and drift over all sites, each with its evidence."""
    patterns_apart()
    survey = open_survey(survey_file)
    shown = sys.stderr.isatty()

    def progress(doing: str, done: int, total: int) -> None:
        if shown:
            click.echo(f"\r\033[K{printable(doing)} ({done}/{total})", nl=False, err=True)

    with no_collecting():
        found = run(Follower(survey), progress, spread)
    if shown:
        click.echo("\r\033[K", nl=False, err=True)
    if key is not None:
        sys.stdout.write(_plan(survey, found, key).write())
        return statuses.DONE
    sys.stdout.write(FORMATS[form](survey, found))
    if any(finding.impact.value in fail_on for finding in found.findings):
        return statuses.FOUND
    return statuses.WITH_GAPS if found.failed_checks else statuses.DONE


def _plan(survey: Survey, found: Audit, key: str) -> Plan:
    """The plan of a finding's first remedy that holds one. Raises PlanError."""
    finding = next((each for each in found.findings if each.key == key), None)
    if finding is None:
        raise PlanError(f"no finding has the key {key}: --format json tells the keys")
    for remedy in finding.remedies:
        if remedy.operations:
            ground = PlanGround(survey.host, survey.taken_at)
            return Plan(remedy.title, ground, tuple(remedy.operations), (finding.key,))
    raise PlanError(f"what mends {finding.title!r} is a person's to write: there is no plan for it")
