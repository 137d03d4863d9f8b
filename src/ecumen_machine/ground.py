"""What the understanding of a server may ask of the machine: texts, folders, metadata, and what the
kernel and the engines' own programs say.

This is the part that runs as root. It copies bytes and metadata through handles; it parses nothing
that an owner wrote, runs installed programs alone, and decides by itself what it hands out:

- A text is a plain file, of a bounded size, no password or key file (`withheld`), and was put where
  it lies by somebody who may read it himself (`handles.is_its_own`).
- What is named by a text that others than root may write is handed out only where they may read
  it.
- An engine's check is run only where all that it loads is root's (`cage`).
"""

from __future__ import annotations

import grp
import os
import pwd
import re
import socket
import stat
import time
from collections.abc import Callable, Hashable, Iterable, Sequence
from dataclasses import dataclass, replace

import psutil

from ecumen.survey import (
    Account,
    ConfigCheck,
    EngineRecord,
    FileTable,
    Gap,
    Group,
    Labels,
    Listener,
    Mount,
    NameRecord,
    SealFile,
)
from ecumen_machine import cage, contexts, filtering, naming, programs, seals
from ecumen_machine.capture import labels_by_itself
from ecumen_machine.files import MOST_BEHIND, Collector
from ecumen_machine.handles import Reached, is_its_own, reached, reopened, writers_of
from ecumen_machine.mounts import unescaped
from ecumen_machine.withheld import LARGEST_TEXT, blacked, content_withheld, place_withheld

MOST_NAMES = 20_000
LARGEST_ANSWER = 4 << 20  # bytes of texts that are fetched together
_AT_ONCE = 64 << 10  # bytes of a text
MOST_SEALS = 100_000  # files of certificates and keys
MOST_TEXTS = 2 << 30  # bytes, of all texts together
_MOST_ROUNDS = 60  # of names that an engine's check cannot do without
_ROUNDS_WITHIN = 15.0  # seconds

Progress = Callable[[str, int], None]


@dataclass(frozen=True, slots=True)
class GroundFacts:
    """What the machine says of itself."""

    host: str
    taken_at: int
    accounts: tuple[Account, ...]
    groups: tuple[Group, ...]
    listeners: tuple[Listener, ...]
    addresses: tuple[str, ...]
    kernel: dict[str, str]
    mounts: tuple[Mount, ...]
    labels: Labels


