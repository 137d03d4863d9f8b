"""What was seen on one server at one time: immutable values.

Paths are absolute, links not resolved. Names that are no UTF-8 hold surrogate escapes (PEP 383), so
that every name of the file system has exactly one text here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

from ecumen.survey.files import FileTable
from ecumen.survey.filter import PacketFilter
from ecumen.survey.labels import Labels
from ecumen.survey.seals import Certificate, SealFile

# Where the entries by which logs are rotated stand, and the file that includes them (logrotate(8)).
ROTATION_ENTRIES = "/etc/logrotate.d"
ROTATION_FILE = "/etc/logrotate.conf"


@dataclass(frozen=True, slots=True)
class Account:
    """A line of passwd(5), without the password field."""

    name: str
    uid: int
    gid: int
    home: str
    shell: str = ""


@dataclass(frozen=True, slots=True)
class Group:
    """A line of group(5)."""

    name: str
    gid: int
    members: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Listener:
    """A listening TCP socket. `program` is None where the kernel would not say."""

    address: str
    port: int
    program: str | None = None
    pid: int | None = None


@dataclass(frozen=True, slots=True)
class Mount:
    """A mounted file system. kind: its type, as in mount(8). labels: whether contexts can be set
    there.
    """

    path: str
    kind: str
    read_only: bool = False
    no_exec: bool = False
    labels: bool = True


@dataclass(frozen=True, slots=True)
class NameRecord:
    """What a host name led to. `addresses` is None where nobody could be asked. first_for: those
    of its addresses that are called by it first, by the hosts file. published: by the name service
    alone, None where that is not known; aliases: names that it stands for there.
    """

    name: str
    addresses: tuple[str, ...] | None
    source: str = "dns"
    first_for: tuple[str, ...] = ()
    published: tuple[str, ...] | None = None
    aliases: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Gap:
    """Something that the survey should hold and does not, and why."""

    what: str
    path: str
    why: str


@dataclass(frozen=True, slots=True)
class ConfigCheck:
    """What the engine's own check of its configuration said. output: as it was printed."""

    passes: bool
    output: str = ""


@dataclass(frozen=True, slots=True)
class EngineRecord:
    """A web server as it was found.

    kind: `httpd` or `nginx`. config: its main configuration file. declared: given by hand, so that
    its bindings count as listening. environment: what the service's variables are, None where
    nobody knows. loaded_at: when it last read its configuration (seconds since 1970, UTC). check:
    None where it was not run. domain: the type under which its process runs, None where that is not
    known. own_view: folders at which the process sees something else than everybody.
    """

    kind: str
    config: str
    version: str = ""
    root: str = ""
    built_in: tuple[str, ...] = ()
    defines: tuple[str, ...] = ()
    environment: Mapping[str, str] | None = None
    declared: bool = False
    running: bool | None = None
    loaded_at: int | None = None
    check: ConfigCheck | None = None
    domain: str | None = None
    own_view: tuple[str, ...] = ()


@dataclass(frozen=True)
class Survey:
    """One server at one time. `texts`: configuration files by path, as bytes. logs: paths of the
    files that its sites write their lines to. seals: files that its sites name as certificates and
    keys; none where they were not looked at. filter: of packets, None where nothing is known of it.
    """

    host: str
    taken_at: int
    taken_by: str
    engines: tuple[EngineRecord, ...]
    files: FileTable
    accounts: tuple[Account, ...] = ()
    groups: tuple[Group, ...] = ()
    listeners: tuple[Listener, ...] = ()
    names: tuple[NameRecord, ...] = ()
    addresses: tuple[str, ...] = ()
    gaps: tuple[Gap, ...] = ()
    texts: Mapping[str, bytes] = field(default_factory=dict)
    kernel: Mapping[str, str] = field(default_factory=dict)
    mounts: tuple[Mount, ...] = ()
    labels: Labels = field(default_factory=Labels)
    logs: tuple[str, ...] = ()
    seals: tuple[SealFile, ...] = ()
    filter: PacketFilter | None = None

    @cached_property
    def seal_by_path(self) -> Mapping[str, SealFile]:
        return {each.path: each for each in self.seals}

    @cached_property
    def certificate_by_digest(self) -> Mapping[str, Certificate]:
        return {each.digest: each for file in self.seals for each in file.certificates}

    @cached_property
    def account_by_name(self) -> Mapping[str, Account]:
        found: dict[str, Account] = {}
        for account in self.accounts:
            found.setdefault(account.name, account)
        return found

    @cached_property
    def account_by_uid(self) -> Mapping[int, Account]:
        found: dict[int, Account] = {}
        for account in self.accounts:
            found.setdefault(account.uid, account)
        return found

    @cached_property
    def group_by_name(self) -> Mapping[str, Group]:
        found: dict[str, Group] = {}
        for group in self.groups:
            found.setdefault(group.name, group)
        return found

    @cached_property
    def group_by_gid(self) -> Mapping[int, Group]:
        found: dict[int, Group] = {}
        for group in self.groups:
            found.setdefault(group.gid, group)
        return found

    @cached_property
    def name_by_text(self) -> Mapping[str, NameRecord]:
        return {record.name.lower(): record for record in self.names}

    @cached_property
    def mount_by_path(self) -> Mapping[str, Mount]:
        """The mount that is seen at each place: the last one there covers those before it."""
        return {mount.path: mount for mount in self.mounts}

    def mount_of(self, path: str) -> Mount | None:
        """The file system on which a path lies; its links are resolved."""
        here = path
        while here:
            mount = self.mount_by_path.get(here)
            if mount is not None:
                return mount
            here = here.rpartition("/")[0]
        return self.mount_by_path.get("/")

    @property
    def outside_address(self) -> str:
        """The machine's first IPv4 address that is not its loopback, else the loopback."""
        own = (a for a in self.addresses if not a.startswith("127.") and ":" not in a)
        return next(own, "127.0.0.1")

    def user_name(self, uid: int) -> str:
        """The account's name, or its number where it has none."""
        account = self.account_by_uid.get(uid)
        return account.name if account else str(uid)

    def group_name(self, gid: int) -> str:
        """The group's name, or its number where it has none."""
        group = self.group_by_gid.get(gid)
        return group.name if group else str(gid)
