"""`ecumen undo`: takes back what was done."""

from __future__ import annotations

import click

from ecumen_cli.apply import ended


@click.command()
@click.argument("entry", type=click.IntRange(1))
def undo(entry: int) -> int:
    """Takes an entry of the ledger back: every path, mode, ACL, context and byte. Refused where
    later changes rest on it, or where somebody else has changed the same since.
    """
    from ecumen_agent.client import call

    return ended(call("undo", {"entry": entry}))
