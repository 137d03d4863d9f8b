"""One server's policy in force: may the engine's domain take this step, and what would let it.

Source: the reference policy's permission sets; security_compute_av(3). A step needs what the kernel
asks of it: search on a folder, open and read on a file, read on a link.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from ecumen.contexts.policy import Policy, PolicyError
from ecumen.contexts.rules import ContextRules, Expected, LabelError
from ecumen.contexts.shipped import shipped_policy
from ecumen.rights import FOLLOW as MAY_FOLLOW
from ecumen.rights import LOOK as MAY_LOOK
from ecumen.rights import READ as MAY_READ
from ecumen.rights import SEARCH as MAY_SEARCH
from ecumen.rights import WRITE as MAY_WRITE
from ecumen.survey import EngineRecord, Entry, Kind, Survey

CLASSES: Mapping[Kind, str] = {
    Kind.FILE: "file", Kind.DIR: "dir", Kind.LINK: "lnk_file", Kind.SOCKET: "sock_file",
    Kind.PIPE: "fifo_file", Kind.CHAR: "chr_file", Kind.BLOCK: "blk_file",
}  # fmt: skip
PASS = ("getattr", "search")
READ = ("getattr", "open", "read")
CHANGE = ("getattr", "open", "write")
LIST = ("getattr", "search", "open", "read")
FOLLOW = ("getattr", "read")


@dataclass(frozen=True, slots=True)
class Confined:
    """One step under the policy. allowed: None where that is not known. perm: the one that fails.

    expected: what the rules give the path, None for none. switches: sets of switches any of which
    would let it through, the smallest first.
    """

    entry: Entry
    type: str | None
    expected: str | None
    allowed: bool | None
    perm: str
    why: str
    rule: str = ""
    switches: Sequence[Mapping[str, bool]] = ()

    @property
    def differs(self) -> bool:
        """Whether the path has another type than the rules give it."""
        return self.expected is not None and type_of(self.expected) != self.type


def type_of(context: str | None) -> str | None:
    """The type in `user:role:type:range`."""
    # A range of levels may hold colons of its own (`s0:c0.c1023`), but stands behind the type.
    parts = (context or "").split(":")
    return parts[2] if len(parts) >= 3 else None


class WorkerGuard:
    """The policy as it stands beside modes and ACLs, for what each call of the kernel asks: search
    to pass a folder, read to follow a link, getattr to look at anything, open and read to read it
    (selinux_inode_permission, selinux_inode_getattr, selinux_file_open).
    """

    def __init__(self, confinement: Confinement) -> None:
        self._confinement = confinement
        self._known: dict[tuple[str | None, Kind, int], str] = {}

    def refuses(self, entry: Entry, need: int) -> str:
        """Which right the policy refuses; "" where it is not known to."""
        key = (entry.context, entry.kind, need)
        known = self._known.get(key)
        if known is None:
            known = self._known[key] = self._refused(entry, need)
        return known

    def _refused(self, entry: Entry, need: int) -> str:
        perms: list[str] = []
        for bit, asked in _ASKED:
            if need & bit:
                perms += asked
        if need & MAY_SEARCH:
            perms.append("search" if entry.kind is Kind.DIR else "execute")
        return self._confinement.refused(entry.context, entry.kind, tuple(perms))


# What each need asks of the policy.
_ASKED = (
    (MAY_READ, ("open", "read")),
    (MAY_WRITE, ("write",)),
    (MAY_LOOK, ("getattr",)),
    (MAY_FOLLOW, ("read",)),
)


class Confinement:
    """The policy of one survey. trouble: why the policy cannot be read; unruled: why the rules for
    paths cannot. The second bears on no answer: what a path has is known without them.
    """

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        self.mode = survey.kernel.get("security.mode", "unknown")
        self.trouble = self.unruled = ""
        self._seen: dict[tuple[str | None, str, tuple[str, ...]], tuple[bool | None, str, str]] = {}

    def renewed(self, survey: Survey) -> Confinement:
        """For a change of the survey: what rests on labels alone is not worked out again."""
        found = Confinement(survey)
        if survey.labels is self.survey.labels:
            for name in ("policy", "rules", "trouble", "unruled"):
                if name in self.__dict__:
                    found.__dict__[name] = self.__dict__[name]
        return found

    @property
    def enforced(self) -> bool:
        return self.mode not in ("disabled", "permissive")

    @property
    def shipped(self) -> bool:
        """Whether the answers rest on the policy that comes with Ecumen."""
        return self.survey.labels.policy is None

    @cached_property
    def policy(self) -> Policy | None:
        try:
            return Policy(self.survey.labels.policy or shipped_policy())
        except PolicyError as error:
            self.trouble = str(error)
            return None

    @cached_property
    def rules(self) -> ContextRules | None:
        """The rules for paths; None where the survey has none, or they are refused as a whole."""
        if not self.survey.labels.files:
            return None
        try:
            return ContextRules(self.survey.labels.files)
        except LabelError as error:
            self.unruled = str(error)
            return None

    def expected(self, entry: Entry) -> Expected:
        if self.rules is None:
            return Expected(None, None, sure=False)
        return self.rules.expected(entry.path, entry.kind)

    def step(self, entry: Entry, perms: tuple[str, ...]) -> Confined:
        """May the domain have all of these on an entry?"""
        type_ = type_of(entry.context)
        expected = self.expected(entry).context
        kind = CLASSES[entry.kind]
        if self.policy is None or type_ is None:
            why = self.trouble or f"the survey holds no context of {entry.path}"
            return Confined(entry, type_, expected, None, "", why)
        allowed, perm, why = self._decided(type_, kind, perms)
        if allowed and self._bears_level(entry.context):
            allowed, why = None, f"whether {self.policy.domain} dominates its level is not known"
        if allowed is not False:
            return Confined(entry, type_, expected, allowed, perm, why)
        rule = self.policy.allowed(type_, kind, perm).rule
        switches = self.switches_for(type_, kind, perms)
        return Confined(entry, type_, expected, False, perm, why, rule, switches)

    def step_at(self, path: str) -> Confined | None:
        """Passing, reading or following what lies at a path; None where the survey lacks it."""
        entry = self.survey.files.get(path)
        return None if entry is None else self.step(entry, self.perms_for(entry))

    @staticmethod
    def perms_for(entry: Entry) -> tuple[str, ...]:
        """What serving something needs on an entry of this kind."""
        return PASS if entry.kind is Kind.DIR else FOLLOW if entry.kind is Kind.LINK else READ

    def would(self, context: str | None, kind: Kind, perms: tuple[str, ...]) -> bool | None:
        """May the domain have all of these on an entry of that context?"""
        type_ = type_of(context)
        if self.policy is None or type_ is None:
            return None
        allowed = self._decided(type_, CLASSES[kind], perms)[0]
        return None if allowed and self._bears_level(context) else allowed

    def _bears_level(self, context: str | None) -> bool:
        """Whether the level in a context could keep the domain out, whatever the rules allow: that
        is said by constraints (SELinux Notebook, "Multi-Level Security and Multi-Category
        Security"). With one sensitivity, categories bind those domains alone that mind them.
        """
        level = (context or "").split(":", 3)[3:]
        if level in ([], ["s0"]) or self.policy is None:
            return False
        lowest = level[0].partition("-")[0].partition(":")[0] == "s0"
        return self.policy.minds_levels or not lowest

    def refused(self, context: str | None, kind: Kind, perms: tuple[str, ...]) -> str:
        """The first of these that the domain may not have; "" where it is not known to miss one."""
        type_ = type_of(context)
        if self.policy is None or type_ is None:
            return ""
        allowed, perm, _ = self._decided(type_, CLASSES[kind], perms)
        return perm if allowed is False else ""

    def confines(self, record: EngineRecord) -> bool:
        """Whether an engine's process runs in the domain that the policy was read for; so it is
        taken where the process is not known, as where the system starts it.
        """
        # A process in another domain, as one that was started by hand, is not kept by these rules:
        # what its own domain may was not read.
        if not self.enforced or record.domain is None or self.policy is None:
            return self.enforced
        return record.domain == self.policy.domain

    @cached_property
    def guard(self) -> WorkerGuard | None:
        """What stands beside the rights of the engines' workers; None where nothing is enforced."""
        return WorkerGuard(self) if self.enforced else None

    def switches_for(
        self, type_: str, kind: str, perms: tuple[str, ...]
    ) -> list[Mapping[str, bool]]:
        """Sets of switches that, turned together, give every permission; the smallest first."""
        assert self.policy is not None
        sets: list[dict[str, bool]] = [{}]
        for perm in perms:
            if self.policy.allowed(type_, kind, perm).allowed:
                continue
            ways = self.policy.opened_by(type_, kind, perm)
            joined = [{**one, **way} for one in sets for way in ways]
            # Each permission multiplies the ways; eight of the smallest are more than anybody
            # weighs.
            sets = sorted(joined, key=self.policy.preference)[:8]
        return [each for each in sets if each]

    def connects(self, port: int) -> tuple[bool | None, str, Sequence[Mapping[str, bool]]]:
        """May the domain connect to a TCP port: whether, the port's type, and what would let it."""
        if self.policy is None:
            return None, "", ()
        type_ = self.policy.port_type("tcp", port)
        if type_ is None:
            return None, "", ()
        found = self.policy.allowed(type_, "tcp_socket", "name_connect")
        ways = () if found.allowed else self.switches_for(type_, "tcp_socket", ("name_connect",))
        return found.allowed, type_, ways

    def binds(self, port: int) -> tuple[bool | None, str]:
        """May the domain listen on a TCP port, and the port's type."""
        type_ = self.policy.port_type("tcp", port) if self.policy else None
        if self.policy is None or type_ is None:
            return None, ""
        if self._is_handed_out(port):
            return True, type_
        return self.policy.allowed(type_, "tcp_socket", "name_bind").allowed, type_

    def _is_handed_out(self, port: int) -> bool:
        """Whether a port is one that the kernel gives to whoever asks for any: of these it asks the
        policy nothing (selinux_socket_bind; ip_sysctl, ip_local_port_range).
        """
        ends = self.survey.kernel.get("net.ipv4.ip_local_port_range", "").split()
        if len(ends) != 2 or not all(end.isdecimal() for end in ends):
            return False
        return int(ends[0]) <= port <= int(ends[1])

    def _decided(
        self, type_: str, kind: str, perms: tuple[str, ...]
    ) -> tuple[bool | None, str, str]:
        known = self._seen.get((type_, kind, perms))
        if known is not None:
            return known
        assert self.policy is not None
        found: tuple[bool | None, str, str] = (True, "", "")
        for perm in perms:
            leave = self.policy.allowed(type_, kind, perm)
            if not leave.allowed:
                found = (leave.allowed, perm, leave.why)
                break
        self._seen[type_, kind, perms] = found
        return found
