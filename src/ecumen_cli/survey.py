"""`ecumen survey`: captures this machine into a survey file."""

from __future__ import annotations

import os
import sys
import tempfile
from contextlib import suppress
from typing import IO

import click

from ecumen_cli import exit as statuses
from ecumen_cli.said import printable, warn
from ecumen_machine import SPECS, EngineSpec, ProbeError, origin
from ecumen_machine.apart import Taken, survey_apart


@click.command()
@click.option("--out", required=True, help="The survey file to write.")
@click.option(
    "--engine",
    "engines",
    multiple=True,
    metavar="KIND:CONFIG",
    help=f"{SPECS}; without it, the installed engines.",
)
@click.option("--scan", multiple=True, metavar="DIR", help="A further folder to look at.")
@click.option("--no-logs", is_flag=True, help="Leave log files alone.")
def survey(out: str, engines: tuple[str, ...], scan: tuple[str, ...], no_logs: bool) -> int:
    """Captures configuration, accounts, listeners and file metadata of this machine."""
    for folder in scan:
        if not os.path.isdir(folder):
            raise ProbeError(f"{folder}: there is no such folder to scan")
    taken = _written(out, [EngineSpec.parse(text) for text in engines], scan)
    _progress("", 0)
    warn(
        f"{out}: {taken.paths} paths, {taken.texts} configuration files, "
        f"{taken.engines} engines, {len(taken.gaps)} gaps"
    )
    for gap in taken.gaps[:20]:
        warn(f"  not read: {gap.path} ({gap.what}: {gap.why})")
    if sys.stderr.isatty():
        warn(f"  what owners wrote was read by a process with {', '.join(taken.holds)}")
    return statuses.WITH_GAPS if taken.gaps else statuses.DONE


def _written(out: str, specs: list[EngineSpec], scan: tuple[str, ...]) -> Taken:
    """Beside the target, so that a survey that is cut short never stands in its place. Raises
    ProbeError.
    """
    folder = os.path.dirname(os.path.abspath(out))
    try:
        stream = tempfile.NamedTemporaryFile(dir=folder, prefix=".survey-", delete=False)  # noqa: SIM115
    except OSError as error:
        raise ProbeError(f"{out}: {error.strerror}") from error
    try:
        with stream:
            taken = survey_apart(stream.file, specs, scan, _progress)
            _seal(stream.file)
            os.fsync(stream.fileno())
        os.replace(stream.name, out)
    except OSError as error:
        raise ProbeError(f"{out}: {error.strerror or error}") from error
    finally:
        with suppress(FileNotFoundError):
            os.unlink(stream.name)
    return taken


def _seal(stream: IO[bytes]) -> None:
    """Proves that the survey was taken here, which what reaches the live machine asks for."""
    try:
        secret = origin.key(make=True)
    except OSError as error:
        warn(f"no key for its origin can be kept ({origin.state()}: {error.strerror})")
        return
    if secret is not None:
        origin.seal(stream, secret)


def _progress(doing: str, count: int) -> None:
    if sys.stderr.isatty():
        text = f"{doing}: {count}" if count else doing
        sys.stderr.write(f"\r\x1b[K{printable(text)[:100]}")
        sys.stderr.flush()
