"""`ecumen label`: the security context that the rules give a path."""

from __future__ import annotations

import json
import os
import sys

import click

from ecumen.contexts.rules import RULE_FILES, ContextRules, Expected, LabelError
from ecumen.errors import SurveyError
from ecumen.survey import Kind
from ecumen_cli import exit as statuses
from ecumen_cli.files import open_survey
from ecumen_cli.said import printable


@click.command()
@click.option("--survey", "survey_file", help="The survey file to look at.")
@click.option("--contexts", "folder", help="A folder that holds file_contexts, in place of it.")
@click.option(
    "--kind",
    type=click.Choice([kind.value for kind in Kind]),
    help="With --contexts; else what is on disk there, or any.",
)
@click.option("--json", "as_json", is_flag=True, help="One JSON object a line.")
@click.argument("paths", nargs=-1, required=True, metavar="PATH...")
def label(
    survey_file: str | None,
    folder: str | None,
    kind: str | None,
    as_json: bool,
    paths: tuple[str, ...],
) -> int:
    """Says which security context the rules give a path, beside the one that it has."""
    if (survey_file is None) == (folder is None):
        raise click.UsageError("name a survey with --survey, or a folder with --contexts")
    if survey_file is not None and kind is not None:
        raise click.UsageError("--kind goes with --contexts: a survey knows the kinds")
    asked = _of_survey(survey_file, paths) if survey_file else _of_folder(folder or "", kind, paths)
    sure = True
    for path, expected, actual in asked:
        sure = sure and expected.sure
        context = expected.context if expected.sure else None
        if as_json:
            row = {"path": path, "expected": context, "actual": actual}
            sys.stdout.write(json.dumps(row) + "\n")
            continue
        differs = context is not None and actual is not None and context != actual
        told = context or ("none" if expected.sure else "not worked out")
        sys.stdout.write(printable(f"{'!' if differs else ' '} {path}  {told}") + "\n")
        if differs:
            sys.stdout.write(printable(f"    it has {actual}") + "\n")
    return statuses.DONE if sure else statuses.WITH_GAPS


_Row = tuple[str, Expected, str | None]


def _of_survey(file: str, paths: tuple[str, ...]) -> list[_Row]:
    survey = open_survey(file)
    if not survey.labels.files:
        raise SurveyError(f"{file}: this survey holds no rules of security contexts")
    rules = ContextRules(survey.labels.files)
    found = []
    for path in paths:
        entry = survey.files.get(path.rstrip("/") or "/")
        kind = entry.kind if entry else None
        found.append((path, rules.expected(path, kind), entry.context if entry else None))
    return found


def _of_folder(folder: str, kind: str | None, paths: tuple[str, ...]) -> list[_Row]:
    from ecumen_machine.contexts import rules_in
    from ecumen_machine.files import entry_of

    texts = rules_in(folder)
    if not texts:
        raise SurveyError(f"{folder}: there is no {RULE_FILES[0]} in it")
    try:
        rules = ContextRules(texts)
    except LabelError as error:
        raise SurveyError(f"{os.path.join(folder, '')}{error}") from error
    found = []
    for path in paths:
        try:
            entry = entry_of(path) if path.startswith("/") else None
        except (OSError, ValueError):
            entry = None
        on_disk = entry.kind if entry else None
        wanted = Kind(kind) if kind else on_disk
        found.append((path, rules.expected(path, wanted), entry.context if entry else None))
    return found
