"""One entry of a path's ACL. Source: setfacl(1), acl(5)."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import ClassVar

from ecumen.operations.attribute import Attribute
from ecumen.operations.operation import Hands
from ecumen.operations.quoting import quoted
from ecumen.survey import Acl, AclEntry, Entry, Survey, acl_text, parse_acl

_ORDER = {"user": 0, "group": 1, "mask": 2, "other": 3}


@dataclass(frozen=True, slots=True)
class AclState(Attribute):
    """States are whole ACLs with numbers, as
    `user::rwx,user:1001:r-x,group::r-x,mask::r-x,other::---`; of a path that has none, those three
    of its mode. name: the one entry that is changed, of the form that each kind has.
    """

    form: ClassVar[re.Pattern[str]]
    name: str = ""

    def __post_init__(self) -> None:
        self.check(self.name)
        parse_acl(self.was)
        parse_acl(self.to)

    of_links: ClassVar[bool] = False

    @classmethod
    def check(cls, name: str) -> None:
        """Raises ValueError for what is no entry."""
        if not cls.form.match(name):
            raise ValueError(f"no entry of an ACL: {name}")

    @staticmethod
    def state(entry: Entry) -> str:
        return acl_text(_acl(entry))

    @staticmethod
    def changed(entry: Entry, state: str) -> Entry:
        acl = parse_acl(state)
        bits = {each.tag: each.perms for each in acl if each.id is None}
        # acl(5): with a mask the group's bits of the mode are the mask's.
        mode = bits["user"] << 6 | bits.get("mask", bits["group"]) << 3 | bits["other"]
        # Owner, group and others alone are the mode itself; the kernel keeps no attribute for them
        # (acl(5)).
        plain = len(acl) == 3
        return replace(entry, mode=(entry.mode & ~0o777) | mode, acl=None if plain else acl)

    @staticmethod
    def put(hands: Hands, entry: Entry, state: str) -> None:
        hands.set_acl(entry, parse_acl(state))


@dataclass(frozen=True, slots=True)
class AclGrant(AclState):
    """name: the entry that is set, as `user:NAME:r-x`; the mask is worked out anew."""

    what: ClassVar[str] = "acl"
    form = re.compile(r"(user|group):[^:,\s]+:[r-][w-][x-]\Z")

    @classmethod
    def of(cls, survey: Survey, entry: Entry, text: str) -> AclGrant:
        """text: as `name`. Raises LookupError for an account or group that is not there, ValueError
        for what is no entry.
        """
        cls.check(text)
        given = _numbered(survey, text)
        return cls(entry.path, cls.state(entry), acl_text(_granted(_acl(entry), given)), None, text)

    def describe(self) -> str:
        return f"add the ACL entry {self.name} to {self.path}"

    def shell(self) -> str:
        return f"setfacl -m {quoted(self.name)} -- {quoted(self.path)}"


def _acl(entry: Entry) -> Acl:
    return entry.acl or (
        AclEntry("user", None, entry.mode >> 6 & 7),
        AclEntry("group", None, entry.mode >> 3 & 7),
        AclEntry("other", None, entry.mode & 7),
    )


def _numbered(survey: Survey, text: str) -> AclEntry:
    tag, name, bits = text.split(":")
    (given,) = parse_acl(f"{tag}:{number_of(survey, tag, name)}:{bits}")
    return given


def number_of(survey: Survey, tag: str, name: str) -> int:
    """The number of an account (tag `user`) or a group. Raises LookupError."""
    account = survey.account_by_name.get(name) if tag == "user" else None
    if account is not None:
        return account.uid
    group = survey.group_by_name.get(name) if tag == "group" else None
    if group is None:
        raise LookupError(f"the survey has no {tag} {name}")
    return group.gid


def _granted(acl: Acl, given: AclEntry) -> Acl:
    """setfacl -m: the entry is set, and the mask becomes the union of all that it masks."""
    same = (given.tag, given.id)
    whole = [each for each in acl if (each.tag, each.id) != same and each.tag != "mask"]
    # An ACL that names anybody must have a mask; it is made even where there was none before.
    whole.append(given)
    mask = 0
    for each in whole:
        if each.tag == "group" or (each.tag == "user" and each.id is not None):
            mask |= each.perms
    whole.append(AclEntry("mask", None, mask))
    whole.sort(key=lambda each: (_ORDER[each.tag], each.id is not None, each.id or 0))
    return tuple(whole)
