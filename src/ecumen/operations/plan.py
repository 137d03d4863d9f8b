"""The plan: operations in their order, and the open JSON format in which they are kept and sent.

The format is checked against its JSON Schema (schemas/plan.json); nothing in it is a command line.
"""

from __future__ import annotations

import json
import pkgutil
from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict, dataclass
from functools import cache
from typing import Any

import fastjsonschema

from ecumen.errors import PlanError
from ecumen.operations.acl import AclGrant
from ecumen.operations.context import Context
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.homes import NewHomes
from ecumen.operations.hosts import Hosts
from ecumen.operations.link import Link
from ecumen.operations.mode import Mode
from ecumen.operations.operation import Looking, Operation, Standing
from ecumen.operations.owner import Owner, OwningGroup
from ecumen.operations.reload import Reload
from ecumen.operations.remove import Remove
from ecumen.operations.rename import Rename
from ecumen.operations.revoke import AclRevoke
from ecumen.operations.rotation import Rotation
from ecumen.operations.running import Start, Stop
from ecumen.operations.switch import Switch
from ecumen.operations.trial import Trial
from ecumen.survey import Survey

FORMAT = 1
_FEW = ("but", "only")


def _by_name(*kinds: type[Operation]) -> dict[str, type[Operation]]:
    return {kind.what: kind for kind in kinds}


# Every kind of operation there is; one that lacks a verb is no argument for mypy.
KINDS = _by_name(
    Mode,
    Owner,
    OwningGroup,
    AclGrant,
    AclRevoke,
    Context,
    Switch,
    Hosts,
    Rotation,
    NewHomes,
    Folder,
    Link,
    Rename,
    File,
    Remove,
    Reload,
    Start,
    Stop,
)


@dataclass(frozen=True, slots=True)
class PlanGround:
    """The survey on which a plan was made. taken_at: seconds since 1970, UTC; digest: of its file,
    "" where it has none.
    """

    host: str
    taken_at: int
    digest: str = ""


@dataclass(frozen=True, slots=True)
class Plan:
    """why: keys of findings, or words."""

    title: str
    ground: PlanGround
    operations: tuple[Operation, ...]
    why: tuple[str, ...] = ()

    def write(self) -> str:
        """The plan's file."""
        data = {
            "format": FORMAT,
            "title": self.title,
            "survey": asdict(self.ground),
            "operations": [written(operation) for operation in self.operations],
            "why": self.why,
        }
        return json.dumps(data, indent=1) + "\n"


def written(operation: Operation) -> dict[str, Any]:
    """An operation in the plan format."""
    # What is said of a whole folder's files alone is left out where it says nothing.
    members = {
        name: value for name, value in asdict(operation).items() if name not in _FEW or value
    }
    return {"what": operation.what, **members}


def read_operation(data: object) -> Operation:
    """An operation of the plan format. Raises PlanError."""
    _check("operation", data)
    assert isinstance(data, dict)
    try:
        return KINDS[data["what"]].read(data)
    except (ValueError, KeyError) as error:
        raise PlanError(f"no operation: {error}") from error


def read_plan(text: str | bytes) -> Plan:
    """A plan's file. Raises PlanError."""
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise PlanError(f"the plan is no JSON: {error}") from error
    _check("plan", data)
    ground = data["survey"]
    return Plan(
        data["title"],
        PlanGround(ground["host"], int(ground["taken_at"]), ground.get("digest", "")),
        tuple(read_operation(each) for each in data["operations"]),
        tuple(data.get("why", ())),
    )


def standings(base: Survey | Looking, operations: Iterable[Operation]) -> list[Standing]:
    """How each operation stands to a server, once those before it are done."""
    trial, found = Trial(base), list[Standing]()
    for operation in operations:
        standing = operation.standing(trial)
        if operation.follows and found and Standing.DUE not in found:
            standing = Standing.DONE
        found.append(standing)
        # What is done already is part of the server as it is; done again it might find what it
        # expects gone.
        if standing is Standing.DUE:
            trial.add(operation.simulate(trial))
    return found


def stands(base: Survey | Looking, operations: Sequence[Operation]) -> Standing:
    """How a plan stands: done where nothing is left of it, stale where anything is."""
    found = set(standings(base, operations))
    if Standing.STALE in found:
        return Standing.STALE
    return Standing.DUE if Standing.DUE in found else Standing.DONE


@cache
def _checker(part: str) -> Callable[[Any], Any]:
    source = pkgutil.get_data("ecumen.operations", "schemas/plan.json")
    assert source is not None
    schema = json.loads(source)
    if part == "operation":
        # One operation is checked by the very part of the schema that a whole plan is checked by.
        schema = {"definitions": schema["definitions"], "$ref": "#/definitions/operation"}
    return fastjsonschema.compile(schema)


def _check(part: str, data: object) -> None:
    try:
        _checker(part)(data)
    except fastjsonschema.JsonSchemaException as error:
        raise PlanError(f"no plan of format {FORMAT}: {error}") from error