class Ground:
    """The machine itself; also a Source of configuration texts."""

    def __init__(self, progress: Progress = lambda doing, count: None) -> None:
        self._progress = progress
        self._collector = Collector(lambda count: progress("reading file metadata", count))
        self._texts: dict[str, bytes | None] = {}
        # Who but root may have written a text, and so what it names.
        self._writers: dict[str, set[int]] = {}
        # Files that were reached by paths that nobody but root can lead elsewhere.
        self._roots: set[str] = set()
        self._read = 0
        self._withheld = False

    # --- texts ---

    def read(self, path: str, by: str | None = None) -> bytes | None:
        """The text of a file, links followed. by: the file that names it."""
        physical = self._collector.path(path)
        if physical is None:
            return None
        # By which link the file was come to that names it makes no difference.
        namer = None if by is None else self._collector.path(by)
        suspects = self._writers.get(namer, set()) if namer is not None else set()
        if physical not in self._texts or suspects:
            text = self._text(path, physical, suspects)
            if suspects and text is None:
                # Root may name it, too, and be told.
                return None
            self._texts[physical] = text
        return self._texts[physical]

    def read_many(
        self, paths: Sequence[str], by: str
    ) -> list[tuple[list[str] | None, bytes | None]]:
        """For each path, in order, the names in it, where it is a folder, or else its text; as many
        as fit an answer.
        """
        found: list[tuple[list[str] | None, bytes | None]] = []
        size = 0
        for path in paths:
            names = self.names(path)
            text = self.read(path, by) if names is None else None
            found.append((names, text))
            size += len(text or b"")
            if size > LARGEST_ANSWER:
                break
        return found

    def _text(self, path: str, physical: str, suspects: set[int]) -> bytes | None:
        try:
            with reached(path) as found:
                why = self._refused(found, suspects)
                if why is None:
                    return None
                if not why:
                    if found.roots:
                        self._roots.add(path)
                    return self._content(found, physical)
        except OSError as error:
            why = error.strerror or str(error)
        self.gap("text", path, why)
        return None

    def _refused(self, found: Reached, suspects: set[int]) -> str | None:
        """Why a file is no text; None for what can be none."""
        if not stat.S_ISREG(found.info.st_mode):
            return None
        if not is_its_own(found) or not all(map(found.readable_by, suspects)):
            return "whoever named it may not read it"
        why = place_withheld(found)
        self._withheld = self._withheld or bool(why)
        return why

    def _content(self, found: Reached, path: str) -> bytes | None:
        with os.fdopen(reopened(found.handle), "rb", buffering=0) as stream:
            size = os.fstat(stream.fileno()).st_size
            if size > LARGEST_TEXT:
                self.gap("text", path, "too large for a configuration")
                return None
            # As it comes: room for the largest would be made ready for each. One more than its size
            # says whether it has grown.
            data = stream.read(size + 1)
            while len(data) > size and (
                more := stream.read(min(_AT_ONCE, LARGEST_TEXT - len(data)))
            ):
                data += more
        self._read += len(data)
        if self._read > MOST_TEXTS:
            self.gap("text", path, "there are too many configuration files")
            return None
        why = content_withheld(data)
        if why:
            self._withheld = True
            self.gap("text", path, why)
            return None
        if not found.roots:
            self._writers[path] = found.writers | found.linked_by | writers_of(found.info)
        return blacked(data)

    def filter(self) -> filtering.FilterText | None:
        """What the machine says of its packet filter; only root is told."""
        if os.geteuid() != 0:
            return None
        found, why = filtering.asked()
        if why:
            self.gap("filter", "nft", why)
        return found

    def seals(self, asked: Sequence[tuple[str, str]]) -> list[SealFile]:
        """What is named as certificate or key, each with the file that names it; what they say is
        read by a process without privileges.
        """
        held: list[tuple[str, bytes]] = []
        found: list[SealFile] = []
        for path, by in asked[:MOST_SEALS]:
            data, why = self._held(path, by)
            if data is None:
                found.append(SealFile(path, (), why, "", why))
            else:
                held.append((path, data))
        if held:
            self._progress("reading certificates", len(held))
            if not any(map(os.path.exists, seals.ANCHORS)):
                self.gap("authorities", seals.ANCHORS[0], "whom this system trusts is not known")
        return sorted([*found, *seals.read_apart(held)], key=lambda each: each.path)

    def _held(self, path: str, by: str) -> tuple[bytes | None, str]:
        """What is in such a file, or why it is not read."""
        if self._collector.path(path) is None:
            return None, "it is not there"
        namer = self._collector.path(by)
        suspects = self._writers.get(namer, set()) if namer is not None else set()
        try:
            with reached(path) as found:
                if not stat.S_ISREG(found.info.st_mode):
                    return None, "it is no file"
                if suspects and not (is_its_own(found) and all(map(found.readable_by, suspects))):
                    return None, "whoever named it may not read it"
                if found.info.st_size > seals.LARGEST:
                    return None, "it is too large for a certificate"
                with os.fdopen(reopened(found.handle), "rb", buffering=0) as stream:
                    return stream.read(seals.LARGEST), ""
        except OSError as error:
            return None, f"it cannot be read: {error.strerror or error}"

    def names(self, folder: str) -> list[str] | None:
        """Names in a folder, sorted by bytes; None where it is no folder that can be read."""
        names = self._collector.folder(folder)
        return None if names is None else sorted(names, key=os.fsencode)

    def exists(self, path: str) -> bool | None:
        return self._collector.path(path) is not None

    def expect(self, paths: Sequence[str], by: str) -> None:
        """Nothing is gained by it here."""

    def stamps(self, paths: Sequence[str]) -> Sequence[Hashable | None]:
        """Each text is wanted for the survey, so none is taken as read."""
        return [None] * len(paths)

    def texts(self) -> dict[str, bytes]:
        """All that was handed out, by path without links."""
        return {path: text for path, text in self._texts.items() if text is not None}

    # --- metadata ---

    def look(self, paths: Sequence[str]) -> None:
        """Notes each of these paths, and where its links lead."""
        for path in paths:
            self._collector.path(path)

    def look_into(self, folders: Sequence[str]) -> None:
        for folder in folders:
            self._collector.folder(folder)

    def trees(self, paths: Sequence[str]) -> None:
        """Notes everything below these paths, links not followed."""
        self._collector.trees(paths)

    def follow_links(self) -> None:
        """Notes where the links in the trees lead, and what is below there, within bounds."""
        self._collector.follow_links()

    def read_named(self, leaves: Sequence[str]) -> None:
        """Reads what has one of these names among all that was noted; what was only come to by
        somebody's link, and what such a link leads to, where he may read it himself.
        """
        for path in list(self._collector.named(frozenset(leaves))):
            # Whoever laid a link there has chosen where it leads: it is looked into within bounds.
            physical = self._collector.path(path, most=MOST_BEHIND)
            if physical is None or physical in self._texts:
                continue
            led_by = self._collector.led_by(path)
            if not led_by:
                self.read(path)
            else:
                text = self._text(path, physical, led_by)
                if text is not None:
                    self._texts[physical] = text

    def table(self) -> FileTable:
        return self._collector.table()

    def gap(self, what: str, path: str, why: str) -> None:
        self._collector.gaps.append(Gap(what, path, why))

    def gaps(self) -> tuple[Gap, ...]:
        return tuple(dict.fromkeys(self._collector.gaps))

    # --- engines ---

    def engines(self, specs: Sequence[tuple[str, str]]) -> list[EngineRecord]:
        """The records of engines by kind and configuration, or without any those installed."""
        if specs:
            return [self._declared(kind, config) for kind, config in specs]
        return [record for kind in ("httpd", "nginx") if (record := self._installed(kind))]

    def _build(self, kind: str) -> programs.Build | None:
        try:
            return programs.httpd_build() if kind == "httpd" else programs.nginx_build()
        except (programs.UntrustedError, OSError) as error:
            self.gap("program", kind, str(error))
            return None

    def _declared(self, kind: str, config: str) -> EngineRecord:
        build = self._build(kind)
        return EngineRecord(
            kind=kind,
            config=config,
            version=build.version if build else "",
            root=build.root if build else os.path.dirname(config),
            built_in=build.built_in if build else (),
            environment=programs.environment_file(config) if kind == "httpd" else None,
            declared=True,
        )

    def _installed(self, kind: str) -> EngineRecord | None:
        build = self._build(kind)
        if build is None:
            return None
        now = programs.running(build.program)
        httpd = kind == "httpd"
        config = (now and httpd and now.config) or build.config
        environment = None
        if httpd:
            environment = (now and now.environment) or programs.environment_file(config)
        return EngineRecord(
            kind=kind,
            config=config,
            version=build.version,
            root=build.root,
            built_in=build.built_in,
            defines=now.defines if now and httpd else (),
            environment=environment,
            running=now is not None,
            loaded_at=now.loaded_at if now else None,
            domain=now.domain if now else None,
            own_view=now.own_view if now else (),
        )

    def begin_check(
        self, record: EngineRecord, files: Sequence[str], modules: Sequence[str]
    ) -> Callable[[], ConfigCheck | None]:
        """The same, for whoever has something else to do meanwhile; here it is done at once."""
        said = self.check(record, files, modules)
        return lambda: said

    def check(
        self, record: EngineRecord, files: Sequence[str], modules: Sequence[str]
    ) -> ConfigCheck | None:
        """What the engine's own check says of a configuration; None where it was not run, which is
        a gap. files: the texts that it is made of; modules: what else it loads.

        Only root is told the truth: others may not read the keys or open the logs that it tries.
        """
        if os.geteuid() != 0:
            return None
        build = self._build(record.kind)
        if build is None:
            return None
        loaded = dict.fromkeys([record.config, *files, *modules])
        why = _not_roots(path for path in loaded if path not in self._roots)
        if not why and self._withheld:
            why = "what it says could quote what is withheld"
        if not why and any(map(_INTERPRETER.search, modules)):
            why = "it loads an interpreter, which runs code while it is checked"
        if why:
            self.gap("check", record.config, f"not checked by {record.kind} itself: {why}")
            return None
        file = "-f" if record.kind == "httpd" else "-c"
        options = [option for name in record.defines for option in ("-D", name)]
        command = [build.program, "-t", file, record.config, *options]
        try:
            status, output = self._said(command, record)
        except (cage.CageError, OSError) as error:
            self.gap("check", record.config, f"not checked by {record.kind} itself: {error}")
            return None
        said = blacked(output).decode("utf-8", "replace")
        if _UNKNOWN_NAME.search(said):
            self.gap(
                "check", record.config, f"not checked by {record.kind} itself: a name leads nowhere"
            )
            return None
        return ConfigCheck(status == 0, said)

    def _said(self, command: Sequence[str], record: EngineRecord) -> tuple[int, bytes]:
        return self.in_cage(record, cage.command(command, record.environment or {}))

    def in_cage(self, record: EngineRecord, act: Callable[[], int]) -> tuple[int, bytes]:
        """Does something with an engine in a cage, which has no network: names are asked for
        outside of it. Returns the exit status and what was said. Raises CageError.
        """
        hosts: list[tuple[str, str]] = []
        own = _addresses()
        environment = record.environment or {}
        # What the service makes when it starts: that it is not there yet says nothing.
        given = (environment.get(name, "") for name in ("APACHE_RUN_DIR", "APACHE_LOCK_DIR"))
        folders = [folder for folder in given if folder.startswith("/")]
        until = time.monotonic() + _ROUNDS_WITHIN
        for _ in range(_MOST_ROUNDS):
            status, output = cage.caged(act, hosts, own, folders)
            missing = _UNKNOWN_NAME.search(output.decode("utf-8", "replace"))
            if missing is None or any(name == missing[1] for _, name in hosts):
                break
            known = [a for r in self.resolve([missing[1]]) for a in r.addresses or ()]
            if not known or time.monotonic() > until:
                break
            hosts += [(address, missing[1]) for address in known]
        return status, output

    # --- the machine ---

    def facts(self) -> GroundFacts:
        kernel = _kernel()
        self._collector.gaps += _account_gaps()
        return GroundFacts(
            host=socket.gethostname(),
            taken_at=int(time.time()),
            accounts=tuple(
                Account(row.pw_name, row.pw_uid, row.pw_gid, row.pw_dir, row.pw_shell)
                for row in pwd.getpwall()
            ),
            groups=tuple(Group(r.gr_name, r.gr_gid, tuple(r.gr_mem)) for r in grp.getgrall()),
            listeners=self._listeners(),
            addresses=_addresses(),
            kernel=kernel,
            mounts=mounts_here(),
            labels=self._labels(kernel["security.mode"]),
        )

    def _listeners(self) -> tuple[Listener, ...]:
        try:
            sockets = psutil.net_connections("tcp")
        except psutil.AccessDenied as error:
            self.gap("listeners", "/proc/net/tcp", str(error))
            return ()
        found = {}
        for item in sockets:
            if item.status != psutil.CONN_LISTEN or not item.laddr:
                continue
            found[(item.laddr.ip, item.laddr.port)] = Listener(
                item.laddr.ip, item.laddr.port, _program(item.pid), item.pid
            )
        return tuple(found[key] for key in sorted(found))

    def _labels(self, mode: str) -> Labels:
        """The rules where there are any, and the policy where the kernel holds one."""
        if mode == "disabled":
            return Labels(contexts.rules_here())
        self._progress("asking for the policy", len(self._collector))
        try:
            return contexts.labels_here()
        except contexts.ToolError as error:
            self.gap("policy", "/etc/selinux", str(error))
            return Labels(contexts.rules_here())

    def resolve(self, names: Sequence[str]) -> list[NameRecord]:
        """What names lead to: by the hosts file, or by asking, in a process without privileges."""
        found = {each.name: each for each in naming.hosts_file(_services)}
        asked = list(names)[:MOST_NAMES]
        answers = naming.looked_up_apart(asked, self._progress)
        for name in asked:
            said = naming.record_of(name, answers.get(name, {}))
            known = found.get(name)
            # What the file says goes before; what is published is known all the same.
            found[name] = (
                said
                if known is None
                else replace(known, published=said.published, aliases=said.aliases)
            )
        return [found[name] for name in sorted(found)]


