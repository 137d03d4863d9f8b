"""`ecumen load`: puts a survey file into the store of the web application."""

from __future__ import annotations

import sys

import click

from ecumen.errors import SurveyError
from ecumen_cli.said import printable, warn


@click.command()
@click.argument("file")
def load(file: str) -> None:
    """Puts a survey file into the store of the web application."""
    from ecumen_web import server

    server.prepare()
    from ecumen_web.store.loading import keep_file, load_kept

    try:
        with open(file, "rb") as stream:
            kept = keep_file(stream)
        record = load_kept(kept, _progress)
    except OSError as error:
        raise SurveyError(f"{file}: {error.strerror}") from error
    except SurveyError as error:
        raise SurveyError(f"{file}: {error}") from error
    count = record.sites.count()
    warn(f"{file}: {record.host}, {record.paths} paths, {count} sites loaded")


def _progress(doing: str, done: int, total: int) -> None:
    if sys.stderr.isatty():
        share = f" {done} of {total}" if total else ""
        end = "\n" if total and done == total else ""
        sys.stderr.write(f"\r\x1b[K{printable(doing)}{share}{end}")
        sys.stderr.flush()
