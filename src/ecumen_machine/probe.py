"""Takes a survey of the machine that this runs on."""

from __future__ import annotations

import grp
import os
import pwd
import re
import socket
import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass, replace

import psutil

from ecumen.audit.template import SKELETON, SOURCES
from ecumen.engines.httpd.server import Host, Server, load
from ecumen.engines.httpd.way import personal_folder
from ecumen.engines.nginx import server as nginx
from ecumen.errors import EcumenError
from ecumen.survey import (
    Account,
    EngineRecord,
    Gap,
    Group,
    Labels,
    Listener,
    Mount,
    NameRecord,
    Survey,
)
from ecumen_machine import contexts, programs
from ecumen_machine.capture import PSEUDO
from ecumen_machine.files import Collector
from ecumen_machine.live import LiveSource

KINDS = ("httpd", "nginx")
# Looking names up must not hold the survey up: what has no answer by then is not known (seconds).
NAMES_WITHIN = 6.0
MOST_NAMES = 5000

Progress = Callable[[str, int], None]


class ProbeError(EcumenError):
    """The machine cannot be surveyed as asked."""


@dataclass(frozen=True, slots=True)
class EngineSpec:
    """An engine given by hand. kind: `httpd` or `nginx`; config: its main configuration file."""

    kind: str
    config: str

    @classmethod
    def parse(cls, text: str) -> EngineSpec:
        """`KIND:CONFIG`. Raises ProbeError."""
        kind, colon, config = text.partition(":")
        if not colon or kind not in KINDS:
            raise ProbeError(f"{text!r}: write httpd:FILE or nginx:FILE")
        if not os.path.isfile(config):
            raise ProbeError(f"{config}: there is no such configuration file")
        return cls(kind, os.path.abspath(config))


def take_survey(
    specs: Sequence[EngineSpec] = (),
    scan: Sequence[str] = (),
    progress: Progress = lambda doing, count: None,
) -> Survey:
    """Looks at accounts, listeners, configuration and file metadata of this machine."""
    progress("reading the configuration", 0)
    collector = Collector(lambda count: progress("reading file metadata", count))
    source = LiveSource(collector)
    records = [_checked(r) for r in ([_declared(s) for s in specs] if specs else _installed())]
    if not records:
        raise ProbeError("no web server is installed here: name one with --engine KIND:CONFIG")
    accounts, groups = _accounts(), _groups()
    collector.gaps += _account_gaps()
    servers = [load(source, record) if record.kind == "httpd" else None for record in records]
    others = [nginx.load(source, record) for record in records if record.kind == "nginx"]
    # Whether a rewritten address is a path on disk is told by its first name.
    collector.folder("/")
    grounds = _grounds(servers, accounts, scan)
    grounds += [path for whole in others for path in whole.grounds() if path not in grounds]
    collector.trees(grounds)
    _templates(source, collector)
    _log_files(collector, servers, others)
    for record in records:
        _pairs(collector, os.path.dirname(record.config))
    _overrides(source, collector, servers)
    # A configuration given by hand is described as it stands; nobody is asked about its names.
    live = [s for s, record in zip(servers, records, strict=True) if not record.declared]
    declared = all(record.declared for record in records)
    wanted = _wanted_names(live, [] if declared else others)
    if wanted:
        progress("looking up names", 0)
    kernel = _kernel()
    return Survey(
        host=socket.gethostname(),
        taken_at=int(time.time()),
        taken_by="ecumen survey",
        engines=tuple(records),
        files=collector.table(),
        accounts=accounts,
        groups=groups,
        listeners=_listeners(collector),
        names=_names(wanted),
        addresses=_addresses(),
        labels=_labels(collector, kernel["security.mode"], progress),
        gaps=tuple(collector.gaps),
        texts=source.texts,
        kernel=kernel,
        mounts=mounts_here(),
    )


# --- engines ---


def _declared(spec: EngineSpec) -> EngineRecord:
    build = programs.httpd_build() if spec.kind == "httpd" else programs.nginx_build()
    return EngineRecord(
        kind=spec.kind,
        config=spec.config,
        version=build.version if build else "",
        root=build.root if build else os.path.dirname(spec.config),
        built_in=build.built_in if build else (),
        environment=programs.environment_file(spec.config) if spec.kind == "httpd" else None,
        declared=True,
    )


