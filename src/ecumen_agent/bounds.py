"""What the agent does, whoever asks: the grounds of sites, the folders of their configuration.

Whoever has taken over the part that asks must not become root by what may be asked: nothing gives
an account more than the files of sites, nothing makes a program run as somebody else, and nothing
leaves a file where programs of root's look for one. The administrator widens it in a file of
root's.
"""

from __future__ import annotations

import grp
import os
import posixpath
import pwd
import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields
from fnmatch import fnmatchcase
from typing import Any

from ecumen.errors import EcumenError
from ecumen.operations import Operation
from ecumen.operations.acl import AclGrant
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
from ecumen.operations.revoke import AclRevoke
from ecumen.operations.rotation import Rotation
from ecumen.operations.running import Running
from ecumen.operations.switch import Switch
from ecumen.survey import parse_acl
from ecumen_agent.lines import LineError, Places, check_lines

SKELETON = "/etc/skel"  # useradd(8)
OWN_ENTRIES = "ecumen-"  # of those by which logs are rotated
LARGEST_FILE = 1 << 16  # bytes of the file that widens
_SPECIAL, _EXECUTE, _OTHERS_WRITE = 0o6000, 0o111, 0o022


class BoundsError(EcumenError):
    """An operation goes beyond what the agent does."""


