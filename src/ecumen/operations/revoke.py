"""One entry of a path's ACL taken away. Source: setfacl(1), acl(5)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.acl import AclState, number_of
from ecumen.operations.quoting import quoted
from ecumen.survey import Entry, Survey, acl_text


@dataclass(frozen=True, slots=True)
class AclRevoke(AclState):
    """name: the entry, as `user:NAME`. The mask stays as it is: taking from one opens nothing to
    another.
    """

    what: ClassVar[str] = "acl-entry-gone"
    form = re.compile(r"(user|group):[^:,\s]+\Z")

    @classmethod
    def of(cls, survey: Survey, entry: Entry, name: str) -> AclRevoke:
        """Raises LookupError for an account or group that is not there, or has no entry."""
        cls.check(name)
        tag, _, who = name.partition(":")
        gone = (tag, number_of(survey, tag, who))
        acl = entry.acl or ()
        left = tuple(each for each in acl if (each.tag, each.id) != gone)
        if len(left) == len(acl):
            raise LookupError(f"{entry.path} has no ACL entry {name}")
        return cls(entry.path, cls.state(entry), acl_text(left), None, name)

    def describe(self) -> str:
        return f"take the ACL entry {self.name} from {self.path}"

    def shell(self) -> str:
        return f"setfacl -n -x {quoted(self.name)} -- {quoted(self.path)}"
