"""`ecumen load`: puts a survey file into the store of the web application."""

from __future__ import annotations

import sys

import click

from ecumen.errors import SurveyError
from ecumen_cli.files import patterns_apart
from ecumen_cli.rootless import AS_ROOT, NAMED, without_root
from ecumen_cli.said import printable, warn


@click.command()
@click.argument("file")
@NAMED
@AS_ROOT
def load(file: str, account: str, as_root: bool) -> None:
    """Puts a survey file into the store of the web application."""
    from ecumen_machine import origin

    patterns_apart()
    try:
        with open(file, "rb") as stream:
            # The key is root's: by whom the survey was taken is settled before that is left.
            proven = origin.is_proven(stream, origin.key())
            stream.seek(0)
            without_root(account, as_root)
            from ecumen_web import server

            server.prepare()
            from ecumen_web.store.models import SurveyRecord
            from ecumen_web.surveys.loading import keep_file, load_kept

            kept = keep_file(stream)
        known = SurveyRecord.Origin.HERE if proven else SurveyRecord.Origin.UNKNOWN
        record = load_kept(kept, _progress, known)
    except OSError as error:
        raise SurveyError(f"{file}: {error.strerror or error}") from error
    except SurveyError as error:
        raise SurveyError(f"{file}: {error}") from error
    count = record.sites.count()
    warn(f"{file}: {record.host}, {record.paths} paths, {count} sites loaded")
    if not proven:
        warn(
            "That it was taken on this machine is not proven to this account: its logs are not "
            "read, its server is not asked."
        )


def _progress(doing: str, done: int, total: int) -> None:
    if sys.stderr.isatty():
        share = f" {done} of {total}" if total else ""
        end = "\n" if total and done == total else ""
        sys.stderr.write(f"\r\x1b[K{printable(doing)}{share}{end}")
        sys.stderr.flush()
