"""`ecumen sites`: the sites of a server as a list, and the plan that brings it to one."""

from __future__ import annotations

import csv
import io
import json
import sys
import tempfile
from typing import TYPE_CHECKING, Any

import click

from ecumen.errors import EcumenError
from ecumen_cli import exit as statuses
from ecumen_cli.files import open_survey, patterns_apart
from ecumen_cli.said import warn

if TYPE_CHECKING:
    from ecumen.founding.roster import Sought
    from ecumen.survey import Survey

LARGEST_LIST = 64 << 20  # bytes
# Of a table, what is several words in one field.
_SEVERAL = ("names", "bindings", "seen_by")


@click.command()
@click.option("--survey", "survey_file", help="The survey to look at, and not this machine.")
@click.option(
    "--plan", "wanted", metavar="LIST", help="JSON, JSON Lines, YAML or CSV; - for stdin."
)
@click.option("--json", "as_json", is_flag=True, help="JSON in place of YAML.")
def sites(survey_file: str | None, wanted: str | None, as_json: bool) -> int:
    """The sites that are, in the open list format. With --plan, the plan that brings the server to
    a list: new sites, and who is let in to those that were made by Ecumen. What is here and not in
    the list is told, and left alone. Nothing is done; `ecumen apply` does it.
    """
    from ecumen.audit.scene import Scene
    from ecumen.founding.roster import listed, read_list, sought
    from ecumen.passage import Follower
    from ecumen_machine.quiet import no_collecting

    patterns_apart()
    rows = None if wanted is None else read_list(_list(wanted))
    with no_collecting():
        scene = Scene(Follower(open_survey(survey_file) if survey_file else _taken()))
        if rows is None:
            _write(listed(scene), as_json)
            return statuses.DONE
        found = sought(scene, rows)
    return _planned(scene.survey, found)


def _write(data: dict[str, Any], as_json: bool) -> None:
    if as_json:
        json.dump(data, sys.stdout, indent=1)
        sys.stdout.write("\n")
        return
    import yaml

    # What no text of YAML can hold is escaped.
    sys.stdout.write(yaml.safe_dump(data, sort_keys=False, allow_unicode=False))


def _planned(survey: Survey, found: Sought) -> int:
    from ecumen.operations import Plan, PlanGround

    for name, why in found.refused:
        warn(f"{name} cannot be: {why}")
    for name, why in found.otherwise:
        warn(f"{name} stays as it is: {why}")
    if found.unlisted:
        few = ", ".join(found.unlisted[:5])
        more = f" and {len(found.unlisted) - 5} more" if len(found.unlisted) > 5 else ""
        warn(f"not in the list, and left alone: {few}{more}")
    if not found.operations:
        warn("Nothing is to be done: all that the list asks for is so.")
    else:
        new, opened = len(found.made), len(found.opened)
        title = f"Sites as listed: {new} new, {opened} with other visitors let in"
        ground = PlanGround(survey.host, survey.taken_at)
        sys.stdout.write(Plan(title, ground, found.operations).write())
    return statuses.WITH_GAPS if found.refused or found.otherwise else statuses.DONE


def _taken() -> Survey:
    """This machine, as it is now."""
    from ecumen_machine.apart import survey_apart

    with tempfile.NamedTemporaryFile(suffix=".survey") as file:
        survey_apart(file.file)
        file.flush()
        return open_survey(file.name)


def _list(path: str) -> object:
    """Raises ListError."""
    from ecumen.founding.roster import ListError

    try:
        with click.open_file(path, "rb") as stream:
            data = stream.read(LARGEST_LIST + 1)
    except OSError as error:
        raise ListError(f"{path}: {error.strerror}") from error
    if len(data) > LARGEST_LIST:
        raise ListError(f"{path}: a list has at most {LARGEST_LIST} bytes")
    try:
        return _understood(data.decode("utf-8-sig"), path)
    except (ValueError, RecursionError, csv.Error) as error:
        raise ListError(f"{path}: {str(error).splitlines()[0]}") from error


def _understood(text: str, path: str) -> object:
    """By its name, or by how it begins."""
    first = text.lstrip()[:1]
    if path.endswith(".csv"):
        return _of_rows(_table(text))
    if path.endswith((".yaml", ".yml")) or (first not in ("{", "[") and not path.endswith("l")):
        return _yaml(text)
    lines = [line for line in text.splitlines() if line.strip()]
    if len(lines) > 1 and all(line.startswith("{") for line in lines):
        return _of_rows([json.loads(line) for line in lines])
    return json.loads(text)


def _of_rows(rows: list[Any]) -> dict[str, Any]:
    from ecumen.founding.roster import FORMAT

    return {"format": FORMAT, "sites": rows}


def _table(text: str) -> list[dict[str, Any]]:
    rows = []
    for row in csv.DictReader(io.StringIO(text), strict=True):
        given = {key: value for key, value in row.items() if key and value}
        rows.append({k: v.split() if k in _SEVERAL else v for k, v in given.items()})
    return rows


def _yaml(text: str) -> object:
    import yaml

    class Plain(yaml.SafeLoader):
        """Without references: nine lines of them would be a billion of sites."""

        def compose_node(self, parent: Any, index: Any) -> Any:
            if self.check_event(yaml.AliasEvent):
                raise EcumenError("a list holds no references to parts of itself")
            return super().compose_node(parent, index)

    try:
        return yaml.load(text, Plain)
    except yaml.YAMLError as error:
        raise ValueError(str(error).replace("\n", " ")) from error
