"""`ecumen keep`: has something stay that would be taken back."""

from __future__ import annotations

import click

from ecumen_cli.apply import ended


@click.command()
@click.argument("entry", type=click.IntRange(1))
def keep(entry: int) -> int:
    """Keeps an entry of the ledger that is taken back unless somebody says so in time."""
    from ecumen_agent.client import call

    return ended(call("keep", {"entry": entry}))