@dataclass(frozen=True, slots=True)
class Bounds:
    """grounds: patterns of folders, `*` for one name; all below them is sites' own. configuration:
    by the engine's kind, folders that hold the sites' configuration; lines: what else may stand
    there than is listed (`lines.tsv`). logs, seals: folders of logs, certificates and keys.
    owners: least number of an account or a group that may be given something; those in `accounts`
    and `groups` may, too. switches, types: patterns of names of the policy. names: patterns of
    names of hosts, of which the hosts file may say where they lead.
    """

    grounds: tuple[str, ...] = ("/srv/*", "/var/www/*", "/home/*/public_html")
    configuration: Mapping[str, tuple[str, ...]] = field(
        default_factory=lambda: {
            "httpd": ("/etc/apache2/sites-available", "/etc/apache2/sites-enabled"),
            "nginx": ("/etc/nginx/sites-available", "/etc/nginx/sites-enabled"),
        }
    )
    lines: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    logs: tuple[str, ...] = ("/var/log/apache2", "/var/log/nginx")
    seals: tuple[str, ...] = ("/etc/ssl", "/etc/letsencrypt")
    owners: int = 1000
    accounts: tuple[int, ...] = ()
    groups: tuple[int, ...] = ()
    switches: tuple[str, ...] = ("httpd_*", "use_nfs_home_dirs", "use_samba_home_dirs")
    names: tuple[str, ...] = ()
    types: tuple[str, ...] = ("httpd_*_t", "public_content_t", "public_content_rw_t")

    def check(self, operation: Operation) -> None:
        """Raises BoundsError, which says what and why."""
        match operation:
            case Mode():
                self._mode(operation)
            case Owner():
                self._owner(operation)
            case OwningGroup():
                self._group(operation)
            case AclGrant() | AclRevoke():
                self._acl(operation)
            case Context():
                self._context(operation)
            case Switch():
                self._switch(operation)
            case Hosts():
                self._hosts(operation)
            case Folder():
                self._folder(operation)
            case Link():
                self._link(operation)
            case NewHomes():
                self._new_homes(operation)
            case Rotation():
                self._rotation(operation)
            case File():
                self._file(operation)
            case Remove():
                self._remove(operation)
            case Rename():
                self._rename(operation)
            case Reload() | Running():
                if operation.engine not in self.configuration:
                    raise _beyond(operation.describe(), "it is none of the engines here")
            case _:
                # A kind that is new is refused until somebody has thought about it.
                raise _beyond(operation.describe(), "nothing says within which bounds")

    # --- where ---

    def _in_grounds(self, path: str) -> bool:
        _plain(path)
        return any(_below(path, ground) for ground in self.grounds)

    def _in_configuration(self, path: str) -> bool:
        _plain(path)
        return self._engine_of(path) is not None

    def _engine_of(self, path: str) -> str | None:
        """Whose configuration a file of this path would be."""
        folder = posixpath.dirname(path)
        return next((kind for kind, all_ in self.configuration.items() if folder in all_), None)

    def _on_the_way(self, path: str) -> bool:
        """Whether grounds lie below a folder: `/home/ines` of `/home/*/public_html`."""
        parts = path.split("/")
        return any(_alike(parts, ground.split("/")[: len(parts)]) for ground in self.grounds)

    def _somewhere(self, path: str, what: str) -> None:
        if not self._in_grounds(path):
            raise _beyond(what, f"{path} is in no site's ground")

    # --- whom ---

    def _given(self, number: int, known: Iterable[int], was: int | None, what: str) -> None:
        if number < self.owners and number not in known and number != was:
            raise _beyond(what, f"to {number} nothing is given: it is no person's")

    # --- the kinds ---

    def _mode(self, each: Mode) -> None:
        was, to = int(each.was, 8), int(each.to, 8)
        what = each.describe()
        below = [int(state, 8) for state, _ in each.below or ()]
        # What was so already stays; of a whole tree, where all of it was so.
        if any(to & _SPECIAL & ~before for before in (was, *below)):
            raise _beyond(what, "it would run as its owner or group")
        if self._in_configuration(each.path):
            if to & _OTHERS_WRITE or each.below is not None:
                raise _beyond(what, "what configures a server is written by root alone")
        elif not self._in_grounds(each.path):
            more = to & ~was
            way = self._on_the_way(each.path) and each.below is None
            # To let somebody pass gives nobody anything to read.
            if not way or was & ~to or more & ~_EXECUTE:
                raise _beyond(what, f"{each.path} is in no site's ground")

    def _acl(self, each: AclGrant | AclRevoke) -> None:
        what = each.describe()
        if self._in_grounds(each.path):
            return
        if not (self._on_the_way(each.path) and each.below is None):
            raise _beyond(what, f"{each.path} is in no site's ground")
        was = {(e.tag, e.id): e.perms for e in parse_acl(each.was)}
        to = {(e.tag, e.id): e.perms for e in parse_acl(each.to)}
        # The mask may come with the first entry; it lets through what the others have.
        plain = {key: bits for key, bits in to.items() if key[0] != "mask"}
        if any(bits & ~was.get(key, 0) & ~1 for key, bits in plain.items()):
            raise _beyond(what, f"{each.path} is in no site's ground")
        if to.get(("mask", None), 0) & ~was.get(("mask", None), was.get(("group", None), 0)) & ~1:
            raise _beyond(what, f"{each.path} is in no site's ground")

    def _owner(self, each: Owner) -> None:
        self._somewhere(each.path, each.describe())
        self._given(int(each.to), self.accounts, int(each.was), each.describe())

    def _group(self, each: OwningGroup) -> None:
        self._somewhere(each.path, each.describe())
        self._given(int(each.to), self.groups, int(each.was), each.describe())

    def _context(self, each: Context) -> None:
        self._somewhere(each.path, each.describe())
        parts = each.to.split(":")
        if len(parts) < 3 or not any(fnmatchcase(parts[2], known) for known in self.types):
            raise _beyond(each.describe(), "no type that web serving uses")

    def _switch(self, each: Switch) -> None:
        if not any(fnmatchcase(each.name, known) for known in self.switches):
            raise _beyond(each.describe(), "no switch that web serving uses")

    def _hosts(self, each: Hosts) -> None:
        # Programs of root's ask names, too: that of a mirror, or of a database, is not for the part
        # that asks to lead elsewhere.
        if not any(fnmatchcase(each.name.lower(), known.lower()) for known in self.names):
            raise _beyond(each.describe(), "it is none of the names that the bounds have")

    def _new_homes(self, each: NewHomes) -> None:
        # Whoever passes a home reads nothing of it.
        if int(each.to, 8) & ~int(each.was, 8) & ~_EXECUTE:
            raise _beyond(each.describe(), "homes are opened to passing alone")

    def _rotation(self, each: Rotation) -> None:
        what = each.describe()
        if not posixpath.basename(each.path).startswith(OWN_ENTRIES):
            raise _beyond(what, f"its entries are called {OWN_ENTRIES}…")
        roots = [log for log in each.logs if any(_below(log, folder) for folder in self.logs)]
        for log in set(each.logs) - set(roots):
            self._somewhere(log, what)
        if not each.user:
            # Where an owner may write, root would be led elsewhere.
            if len(roots) < len(each.logs):
                raise _beyond(what, "an owner's logs are rotated by their owner")
            return
        try:
            user, group = pwd.getpwnam(each.user).pw_uid, grp.getgrnam(each.group).gr_gid
        except KeyError:
            raise _beyond(what, f"there is no account {each.user}:{each.group}") from None
        self._given(user, self.accounts, None, what)
        self._given(group, self.groups, None, what)

    def _folder(self, each: Folder) -> None:
        what = each.describe()
        self._place(each.path, what)
        if int(each.mode, 8) & 0o4000:
            raise _beyond(what, "it would run as its owner")
        # An empty folder of root's that root alone writes to gives nobody anything; houses have
        # such above the roots of their sites.
        if (each.owner, each.group) == (0, 0) and not int(each.mode, 8) & 0o7022:
            return
        self._given(each.owner, self.accounts, None, what)
        self._given(each.group, self.groups, None, what)

    def _place(self, path: str, what: str) -> None:
        """Grounds themselves can be made, too."""
        _plain(path)
        if not self._is_ground(path):
            raise _beyond(what, f"{path} is in no site's ground")

    def _is_ground(self, path: str) -> bool:
        if path.startswith(f"{SKELETON}/"):
            # What homes are made of has the grounds that homes have.
            return any(
                _alike(["", "home", "*", *path.split("/")[3:]], ground.split("/"))
                for ground in self.grounds
            )
        top = any(_alike(path.split("/"), ground.split("/")) for ground in self.grounds)
        return top or self._in_grounds(path)

    def _link(self, each: Link) -> None:
        what = each.describe()
        target = posixpath.normpath(posixpath.join(posixpath.dirname(each.path), each.target))
        if self._in_configuration(each.path):
            if not self._in_configuration(target):
                raise _beyond(what, "it would lead out of the configuration of sites")
            return
        self._somewhere(each.path, what)
        # A link of root's is followed where only links of the owner's own are.
        if not self._in_grounds(target):
            raise _beyond(what, "it would lead out of the grounds of sites")

    def _file(self, each: File) -> None:
        what = each.describe()
        _plain(each.path)
        engine = self._engine_of(each.path)
        if engine is not None:
            more = tuple(self.lines.get(engine, ()))
            places = Places(self._is_ground, self.logs, self.seals, more)
            try:
                check_lines(engine, each.data, places)
            except LineError as error:
                raise _beyond(what, str(error)) from error
            if not each.was and (each.owner, each.group, int(each.mode, 8) & ~0o644) != (0, 0, 0):
                raise _beyond(what, "what configures a server is root's, and written by root alone")
            return
        self._somewhere(each.path, what)
        if not each.was:
            if int(each.mode, 8) & _SPECIAL:
                raise _beyond(what, "it would run as its owner or group")
            self._given(each.owner, self.accounts, None, what)
            self._given(each.group, self.groups, None, what)

    def _remove(self, each: Remove) -> None:
        if not self._in_configuration(each.path):
            self._somewhere(each.path, each.describe())

    def _rename(self, each: Rename) -> None:
        what = each.describe()
        if self._in_configuration(each.path) and self._in_configuration(each.to):
            return
        # What somebody wrote in a site's ground becomes no configuration, and no configuration
        # goes where somebody may write.
        self._somewhere(each.path, what)
        self._somewhere(each.to, what)


