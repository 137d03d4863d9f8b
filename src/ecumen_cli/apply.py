"""`ecumen apply`: does a plan, through the agent, once it was rehearsed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from ecumen.errors import PlanError
from ecumen_cli import exit as statuses
from ecumen_cli.files import open_survey, patterns_apart, plan_text
from ecumen_cli.said import say, warn

if TYPE_CHECKING:
    from ecumen.operations import Plan
    from ecumen.rehearsal import Rehearsal

_STATUS = {
    "done": statuses.DONE,
    "undone": statuses.DONE,
    "taken back": statuses.FOUND,
    "refused": statuses.WRONG_INPUT,
    "going back": statuses.WITH_GAPS,
}


@click.command()
@click.argument("plan")
@click.option("--survey", "survey_file", help="Rehearse it on this survey, not on a new one.")
@click.option(
    "--although",
    "yes",
    multiple=True,
    metavar="NAME",
    help="What gets worse, by its name as the rehearsal tells it: done all the same.",
)
@click.option(
    "--unless-kept",
    "minutes",
    type=click.IntRange(0, 1440),
    default=0,
    metavar="MINUTES",
    help="Take it back by itself unless `ecumen keep` is said within so many minutes.",
)
@click.option("--who", default="", help="Whoever asks for it, for the ledger.")  # fmt: skip
def apply(plan: str, survey_file: str | None, yes: tuple[str, ...], minutes: int, who: str) -> int:
    """Rehearses a plan, and does it: each step is written down before it is done, and where the
    server is not as the plan expects it nothing is changed. What makes something worse is done only
    with --although for each. Exit status 1 where it was begun and taken back.
    """
    from ecumen.operations import read_plan
    from ecumen.operations.quoting import quoted
    from ecumen_agent.client import call

    patterns_apart()
    text = plan_text(plan)
    wanted = read_plan(text)
    file = survey_file or call("survey", {}, lambda doing, done, total: warn(doing))["path"]
    found = _rehearsed(wanted, file)
    worsened = {} if found.stale else found.worsened
    worse = {name: words for name, words in worsened.items() if name not in yes}
    if worse:
        for name, words in worse.items():
            say(f"  {name}: {words}")
        names = " ".join(f"--although {quoted(name)}" for name in worse)
        raise PlanError(
            f"nothing was done: it makes something worse; to do it all the same: {names}"
        )
    asked = {
        "plan": text.decode("utf-8", "replace"),
        "who": who,
        "within": 60 * minutes,
        "pages": found.trial,
    }
    outcome = call("apply", asked, _progress)
    if minutes and outcome["state"] == "done" and outcome["entry"]:
        warn(f"taken back in {minutes} minutes, unless you say: ecumen keep {outcome['entry']}")
    return ended(outcome)


def ended(outcome: dict[str, Any]) -> int:
    """Says what came of it. Returns the exit status."""
    entry = f"Entry {outcome['entry']}: " if outcome["entry"] else ""
    say(f"{entry}{outcome['said']}")
    return _STATUS[outcome["state"]]


def _rehearsed(plan: Plan, survey_file: str) -> Rehearsal:
    """What comes of it, of which the sum is said."""
    from ecumen.audit.scene import Scene
    from ecumen.passage import Follower
    from ecumen.rehearsal import rehearse
    from ecumen_machine.quiet import no_collecting
    from ecumen_machine.spread import spread

    with no_collecting():
        survey = open_survey(survey_file)
        try:
            found = rehearse(Scene(Follower(survey)), plan.operations, spread=spread)
        except LookupError as error:
            raise PlanError(error.args[0] if error.args else str(error)) from error
    say(found.summary)
    return found


def _progress(doing: str, done: int, total: int) -> None:
    warn(f"{done + 1} of {total}: {doing}")
