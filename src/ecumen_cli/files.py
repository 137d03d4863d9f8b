"""Opening what the caller named; a failure is one line that says which file and why."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import click

from ecumen.errors import PlanError, RequestError, SurveyError
from ecumen.survey import Survey, read_survey
from ecumen_cli.said import warn
from ecumen_machine.quiet import no_collecting


def open_survey(path: str) -> Survey:
    """Raises SurveyError that names the file."""
    try:
        # A million short-lived rows: the collector would only look at them in vain.
        with no_collecting(), open(path, "rb") as stream:
            return read_survey(stream)
    except OSError as error:
        raise SurveyError(f"{path}: {error.strerror}") from error
    except SurveyError as error:
        raise SurveyError(f"{path}: {error}") from error


def patterns_apart() -> None:
    """Has costly patterns matched in a process that can be ended; before anything large is read."""
    from ecumen_machine import matching

    if matching.start() is None:
        warn("libpcre2-8 is missing here: of most patterns it is not worked out what they match")


def batch_rows(path: str) -> Iterator[dict[str, Any]]:
    """The objects of a JSON Lines file, `-` for standard input; empty lines are passed over.

    Raises RequestError that names the line.
    """
    with click.open_file(path, encoding="utf-8") as stream:
        for number, line in enumerate(stream, 1):
            if not line.strip():
                continue
            try:
                row: Any = json.loads(line)
            except (ValueError, RecursionError):
                row = None
            if not isinstance(row, dict):
                raise RequestError(f"line {number} of the batch is no JSON object")
            yield row


def plan_text(path: str) -> bytes:
    """A plan's file, `-` for standard input. Raises PlanError that names the file."""
    try:
        with click.open_file(path, "rb") as stream:
            return bytes(stream.read())
    except OSError as error:
        raise PlanError(f"{path}: {error.strerror}") from error