def _beyond(what: str, why: str) -> BoundsError:
    return BoundsError(f"the agent does not {what}: {why}")


def _plain(path: str) -> None:
    if not path.startswith("/") or "\0" in path or posixpath.normpath(path) != path:
        raise BoundsError(f"no plain path: {path}")


def _below(path: str, pattern: str) -> bool:
    parts, wanted = path.split("/"), pattern.split("/")
    return len(parts) > len(wanted) and _alike(parts[: len(wanted)], wanted)


def _alike(parts: list[str], wanted: list[str]) -> bool:
    if len(parts) != len(wanted):
        return False
    return all(
        name == part or (name == "*" and part) for part, name in zip(parts, wanted, strict=True)
    )


def read_bounds(path: str) -> Bounds:
    """The administrator's own, from a file that is root's alone; else the usual ones. Raises
    BoundsError.
    """
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except FileNotFoundError:
        return Bounds()
    with open(handle, "rb") as stream:
        info = os.fstat(handle)
        if info.st_uid != os.geteuid() or info.st_mode & _OTHERS_WRITE:
            raise BoundsError(f"{path} must be written by root alone: chown root, chmod go-w")
        try:
            data = tomllib.loads(stream.read(LARGEST_FILE).decode())
        except ValueError as error:
            raise BoundsError(f"{path}: {error}") from error
    known = [each.name for each in fields(Bounds)]
    given: dict[str, Any] = {}
    for name, value in data.items():
        if name not in known or not _fits(name, value):
            raise BoundsError(f"{path}: {name} is none of {', '.join(known)}, or not of its kind")
        given[name] = _frozen(value)
    return Bounds(**given)


def _frozen(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: tuple(each) for key, each in value.items()}
    return tuple(value) if isinstance(value, list) else value


def _fits(name: str, value: object) -> bool:
    if name == "owners":
        return isinstance(value, int)
    if name in ("configuration", "lines"):
        rows = value.items() if isinstance(value, dict) else [("", None)]
        return all(_listed(each, paths=name == "configuration") for _, each in rows)
    if name in ("accounts", "groups"):
        return isinstance(value, list) and all(isinstance(each, int) for each in value)
    return _listed(value, paths=name in ("grounds", "logs", "seals"))


def _listed(value: object, *, paths: bool) -> bool:
    if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
        return False
    return not paths or all(re.match("/[^/]", each) for each in value)
