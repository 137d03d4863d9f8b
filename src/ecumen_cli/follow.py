"""`ecumen follow`: what happens to a request, and why."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from dataclasses import asdict
from itertools import islice
from typing import Any

import click

from ecumen import codes
from ecumen.errors import RequestError
from ecumen.passage import Follower, Passage, Verdict
from ecumen.passage.request import read_request, request_of
from ecumen_cli import exit as statuses
from ecumen_cli.files import batch_rows, open_survey, patterns_apart
from ecumen_cli.said import printable
from ecumen_machine.quiet import no_collecting, settle
from ecumen_machine.spread import spread

_Row = dict[str, Any]
AT_ONCE = 100_000  # questions of a file that are worked on together
_MARKS = {
    Verdict.CLEAR: "passes ",
    Verdict.BLOCKED: "BLOCKED",
    Verdict.DIVERTED: "diverts",
    Verdict.UNSURE: "unsure ",
    Verdict.SKIPPED: "skipped",
}


@click.command()
@click.option("--survey", "survey_file", required=True, help="The survey file to ask.")
@click.option("--to", help="Connect to ADDR or ADDR:PORT; no name is looked up.")
@click.option("--from", "source", help="The visitor's address.")
@click.option("--method", default="GET", show_default=True)
@click.option("--json", "as_json", is_flag=True, help="One JSON line for each address.")
@click.option("--batch", help="JSON Lines of requests; - for standard input.")
@click.option("--brief", is_flag=True, help="With --batch: without gates and obstacles.")
@click.argument("urls", nargs=-1, metavar="URL...")
def follow(
    survey_file: str,
    to: str | None,
    source: str | None,
    method: str,
    as_json: bool,
    batch: str | None,
    brief: bool,
    urls: tuple[str, ...],
) -> int:
    """Explains what happens to a request: every gate, and every obstacle."""
    if bool(urls) == bool(batch):
        raise click.UsageError("name at least one URL, or --batch FILE")
    patterns_apart()
    with no_collecting():
        follower = Follower(open_survey(survey_file))
    if batch:
        settle()
        # Who asks through a pipe may wait for one answer before the next question.
        at_once = 1 if batch == "-" else AT_ONCE
        for rows in _together(batch_rows(batch), at_once):
            sys.stdout.writelines(_lines(follower, rows, brief))
        return statuses.DONE
    for url in urls:
        passage = follower.follow(read_request(url, to=to, source=source, method=method))
        if as_json:
            click.echo(json.dumps(asdict(passage)))
        else:
            click.echo(_text(passage))
    return statuses.DONE


def _together(rows: Iterator[_Row], at_once: int) -> Iterator[list[_Row]]:
    """So many at a time. What stands in front of a bad line is answered before that is told."""
    while True:
        some: list[_Row] = []
        try:
            some.extend(islice(rows, at_once))
        except RequestError:
            # Of what it was given, `extend` keeps what came before.
            yield some
            raise
        if not some:
            return
        yield some


def _lines(follower: Follower, rows: list[_Row], brief: bool) -> Iterator[str]:
    """The answers in the order of the questions, each a line."""
    # Those about one site are worked out by one process: what it takes for them is made once.
    order = sorted(range(len(rows)), key=lambda at: str(rows[at].get("url", "")).split("/", 3)[:3])

    def line(number: int) -> str:
        row = rows[order[number]]
        return json.dumps({"id": row.get("id"), **_answer(follower, row, brief)}) + "\n"

    found = spread(line, len(rows), lambda begun: None)
    where = sorted(range(len(rows)), key=order.__getitem__)
    return (found[at] for at in where)


def _answer(follower: Follower, row: dict[str, Any], brief: bool) -> dict[str, Any]:
    """One answer; a question that makes no sense is no reason to leave the others unanswered."""
    try:
        request = request_of(row)
    except RequestError as error:
        why = [{"gate": "name", "reason": str(error), "at": None}]
        return dict.fromkeys(_ANSWER) | {"decided": False, "unsure_because": why}
    return follower.brief(request) if brief else asdict(follower.follow(request))


_ANSWER = ("decided", "status", "site", "file", "content_type", "location", "upstream", "log")


def _text(passage: Passage) -> str:
    status = "no answer" if passage.status is None else str(passage.status)
    sure = "" if passage.decided or passage.premise else "  (not sure)"
    lines = [passage.url, f"  {status}{sure}  {passage.summary}", ""]
    for gate in passage.gates:
        lines.append(f"  {gate.gate:<8} {_MARKS[gate.verdict]}  {gate.reason}")
        for proof in gate.evidence[:3]:
            lines.append(f"           {_proof(proof)}")
    if passage.obstacles:
        lines += ["", "  In the way, one behind the other:"]
        for number, obstacle in enumerate(passage.obstacles, 1):
            lines.append(f"  {number}. {obstacle.reason}")
            if obstacle.mend:
                lines.append(f"     {obstacle.mend}")
    if any(doubt.code == codes.NAME_UNKNOWN for doubt in passage.unsure_because):
        lines += ["", "  With --to ADDRESS it is asked there, wherever the name leads."]
    if passage.unsure_because and not passage.premise:
        lines += ["", "  Not sure because:"]
        for doubt in passage.unsure_because:
            where = ", ".join(_proof(proof) for proof in doubt.evidence[:1])
            lines.append(f"  - {doubt.reason}" + (f"  ({where})" if where else ""))
    return "\n".join(printable(line) for line in lines) + "\n"


def _proof(proof: Any) -> str:
    if proof.file is not None:
        return f"{proof.file}:{proof.line}  {proof.text or ''}".rstrip()
    if proof.mode is not None:
        acl = f"  ACL {proof.acl}" if proof.acl else ""
        return f"{proof.path}  {proof.mode} {proof.owner}:{proof.group}{acl}"
    return proof.path or proof.text or ""