def _installed() -> list[EngineRecord]:
    records = []
    httpd = programs.httpd_build()
    if httpd is not None:
        names = (os.path.basename(httpd.program),)
        now = programs.running(names)
        config = programs.main_config(names, httpd.config)
        records.append(
            EngineRecord(
                kind="httpd",
                config=config,
                version=httpd.version,
                root=httpd.root,
                built_in=httpd.built_in,
                defines=now.defines if now else (),
                environment=(now.environment if now else None) or programs.environment_file(config),
                running=now is not None,
                loaded_at=now.loaded_at if now else None,
            )
        )
    nginx = programs.nginx_build()
    if nginx is not None:
        now = programs.running(("nginx",))
        records.append(
            EngineRecord(
                kind="nginx",
                config=nginx.config,
                version=nginx.version,
                root=nginx.root,
                running=now is not None,
                loaded_at=now.loaded_at if now else None,
            )
        )
    return records


def _checked(record: EngineRecord) -> EngineRecord:
    """With what the engine itself says of its configuration."""
    said = programs.check(record.kind, record.config, record.environment, record.defines)
    return replace(record, check=said)


# --- which folders ---


def _grounds(
    servers: Iterable[Server | None], accounts: Sequence[Account], scan: Sequence[str]
) -> list[str]:
    found: dict[str, None] = dict.fromkeys(os.path.abspath(folder) for folder in scan)
    for server in servers:
        for host in (server.main, *server.hosts) if server else ():
            if host.root:
                found[host.root] = None
            for alias in host.aliases:
                # Of a pattern's target only the part in front of the first capture is known.
                real = alias.real
                if alias.by_pattern:
                    real = real.partition("$")[0].rpartition("/")[0]
                if real.startswith("/"):
                    found[real.rstrip("/") or "/"] = None
            for folder in _personal(host, accounts):
                found[folder] = None
    return list(found)


def _personal(host: Host, accounts: Sequence[Account]) -> Iterable[str]:
    """Folders in which personal sites may lie."""
    for pattern in host.user_folders.folders or ():
        for account in accounts:
            folder = personal_folder(pattern, account.name, account.home)
            if folder is not None and folder != "/":
                yield folder


def _pairs(collector: Collector, base: str) -> None:
    """Folders of what is available and what is enabled, beside the main configuration."""
    for name in collector.folder(base) or ():
        if name.endswith(("-available", "-enabled")):
            folder = os.path.join(base, name)
            for leaf in collector.folder(folder) or ():
                # What a link leads to, or that it leads nowhere.
                collector.path(os.path.join(folder, leaf))


def _log_files(
    collector: Collector, servers: Iterable[Server | None], others: Iterable[nginx.Whole]
) -> None:
    """The logs that sites name, or that they are not there, and what lies beside them, as their
    older parts: metadata alone.
    """
    paths: dict[str, None] = {}
    for server in servers:
        for host in (server.main, *server.hosts) if server else ():
            paths |= dict.fromkeys(log.path for log in host.logs)
    for whole in others:
        for block in whole.servers:
            paths |= dict.fromkeys(log.path for log in block.conf.logs if log.path)
    named = [path for path in paths if path.startswith("/") and "$" not in path]
    named = [path for path in named if not path.startswith(PSEUDO)]
    for path in named:
        collector.path(path)
    for folder in dict.fromkeys(map(os.path.dirname, named)):
        collector.folder(folder)


def _templates(source: LiveSource, collector: Collector) -> None:
    """What new accounts get."""
    collector.trees([SKELETON])
    for path in SOURCES:
        source.read(path)


def _overrides(source: LiveSource, collector: Collector, servers: Iterable[Server | None]) -> None:
    names: set[str] = set()
    for server in servers:
        for host in (server.main, *server.hosts) if server else ():
            names |= set(host.override_names or (".htaccess",))
    for path in list(collector.named(frozenset(names))):
        source.read(path)


# --- the rest of the machine ---


def _accounts() -> tuple[Account, ...]:
    return tuple(
        Account(row.pw_name, row.pw_uid, row.pw_gid, row.pw_dir, row.pw_shell)
        for row in pwd.getpwall()
    )


def _account_gaps(path: str = "/etc/nsswitch.conf") -> list[Gap]:
    """Directories of accounts that cannot be listed as a whole (nsswitch.conf(5))."""
    try:
        with open(path, encoding="utf-8", errors="replace") as stream:
            lines = stream.read().splitlines()
    except OSError:
        return []
    for line in lines:
        database, colon, sources = line.partition("#")[0].partition(":")
        if not colon or database.strip() != "passwd":
            continue
        listed = {"files", "compat", "systemd", "db"}
        others = [word for word in sources.split() if word[0] != "[" and word not in listed]
        if others:
            why = f"accounts from {', '.join(others)} may be missing"
            return [Gap("accounts", path, why)]
    return []


