"""What turning a switch would open or close to the web server, by types and numbers of paths."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from ecumen.contexts.confinement import CHANGE, CLASSES, LIST, READ, type_of
from ecumen.contexts.policy import Policy
from ecumen.survey import FileTable, Kind
from ecumen.survey.files import KINDS

_ASKED = (
    (Kind.FILE, READ, "read files"),
    (Kind.FILE, CHANGE, "change files"),
    (Kind.DIR, ("search",), "pass folders"),
    (Kind.DIR, LIST, "list folders"),
)


@dataclass(frozen=True, slots=True)
class Effect:
    """What turning a switch would open or close: what may be done with a type, and on how many
    paths.
    """

    opens: bool
    what: str
    type: str
    paths: int


def type_counts(files: FileTable) -> Counter[tuple[Kind, str]]:
    """How many paths of each kind and type the survey holds."""
    # Counted by the table's own numbers: a million paths have some dozens of contexts.
    pairs = Counter(zip(files.kind, files.context, strict=True))
    found: Counter[tuple[Kind, str]] = Counter()
    for (kind, code), count in pairs.items():
        type_ = type_of(files.context_names[code])
        if type_ is not None:
            found[KINDS[kind], type_] += count
    return found


def effects(
    policy: Policy, turned: Mapping[str, bool], counts: Mapping[tuple[Kind, str], int]
) -> Iterator[Effect]:
    """turned: switches as they would stand. counts: as `type_counts` gives them."""
    for kind, perms, what in _ASKED:
        for (other, type_), count in sorted(counts.items()):
            if other is not kind:
                continue
            now = _all(policy, type_, kind, perms, {})
            then = _all(policy, type_, kind, perms, turned)
            if now != then:
                yield Effect(then, what, type_, count)


def _all(
    policy: Policy, type_: str, kind: Kind, perms: tuple[str, ...], state: Mapping[str, bool]
) -> bool:
    return all(policy.allowed(type_, CLASSES[kind], perm, state).allowed for perm in perms)
