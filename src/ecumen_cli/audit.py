"""`ecumen audit`: what is wrong on a server."""

from __future__ import annotations

import sys

import click

from ecumen.audit import Impact
from ecumen.audit import audit as run
from ecumen.passage import Follower
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
def audit(survey_file: str, form: str, fail_on: tuple[str, ...]) -> int:
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
    sys.stdout.write(FORMATS[form](survey, found))
    if any(finding.impact.value in fail_on for finding in found.findings):
        return statuses.FOUND
    return statuses.WITH_GAPS if found.failed_checks else statuses.DONE
