"""`ecumen tally`: counts access logs."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from typing import Any

import click

from ecumen.logs.template import USUAL
from ecumen_cli import exit as statuses
from ecumen_cli.said import printable


@click.command()
@click.option(
    "--format",
    "form",
    help="combined, common, vhost_combined, vhost_common, json, w3c, or a template in either "
    "engine's own language.",
)
@click.option("--json", "as_json", is_flag=True, help="One JSON object.")
@click.option("--top", default=10, show_default=True, type=click.IntRange(0, 1_000_000))
@click.argument("logs", nargs=-1, required=True, metavar="LOG...")
def tally(form: str | None, as_json: bool, top: int, logs: tuple[str, ...]) -> int:
    """Counts access logs, plain or gzip; - for standard input."""
    from ecumen_machine.logfiles import tally_of

    def note(line: str) -> None:
        click.echo(f"ecumen: {printable(line)}", err=True)

    found = tally_of(logs, (form,) if form else USUAL, note).as_dict(top)
    if as_json:
        sys.stdout.write(json.dumps(found) + "\n")
    else:
        sys.stdout.writelines(f"{printable(line)}\n" for line in _lines(found))
    return statuses.DONE


def _lines(found: dict[str, Any]) -> Iterator[str]:
    yield f"{found['lines']} lines, {found['parsed']} parsed, {found['rejected']} rejected"
    yield f"{found['bytes']} bytes, {found['hosts']} clients"
    if found["first"]:
        yield f"from {found['first']} to {found['last']}"
    for title, key in (("status", "by_status"), ("method", "by_method")):
        counts = ", ".join(f"{text}: {count}" for text, count in found[key].items())
        yield f"by {title}  {counts}"
    for title in ("paths", "referrers", "agents"):
        yield f"most frequent {title}"
        for text, count in found[f"top_{title}"]:
            yield f"{count:>10}  {text}"
