"""Ways to let one account do what it may not: through an ACL entry, through its group, or with
everybody. Each is tried on the survey, and what else it would open is worked out.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from ecumen.operations.acl import AclGrant
from ecumen.operations.mode import Mode
from ecumen.operations.opens import Opener, Opening
from ecumen.operations.operation import Operation
from ecumen.operations.owner import OwningGroup
from ecumen.operations.trial import cut_to, done
from ecumen.rights.decide import READ, SEARCH, WRITE, Subject, decide
from ecumen.survey import Entry, Survey


@dataclass(frozen=True, slots=True)
class Need:
    """What an account must be let do on one entry: READ, WRITE, SEARCH."""

    entry: Entry
    perms: int


@dataclass(frozen=True, slots=True)
class Way:
    """One plan that lets the account do all that it needs."""

    title: str
    operations: list[Operation]
    openings: list[Opening] = field(default_factory=list)

    @property
    def shell(self) -> list[str]:
        return [operation.shell() for operation in self.operations]

    @property
    def opened(self) -> int:
        """How much it opens: accounts times paths, of all that gain anything."""
        return sum(len(each.accounts) * each.paths for each in self.openings if each.gains)


def ways(
    opener: Opener, subject: Subject, needs: Sequence[Need], others: Sequence[Operation] = ()
) -> list[Way]:
    """The ways that work, the least opening first. others: operations that every way holds."""
    survey = opener.survey
    needs = _by_path(needs)
    group = _group_of(survey, subject)
    offered: list[tuple[str, Callable[[Need], list[Operation]]]] = [
        (f"Let {subject.name} alone through, by ACL", lambda need: _by_acl(survey, subject, need)),
        (
            f"Let the group {group} through",
            lambda need: _by_group(survey, subject, group, need),
        ),
        ("Let everybody through", lambda need: _by_everybody(subject, need)),
    ]
    found: list[Way] = []
    for title, make in offered:
        made = [make(need) for need in needs]
        operations = [operation for each in made for operation in each]
        # An offer that does not work is worse than none: a foreign ACL entry or an owner's missing
        # bit can undo it, so each is tried.
        if not all(made) or not _works(survey, subject, needs, operations):
            continue
        whole = [*operations, *others]
        # For an owner all three come to the same change of his own bits.
        if any(way.operations == whole for way in found):
            continue
        found.append(Way(title, whole, opener.opens(whole)))
    found.sort(key=lambda way: way.opened)
    return found


def _by_path(needs: Iterable[Need]) -> list[Need]:
    """One need for each path: operations expect the path as it is, and not as another left it."""
    found: dict[str, Need] = {}
    for need in needs:
        known = found.get(need.entry.path)
        found[need.entry.path] = Need(need.entry, need.perms | (known.perms if known else 0))
    return list(found.values())


def _works(
    survey: Survey, subject: Subject, needs: Sequence[Need], operations: Iterable[Operation]
) -> bool:
    try:
        after = done(cut_to(survey, (need.entry.path for need in needs)), operations)
    except LookupError:
        return False
    for need in needs:
        entry = after.files.get(need.entry.path)
        if entry is None or not decide(entry, subject, need.perms).allowed:
            return False
    return True


def _letters(perms: int) -> str:
    return "".join(c for bit, c in ((READ, "r"), (WRITE, "w"), (SEARCH, "x")) if perms & bit)


def _bits(perms: int) -> str:
    return "".join(
        c if perms & bit else "-" for bit, c in ((READ, "r"), (WRITE, "w"), (SEARCH, "x"))
    )


def _group_of(survey: Survey, subject: Subject) -> str:
    account = survey.account_by_name.get(subject.name)
    gid = account.gid if account is not None and account.gid in subject.groups else None
    return survey.group_name(min(subject.groups) if gid is None else gid)


def _by_acl(survey: Survey, subject: Subject, need: Need) -> list[Operation]:
    entry = need.entry
    if entry.uid == subject.uid:
        # An owner has the owner's rights alone.
        return [Mode.of(entry, f"u+{_letters(need.perms)}")]
    known = 0
    for each in entry.acl or ():
        if each.tag == "user" and each.id == subject.uid:
            known = each.perms
    text = f"user:{subject.name}:{_bits(known | need.perms)}"
    return _granted(survey, entry, text)


def _by_group(survey: Survey, subject: Subject, group: str, need: Need) -> list[Operation]:
    entry, letters = need.entry, _letters(need.perms)
    if entry.uid == subject.uid:
        return [Mode.of(entry, f"u+{letters}")]
    if entry.acl:
        return _granted(survey, entry, f"group:{group}:{_bits(need.perms)}")
    found: list[Operation] = []
    known = survey.group_by_name.get(group)
    if entry.gid not in subject.groups and known is not None:
        given = OwningGroup(entry.path, str(entry.gid), str(known.gid), None, group)
        entry = given.changed(entry, given.to)
        found.append(given)
    if entry.mode >> 3 & need.perms != need.perms:
        found.append(Mode.of(entry, f"g+{letters}"))
    return found


def _granted(survey: Survey, entry: Entry, text: str) -> list[Operation]:
    try:
        return [AclGrant.of(survey, entry, text)]
    except (LookupError, ValueError):
        return []


def _by_everybody(subject: Subject, need: Need) -> list[Operation]:
    """Who is the owner, or in the group, is not among the others."""
    entry, letters = need.entry, _letters(need.perms)
    who = "uo" if entry.uid == subject.uid else "go" if entry.gid in subject.groups else "o"
    return [Mode.of(entry, f"{who}+{letters}")]