_INTERPRETER = re.compile(r"perl|lua|njs|_js_|passenger|python|ruby|php", re.IGNORECASE)
_UNKNOWN_NAME = re.compile(r'host not found in (?:upstream )?"([^":/]+)[^"]*"')


def _not_roots(paths: Iterable[str]) -> str:
    """The first of what would be loaded that others than root may write; "" for none."""
    for path in dict.fromkeys(paths):
        try:
            with reached(path) as found:
                if not found.roots:
                    return f"others than root may write {path}"
        except OSError:
            # That it is missing is for the check to say; but who may put it there?
            folder = os.path.dirname(path)
            if folder not in ("", path) and (why := _not_roots([folder])):
                return why
    return ""


def _program(pid: int | None) -> str | None:
    if pid is None:
        return None
    try:
        return psutil.Process(pid).name()
    except psutil.Error:
        return None


def _addresses() -> tuple[str, ...]:
    found = []
    for items in psutil.net_if_addrs().values():
        for item in items:
            if item.family in (socket.AF_INET, socket.AF_INET6):
                found.append(item.address.partition("%")[0])
    return tuple(dict.fromkeys(found))


def _account_gaps(path: str = "/etc/nsswitch.conf") -> list[Gap]:
    """Directories of accounts that cannot be listed as a whole."""
    listed = {"files", "compat", "systemd", "db"}
    others = [word for word in _services("passwd", path) if word not in listed]
    if not others:
        return []
    return [Gap("accounts", path, f"accounts from {', '.join(others)} may be missing")]


