"""One account, one entry: which line of the permissions decides, and how.

Source: path_resolution(7), acl(5), capabilities(7); fs/namei.c and fs/posix_acl.c where those are
silent (an empty mask makes the kernel skip the ACL).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache
from typing import Protocol

from ecumen.survey import Acl, Entry, Kind, Survey

READ, WRITE, SEARCH = 4, 2, 1
# What no mode and no ACL can refuse, but a policy may: looking at something (stat), and following a
# link.
LOOK, FOLLOW = 8, 16
BY_POLICY = "policy"
_MODES = READ | WRITE | SEARCH


class Guard(Protocol):
    """What stands beside modes and ACLs: a policy in force."""

    def refuses(self, entry: Entry, need: int) -> str:
        """Which right the policy refuses of those that are needed; "" where it is not known to."""


@dataclass(frozen=True, slots=True)
class Subject:
    """Whom the kernel judges. groups: the primary and all supplementary group ids. guard: of a
    process that a policy confines.
    """

    name: str
    uid: int
    groups: frozenset[int]
    guard: Guard | None = field(default=None, compare=False, repr=False)


@dataclass(frozen=True, slots=True)
class Decision:
    """`by`: root, owner, user, group, other, or policy. `line`: the text of the entry that decided,
    or the right that the policy refuses.
    """

    allowed: bool
    by: str
    line: str


def subject_of(survey: Survey, name: str, gid: int | None = None) -> Subject | None:
    """The account with all its groups, or None where the survey has no such account.

    gid: the primary group where it is not the account's own (a server may be told another).
    """
    account = survey.account_by_name.get(name)
    if account is None:
        return None
    primary = account.gid if gid is None else gid
    others = {group.gid for group in survey.groups if name in group.members}
    return Subject(name, account.uid, frozenset(others | {primary}))


def subjects_of(survey: Survey) -> list[Subject]:
    """Every account with all its groups, in their order; one for each name."""
    others: dict[str, set[int]] = {}
    for group in survey.groups:
        for member in group.members:
            others.setdefault(member, set()).add(group.gid)
    return [
        Subject(name, account.uid, frozenset({account.gid, *others.get(name, ())}))
        for name, account in survey.account_by_name.items()
    ]


def _bits(perms: int) -> str:
    return "".join(c if perms & b else "-" for c, b in (("r", 4), ("w", 2), ("x", 1)))


def decide(entry: Entry, subject: Subject, need: int) -> Decision:
    """May `subject` have all of `need` (READ | WRITE | SEARCH | LOOK | FOLLOW) on the entry itself?
    The kernel asks modes and ACLs first, and a policy of what they let through.
    """
    plain = need & _MODES
    decision = _FREE
    if plain:
        decision = _decide(
            entry.kind is Kind.DIR, entry.mode, entry.uid, entry.gid, entry.acl, subject, plain
        )
    if subject.guard is None or not decision.allowed:
        return decision
    refused = subject.guard.refuses(entry, need)
    return Decision(False, BY_POLICY, refused) if refused else decision


_FREE = Decision(True, "", "")


@lru_cache(maxsize=65536)
def _decide(
    folder: bool, mode: int, uid: int, gid: int, acl: Acl | None, subject: Subject, need: int
) -> Decision:
    if subject.uid == 0:
        return _root(folder, mode, need)
    if subject.uid == uid:
        perms = mode >> 6 & 7
        return Decision(perms & need == need, "owner", f"owner {_bits(perms)}")
    if acl and mode & 0o070:
        return _by_acl(mode, gid, acl, subject, need)
    if gid in subject.groups:
        # With an ACL the mode's group bits are the mask; here they are empty, and nothing is left.
        perms = mode >> 3 & 7
        return Decision(perms & need == need, "group", f"group {_bits(perms)}")
    perms = mode & 7
    return Decision(perms & need == need, "other", f"other {_bits(perms)}")


def _root(folder: bool, mode: int, need: int) -> Decision:
    allowed = folder or not need & SEARCH or bool(mode & 0o111)
    return Decision(allowed, "root", "root")


def _by_acl(mode: int, gid: int, acl: Acl, subject: Subject, need: int) -> Decision:
    mask = mode >> 3 & 7
    for entry in acl:
        if entry.tag == "user" and entry.id == subject.uid:
            perms = entry.perms & mask
            return Decision(
                perms & need == need, "user", f"{entry.text()} under mask {_bits(mask)}"
            )
    matched = None
    for entry in acl:
        group = gid if entry.id is None else entry.id
        if entry.tag != "group" or group not in subject.groups:
            continue
        matched = entry
        if entry.perms & mask & need == need:
            return Decision(True, "group", f"{entry.text()} under mask {_bits(mask)}")
    if matched is not None:
        return Decision(False, "group", f"{matched.text()} under mask {_bits(mask)}")
    perms = mode & 7
    return Decision(perms & need == need, "other", f"other {_bits(perms)}")
