"""The command `ecumen`."""

from __future__ import annotations

import os
import sys
from importlib import import_module

import click

from ecumen.errors import EcumenError
from ecumen_cli import exit as statuses
from ecumen_cli.said import warn

COMMANDS = (
    "agent", "apply", "audit", "compare", "context", "demo", "follow", "install-service", "keep",
    "label", "ledger", "load", "people", "reach", "rehearse", "serve", "sites", "survey", "tally",
    "undo",
)  # fmt: skip


class _Commands(click.Group):
    """Each command is in the module of its name, which is loaded when the command is asked for:
    what all of them need takes longer to load than most of them take.
    """

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        name = cmd_name.replace("-", "_")
        command: click.Command = getattr(import_module(f"ecumen_cli.{name}"), name)
        # The first sentence whole, and not as much of it as fits a line.
        summary = " ".join((command.help or "").split()).partition(". ")[0].rstrip(".")
        command.short_help = f"{summary}."
        return command


@click.group(
    cls=_Commands,
    context_settings={"help_option_names": ["-h", "--help"]},
    invoke_without_command=True,
)
@click.version_option(package_name="ecumen")
@click.pass_context
def ecumen(context: click.Context) -> None:
    """Explains, audits and mends the sites of a shared-hosting server."""
    if context.invoked_subcommand is None:
        click.echo(context.get_help())


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
