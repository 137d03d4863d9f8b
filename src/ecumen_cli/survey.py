"""`ecumen survey`: captures this machine into a survey file."""

from __future__ import annotations

import os
import sys
import tempfile

import click

from ecumen.survey import write_survey
from ecumen_cli import exit as statuses
from ecumen_machine import EngineSpec, ProbeError, take_survey


@click.command()
@click.option("--out", required=True, help="The survey file to write.")
@click.option(
    "--engine",
    "engines",
    multiple=True,
    metavar="KIND:CONFIG",
    help="httpd:FILE or nginx:FILE; without it, the installed engines.",
)
@click.option("--scan", multiple=True, metavar="DIR", help="A further folder to look at.")
@click.option("--no-logs", is_flag=True, help="Leave log files alone.")
def survey(out: str, engines: tuple[str, ...], scan: tuple[str, ...], no_logs: bool) -> int:
    """Captures configuration, accounts, listeners and file metadata of this machine."""
    for folder in scan:
        if not os.path.isdir(folder):
            raise ProbeError(f"{folder}: there is no such folder to scan")
    taken = take_survey([EngineSpec.parse(text) for text in engines], scan, _progress)
    _progress("", 0)
    folder = os.path.dirname(os.path.abspath(out))
    try:
        # Beside the target, so that a survey that is cut short never stands in its place.
        with tempfile.NamedTemporaryFile(dir=folder, delete=False) as stream:
            write_survey(taken, stream)
        os.replace(stream.name, out)
    except OSError as error:
        raise ProbeError(f"{out}: {error.strerror}") from error
    click.echo(
        f"{out}: {len(taken.files)} paths, {len(taken.texts)} configuration files, "
        f"{len(taken.engines)} engines, {len(taken.gaps)} gaps",
        err=True,
    )
    for gap in taken.gaps[:20]:
        click.echo(f"  not read: {gap.path} ({gap.what}: {gap.why})", err=True)
    return statuses.WITH_GAPS if taken.gaps else statuses.DONE


def _progress(doing: str, count: int) -> None:
    if sys.stderr.isatty():
        text = f"{doing}: {count}" if count else doing
        sys.stderr.write(f"\r\x1b[K{text[:100]}")
        sys.stderr.flush()