def _services(database: str, path: str = "/etc/nsswitch.conf") -> list[str]:
    """What is asked for names of a kind, in order (nsswitch.conf(5))."""
    try:
        with open(path, encoding="utf-8", errors="replace") as stream:
            lines = stream.read().splitlines()
    except OSError:
        return []
    for line in lines:
        found, colon, sources = line.partition("#")[0].partition(":")
        if colon and found.strip() == database:
            return [word for word in sources.split() if word[0] != "["]
    return []


def _kernel() -> dict[str, str]:
    settings = {"security.mode": _security_mode()}
    for name in ("fs.protected_symlinks", "net.ipv4.ip_local_port_range"):
        try:
            with open(f"/proc/sys/{name.replace('.', '/')}") as stream:
                settings[name] = " ".join(stream.read().split())
        except OSError:
            continue
    return settings


def _security_mode() -> str:
    """Of the security contexts: enforcing, permissive or disabled."""
    try:
        with open("/sys/fs/selinux/enforce") as stream:
            return "enforcing" if stream.read().strip() == "1" else "permissive"
    except OSError:
        return "disabled"


def mounts_here() -> tuple[Mount, ...]:
    """proc_pid_mountinfo(5), in the order in which they were mounted."""
    try:
        with open("/proc/self/mountinfo", "rb") as stream:
            lines = stream.read().splitlines()
    except OSError:
        return ()
    return tuple(mount_of_line(line) for line in lines if b" - " in line)


def mount_of_line(line: bytes) -> Mount:
    """The options of the mount and those of the file system behind it both count."""
    own, _, behind = line.partition(b" - ")
    _, _, _, _, point, options, *_ = own.split(b" ")
    kind, _, whole = behind.split(b" ", 2)
    path = unescaped(point)
    told = {*options.split(b","), *whole.split(b",")}
    # `seclabel` stands there where a label can be kept; without a policy it stands nowhere.
    labels = b"seclabel" in told or not labels_by_itself()
    return Mount(os.fsdecode(path), os.fsdecode(kind), b"ro" in told, b"noexec" in told, labels)
