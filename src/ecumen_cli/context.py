"""`ecumen context`: what the policy lets the engine's domain do."""

from __future__ import annotations

import json
import os
import sys

import click

from ecumen.contexts.policy import Policy, PolicyError, leave_of_all
from ecumen.contexts.shipped import shipped_policy
from ecumen.errors import SurveyError
from ecumen.survey import PolicyTexts
from ecumen_cli import exit as statuses
from ecumen_cli.files import batch_rows, open_survey


@click.command()
@click.option("--survey", "survey_file", help="The survey file to look at.")
@click.option("--policy", "policy_file", help="A compiled policy, in place of it.")
@click.option("--domain", help="With --policy: of which domain.")
@click.option("--batch", required=True, help="JSON Lines with type, class and perm; - for stdin.")
def context(
    survey_file: str | None, policy_file: str | None, domain: str | None, batch: str
) -> int:
    """Says what the policy lets the engine's domain do, with the switches as they are."""
    if (survey_file is None) == (policy_file is None):
        raise click.UsageError("name a survey with --survey, or a policy with --policy")
    if (policy_file is None) != (domain is None):
        raise click.UsageError("--policy and --domain go together")
    texts = _of_survey(survey_file) if survey_file else _of_file(policy_file or "", domain or "")
    try:
        policy = Policy(texts)
    except PolicyError as error:
        raise SurveyError(f"{survey_file or policy_file}: {error}") from error
    if texts.shipped:
        click.echo("The survey holds no policy: the one that comes with Ecumen answers.", err=True)
    for row in leave_of_all(policy, batch_rows(batch)):
        sys.stdout.write(json.dumps(row) + "\n")
    return statuses.WITH_GAPS if texts.shipped else statuses.DONE


def _of_survey(file: str) -> PolicyTexts:
    return open_survey(file).labels.policy or shipped_policy()


def _of_file(file: str, domain: str) -> PolicyTexts:
    from ecumen_machine.contexts import ToolError, policy_texts

    if not os.path.isfile(file):
        raise SurveyError(f"{file}: there is no such policy")
    try:
        return policy_texts(file, domain)
    except ToolError as error:
        raise SurveyError(f"{file}: {error}") from error
