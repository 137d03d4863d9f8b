"""Which later changes rest on an earlier one: taken back under them, they would break."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from ecumen.operations import Operation
from ecumen.operations.attribute import Attribute
from ecumen.operations.context import Context
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.homes import NewHomes
from ecumen.operations.hosts import Hosts
from ecumen.operations.link import Link
from ecumen.operations.mode import Mode
from ecumen.operations.owner import Owner, OwningGroup
from ecumen.operations.reload import Reload
from ecumen.operations.remove import Remove
from ecumen.operations.rename import Rename
from ecumen.operations.rotation import Rotation
from ecumen.operations.running import Running
from ecumen.operations.switch import Switch
from ecumen_agent.ledger import Record


def resting(record: Record, later: Iterable[Record]) -> Iterator[Record]:
    """Those that touch what it touched; of what it made or moved, what lies in it too."""
    own = list(_touched(record))
    for each in later:
        if any(meet(one, other) for one in own for other in _touched(each)):
            yield each


# What is touched, and whether all that lies in it is.
Touch = tuple[str, bool]


def _touched(record: Record) -> Iterator[Touch]:
    for operation, _ in record.done:
        yield from touches(operation)


def touches(operation: Operation) -> Iterator[Touch]:
    """What an operation touches."""
    match operation:
        case Switch():
            yield f"switch {operation.name}", False
        case NewHomes():
            yield operation.path, False
        case Hosts():
            yield f"name {operation.name.lower()}", False
        case Attribute():
            yield operation.path, operation.below is not None
        case Rename():
            yield operation.path, True
            yield operation.to, True
        case Folder() | Link() | File() | Rotation() | Remove():
            yield operation.path, True
        case Running():
            yield f"engine {operation.engine}", False
        case Reload():
            return
        case _:
            # What nobody has said anything of: all of the server.
            yield "", True


_CONTENT = (Folder, Link, File, Rotation, Remove)


def replaces(later: Operation, one: Operation) -> bool:
    """Whether all that one makes is made anew by a later one: what came of it shows no more."""
    match one:
        case Mode() | Owner() | OwningGroup() | Context():
            alone = isinstance(later, Attribute) and later.below is None and one.below is None
            return alone and type(later) is type(one) and later.path == one.path
        case Switch() | Hosts() | NewHomes() | Rename():
            return type(later) is type(one) and set(touches(later)) == set(touches(one))
        case Running():
            return isinstance(later, Running) and later.engine == one.engine
        case Folder() | Link() | File() | Rotation() | Remove():
            return isinstance(later, _CONTENT) and later.path == one.path
        case _:
            return False


def meet(one: Touch, other: Touch) -> bool:
    """Whether one is touched by what touched the other."""
    (path, whole), (there, all_of_it) = one, other
    inside = whole and there.startswith(f"{path}/")
    around = all_of_it and path.startswith(f"{there}/")
    return path == there or inside or around
