"""The command `ecumen`."""

from __future__ import annotations

import os
import sys

import click

from ecumen.errors import EcumenError
from ecumen_cli import exit as statuses
from ecumen_cli.audit import audit
from ecumen_cli.compare import compare
from ecumen_cli.context import context
from ecumen_cli.demo import demo
from ecumen_cli.follow import follow
from ecumen_cli.label import label
from ecumen_cli.load import load
from ecumen_cli.people import people
from ecumen_cli.reach import reach
from ecumen_cli.said import warn
from ecumen_cli.serve import serve
from ecumen_cli.survey import survey
from ecumen_cli.tally import tally


@click.group(context_settings={"help_option_names": ["-h", "--help"]}, invoke_without_command=True)
@click.version_option(package_name="ecumen")
@click.pass_context
def ecumen(context: click.Context) -> None:
    """Explains, audits and mends the sites of a shared-hosting server."""
    if context.invoked_subcommand is None:
        click.echo(context.get_help())


for command in (
    audit, compare, context, demo, follow, label, load, people, reach, serve, survey, tally,
):  # fmt: skip
    # The first sentence whole, and not as much of it as fits a line.
    command.short_help = " ".join((command.help or "").split()).partition(". ")[0].rstrip(".") + "."
    ecumen.add_command(command)


def main() -> None:
    """Runs the command; every expected failure is one line and exit status 2."""
    try:
        status = ecumen(standalone_mode=False)
    except click.ClickException as error:
        warn(f"ecumen: {error.format_message()}")
        status = statuses.WRONG_INPUT
    except (click.exceptions.Abort, KeyboardInterrupt):
        status = 130
    except EcumenError as error:
        warn(f"ecumen: {error}")
        status = statuses.WRONG_INPUT
    except MemoryError:
        warn("ecumen: this takes more memory than there is")
        status = statuses.WRONG_INPUT
    except OSError as error:
        if isinstance(error, BrokenPipeError):
            # Whoever read our output has seen enough.
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            status = statuses.DONE
        else:
            where = f"{error.filename}: " if error.filename else ""
            warn(f"ecumen: {where}{error.strerror or error}")
            status = statuses.WRONG_INPUT
    sys.exit(status if isinstance(status, int) else statuses.DONE)
