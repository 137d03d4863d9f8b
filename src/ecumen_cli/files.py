"""Opening what the caller named; a failure is one line that says which file and why."""

from __future__ import annotations

from ecumen.errors import SurveyError
from ecumen.survey import Survey, read_survey


def open_survey(path: str) -> Survey:
    """Raises SurveyError that names the file."""
    try:
        with open(path, "rb") as stream:
            return read_survey(stream)
    except OSError as error:
        raise SurveyError(f"{path}: {error.strerror}") from error
    except SurveyError as error:
        raise SurveyError(f"{path}: {error}") from error
