"""`ecumen ledger`: what was done to this server."""

from __future__ import annotations

import json
import sys
from datetime import UTC, datetime

import click

from ecumen_cli.said import say


@click.command()
@click.option("--json", "as_json", is_flag=True, help="A JSON line for each entry.")
@click.option("--most", default=100, show_default=True, type=click.IntRange(1, 1000))
def ledger(as_json: bool, most: int) -> None:
    """Lists what was done to this server, the latest first: when, by whom, and how it went."""
    from ecumen_agent.client import call

    for entry in call("ledger", {"most": most}):
        if as_json:
            sys.stdout.write(json.dumps(entry) + "\n")
            continue
        at = datetime.fromtimestamp(entry["at"], UTC).strftime("%Y-%m-%d %H:%M UTC")
        say(f"{entry['id']:>5}  {at}  {entry['state']:<10}  {entry['title']}, by {entry['who']}")
        for step in entry["steps"]:
            say(f"       {step}")
        say(f"       {entry['said']}")
