"""`ecumen reach`: may this account do that to this path."""

from __future__ import annotations

import json
import sys
from dataclasses import asdict
from typing import Any

import click

from ecumen.rights.reach import Reacher, is_need, reach_of_all
from ecumen_cli import exit as statuses
from ecumen_cli.files import batch_rows, open_survey
from ecumen_cli.said import printable


@click.command()
@click.option("--survey", "survey_file", required=True, help="The survey file to look at.")
@click.option("--as", "account", help="The account, by name or number.")
@click.option("--need", help="Letters of rwx, or list, create, delete.")
@click.option("--json", "as_json", is_flag=True, help="One JSON object a line.")
@click.option("--batch", help="JSON Lines with as, need and path; - for standard input.")
@click.argument("paths", nargs=-1, metavar="PATH...")
def reach(
    survey_file: str,
    account: str | None,
    need: str | None,
    as_json: bool,
    batch: str | None,
    paths: tuple[str, ...],
) -> int:
    """Says whether an account may do something to a path, and which step decides."""
    reacher = Reacher(open_survey(survey_file))
    if batch is not None:
        if account or need or paths:
            raise click.UsageError("--batch stands alone: the questions are in its lines")
        for row in reach_of_all(reacher, batch_rows(batch)):
            sys.stdout.write(json.dumps(row) + "\n")
        return statuses.DONE
    if not account or not need or not paths:
        raise click.UsageError("name an account with --as, what it needs with --need, and a path")
    if not is_need(need):
        raise click.UsageError(f"--need {need}: use letters of rwx, or list, create, delete")
    subject = reacher.subject(account)
    if subject is None:
        raise click.UsageError(f"--as {account}: the survey has no such account")
    answers = [(path, reacher.ask(subject, need, path)) for path in paths]
    for path, answer in answers:
        if as_json:
            told: dict[str, Any] = {"as": account, "need": need, "path": path, **asdict(answer)}
            sys.stdout.write(json.dumps(told) + "\n")
        else:
            word = {True: "yes", False: "no", None: "not known"}[answer.allowed]
            sys.stdout.write(printable(f"{word:<9} {path}") + "\n")
            sys.stdout.write(printable(f"          {answer.why}") + "\n")
    return statuses.DONE if all(a.allowed is not None for _, a in answers) else statuses.WITH_GAPS
