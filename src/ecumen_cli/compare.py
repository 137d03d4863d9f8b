"""`ecumen compare`: what changed from one survey to another."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from dataclasses import asdict, fields

import click

from ecumen.audit import audit
from ecumen.audit.scene import Scene
from ecumen.passage import Follower
from ecumen.views.changes import Change, Changed, Changes, changes, titles
from ecumen_cli import exit as statuses
from ecumen_cli.files import open_survey, patterns_apart
from ecumen_cli.said import printable
from ecumen_machine.quiet import no_collecting

_SIGNS = {"new": "+", "gone": "-", "changed": "~"}


@click.command()
@click.argument("before")
@click.argument("after")
@click.option("--json", "as_json", is_flag=True, help="The whole as one JSON object.")
def compare(before: str, after: str, as_json: bool) -> int:
    """Says what changed from one survey to another: sites, bindings, files, accounts, findings,
    and which front pages fare differently.
    """
    patterns_apart()
    with no_collecting():
        scenes = [Scene(Follower(open_survey(name))) for name in (before, after)]
        audits = [audit(scene) for scene in scenes]
        found = (titles(audits[0].findings), titles(audits[1].findings))
        whole = changes(scenes[0], scenes[1], found)
    if as_json:
        json.dump(asdict(whole), sys.stdout, indent=1)
        sys.stdout.write("\n")
    else:
        sys.stdout.writelines(f"{line}\n" for line in _lines(whole))
    failed = any(each.failed_checks for each in audits)
    return statuses.WITH_GAPS if failed else statuses.DONE


def _lines(whole: Changes) -> Iterator[str]:
    nothing = True
    for part in fields(whole):
        changed: Changed = getattr(whole, part.name)
        if not changed.changes:
            continue
        nothing = False
        yield f"{part.name}"
        for change in changed.changes:
            yield f"  {_SIGNS[change.what]} {_words(change)}"
        if changed.more:
            yield f"    and {changed.more} more"
    if nothing:
        yield "Nothing changed."


def _words(change: Change) -> str:
    aspect = f", {change.aspect}" if change.aspect else ""
    within = f", with {change.within} below" if change.within else ""
    facts = " -> ".join(filter(None, (change.before, change.after)))
    return printable(f"{change.subject}{aspect}{within}" + (f": {facts}" if facts else ""))