def _groups() -> tuple[Group, ...]:
    return tuple(Group(row.gr_name, row.gr_gid, tuple(row.gr_mem)) for row in grp.getgrall())


def _listeners(collector: Collector) -> tuple[Listener, ...]:
    try:
        sockets = psutil.net_connections("tcp")
    except psutil.AccessDenied as error:
        collector.gaps.append(Gap("listeners", "/proc/net/tcp", str(error)))
        return ()
    found = {}
    for item in sockets:
        if item.status != psutil.CONN_LISTEN or not item.laddr:
            continue
        found[(item.laddr.ip, item.laddr.port)] = Listener(
            item.laddr.ip, item.laddr.port, _program(item.pid), item.pid
        )
    return tuple(found[key] for key in sorted(found))


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


def _kernel() -> dict[str, str]:
    settings = {"security.mode": _security_mode()}
    try:
        with open("/proc/sys/fs/protected_symlinks") as stream:
            settings["fs.protected_symlinks"] = stream.read().strip()
    except OSError:
        pass
    return settings


def _labels(collector: Collector, mode: str, progress: Progress) -> Labels:
    """The rules where there are any, and the policy where the kernel holds one."""
    if mode == "disabled":
        return Labels(contexts.rules_here())
    progress("asking for the policy", len(collector))
    try:
        return contexts.labels_here()
    except contexts.ToolError as error:
        collector.gaps.append(Gap("policy", "/etc/selinux", str(error)))
        return Labels(contexts.rules_here())


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
    path = re.sub(rb"\\([0-7]{3})", lambda octal: bytes([int(octal[1], 8)]), point)
    told = {*options.split(b","), *whole.split(b",")}
    return Mount(os.fsdecode(path), os.fsdecode(kind), b"ro" in told, b"noexec" in told)


def _security_mode() -> str:
    """Of the security contexts: enforcing, permissive or disabled."""
    try:
        with open("/sys/fs/selinux/enforce") as stream:
            return "enforcing" if stream.read().strip() == "1" else "permissive"
    except OSError:
        return "disabled"


# --- names ---


def _names(wanted: Sequence[str]) -> tuple[NameRecord, ...]:
    found = {record.name.lower(): record for record in _hosts_file()}
    asked = [name for name in wanted if name not in found]
    for record in _looked_up(asked[:MOST_NAMES]):
        found[record.name] = record
    return tuple(found[name] for name in sorted(found))


def _wanted_names(
    servers: Iterable[Server | None], others: Iterable[nginx.Whole]
) -> tuple[str, ...]:
    """The names that the sites claim, in lower case, as far as a resolver can be asked for them."""
    wanted: dict[str, None] = {}
    for server in servers:
        for host in server.hosts if server else ():
            names = [host.name] if host.name else []
            for name in (*names, *sorted(host.names), *(b.address for b in host.bindings)):
                wanted[name.lower()] = None
    for whole in others:
        for block in whole.servers:
            wanted |= dict.fromkeys(block.names)
    return tuple(name for name in wanted if _is_name(name) and name != "_")


def _is_name(text: str) -> bool:
    return (
        bool(text) and "*" not in text and not text.replace(".", "").isdigit() and ":" not in text
    )


def _hosts_file() -> Iterable[NameRecord]:
    """hosts(5). The first line that has a name decides."""
    try:
        with open("/etc/hosts", encoding="utf-8", errors="replace") as stream:
            lines = stream.read().splitlines()
    except OSError:
        return
    seen: dict[str, list[str]] = {}
    for line in lines:
        parts = line.partition("#")[0].split()
        for name in parts[1:]:
            seen.setdefault(name, []).append(parts[0])
    for name, addresses in seen.items():
        yield NameRecord(name, tuple(addresses), "hosts")


def _looked_up(names: Sequence[str]) -> list[NameRecord]:
    pool = ThreadPoolExecutor(max_workers=16)
    tasks = {pool.submit(_look_up, name): name for name in names}
    done, late = wait(tasks, timeout=NAMES_WITHIN)
    pool.shutdown(wait=False, cancel_futures=True)
    records = [task.result() for task in done]
    return records + [NameRecord(tasks[task], None) for task in late]


def _look_up(name: str) -> NameRecord:
    try:
        rows = socket.getaddrinfo(name, None, type=socket.SOCK_STREAM)
    except socket.gaierror as error:
        known = error.errno in (socket.EAI_NONAME, getattr(socket, "EAI_NODATA", -5))
        return NameRecord(name, () if known else None)
    except (OSError, UnicodeError):
        return NameRecord(name, None)
    return NameRecord(name, tuple(dict.fromkeys(str(row[4][0]) for row in rows)))
