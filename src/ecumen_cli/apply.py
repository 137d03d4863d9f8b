"""`ecumen apply`: does a plan, through the agent."""

from __future__ import annotations

from typing import Any

import click

from ecumen_cli import exit as statuses
from ecumen_cli.files import plan_text
from ecumen_cli.said import say, warn

_STATUS = {
    "done": statuses.DONE,
    "undone": statuses.DONE,
    "taken back": statuses.FOUND,
    "refused": statuses.WRONG_INPUT,
    "going back": statuses.WITH_GAPS,
}


@click.command()
@click.argument("plan")
@click.option("--who", default="", help="Whoever asks for it, for the ledger.")
def apply(plan: str, who: str) -> int:
    """Does a plan: each step is written down before it is done, and where the server is not as the
    plan expects it nothing is changed. Exit status 1 where it was begun and taken back.
    """
    from ecumen.operations import read_plan
    from ecumen_agent.client import call

    text = plan_text(plan)
    read_plan(text)
    asked = {"plan": text.decode("utf-8", "replace"), "who": who}
    return ended(call("apply", asked, _progress))


def ended(outcome: dict[str, Any]) -> int:
    """Says what came of it. Returns the exit status."""
    entry = f"Entry {outcome['entry']}: " if outcome["entry"] else ""
    say(f"{entry}{outcome['said']}")
    return _STATUS[outcome["state"]]


def _progress(doing: str, done: int, total: int) -> None:
    warn(f"{done + 1} of {total}: {doing}")
