"""Understands the machine that this runs on, as far as it is told: `Ground` looks, or its process
does for one that may not (`apart`).
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from ecumen.audit.template import SKELETON, SOURCES
from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.server import Host, Server, load
from ecumen.engines.httpd.way import personal_folder
from ecumen.engines.nginx import server as nginx
from ecumen.engines.tree import Source
from ecumen.errors import EcumenError
from ecumen.survey import Account, ConfigCheck, EngineRecord, FileTable, Gap, NameRecord, Survey
from ecumen_machine.capture import PSEUDO
from ecumen_machine.ground import Facts, Ground

KINDS = ("httpd", "nginx")
MOST_CHECKED = 200_000  # files of one configuration

Progress = Callable[[str, int], None]


class Grounds(Source, Protocol):
    """What is asked of the machine; `Ground` says what each means."""

    def engines(self, specs: Sequence[tuple[str, str]]) -> list[EngineRecord]: ...
    def check(
        self, record: EngineRecord, files: Sequence[str], modules: Sequence[str]
    ) -> ConfigCheck | None: ...
    def facts(self) -> Facts: ...
    def look(self, paths: Sequence[str]) -> None: ...
    def look_into(self, folders: Sequence[str]) -> None: ...
    def trees(self, paths: Sequence[str]) -> None: ...
    def read_named(self, leaves: Sequence[str]) -> None: ...
    def resolve(self, names: Sequence[str]) -> list[NameRecord]: ...
    def texts(self) -> dict[str, bytes]: ...
    def table(self) -> FileTable: ...
    def gaps(self) -> tuple[Gap, ...]: ...


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
    given = [(spec.kind, spec.config) for spec in specs]
    return understood(Ground(progress), given, scan, progress)


def understood(
    ground: Grounds, specs: Sequence[tuple[str, str]], scan: Sequence[str], progress: Progress
) -> Survey:
    """What the machine is, out of what it says of itself. Raises ProbeError."""
    progress("reading the configuration", 0)
    records = ground.engines(specs)
    if not records:
        raise ProbeError("no web server is installed here: name one with --engine KIND:CONFIG")
    servers = [load(ground, record) if record.kind == "httpd" else None for record in records]
    others = [nginx.load(ground, record) for record in records if record.kind == "nginx"]
    checked = _checked(ground, records, servers, others)
    facts = ground.facts()
    # Whether a rewritten address is a path on disk is told by its first name.
    ground.look_into(["/"])
    grounds = _grounds(servers, facts.accounts, scan)
    grounds += [path for whole in others for path in whole.grounds() if path not in grounds]
    ground.trees([*grounds, SKELETON])
    # What new accounts get.
    for path in SOURCES:
        ground.read(path)
    logs = _logs(servers, others)
    ground.look(logs)
    ground.look_into(list(dict.fromkeys(map(os.path.dirname, logs))))
    for record in records:
        _pairs(ground, os.path.dirname(record.config))
    ground.read_named(sorted(_override_names(servers)))
    # A configuration given by hand is described as it stands; nobody is asked about its names.
    live = [s for s, record in zip(servers, records, strict=True) if not record.declared]
    declared = all(record.declared for record in records)
    names = ground.resolve(_wanted_names(live, [] if declared else others))
    return Survey(
        host=facts.host,
        taken_at=facts.taken_at,
        taken_by="ecumen survey",
        engines=checked,
        files=ground.table(),
        accounts=facts.accounts,
        groups=facts.groups,
        listeners=facts.listeners,
        names=tuple(names),
        addresses=facts.addresses,
        labels=facts.labels,
        gaps=ground.gaps(),
        texts=ground.texts(),
        kernel=facts.kernel,
        mounts=facts.mounts,
        logs=tuple(logs),
    )


def _checked(
    ground: Grounds,
    records: Sequence[EngineRecord],
    servers: Sequence[Server | None],
    others: Sequence[nginx.Whole],
) -> tuple[EngineRecord, ...]:
    """With what each engine itself says of its configuration."""
    wholes = iter(others)
    found = []
    for record, server in zip(records, servers, strict=True):
        if server is not None:
            files, modules = server.tree.files, _modules(server)
        else:
            whole = next(wholes)
            files = whole.reading.files
            modules = [
                os.path.join(record.root, line.args[0])
                for line in whole.reading.lines
                if line.name == "load_module" and line.args
            ]
        check = ground.check(record, list(dict.fromkeys(files))[:MOST_CHECKED], modules)
        found.append(replace(record, check=check))
    return tuple(found)


def _modules(server: Server) -> list[str]:
    """What a configuration has the engine load as code."""
    found = []
    for directive in server.tree.walk():
        given = words(directive.text)
        match directive.name.lower():
            case "loadmodule":
                found += given[1:2]
            case "loadfile":
                found += given
    return [os.path.join(server.root, path) for path in found]


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


def _pairs(ground: Grounds, base: str) -> None:
    """Folders of what is available and what is enabled, beside the main configuration."""
    for name in ground.names(base) or ():
        if name.endswith(("-available", "-enabled")):
            folder = os.path.join(base, name)
            # What a link leads to, or that it leads nowhere.
            ground.look([os.path.join(folder, leaf) for leaf in ground.names(folder) or ()])


def _logs(servers: Iterable[Server | None], others: Iterable[nginx.Whole]) -> list[str]:
    """The logs that sites name, and whose lines can be found: of these and what lies beside them,
    as their older parts, metadata is noted.
    """
    paths: dict[str | None, None] = {}
    for server in servers:
        for host in (server.main, *server.hosts) if server else ():
            paths |= dict.fromkeys([*(log.path for log in host.logs), host.errors])
    for whole in others:
        for block in whole.servers:
            paths |= dict.fromkeys([*(log.path for log in block.conf.logs), block.conf.errors])
    named = [path for path in paths if path and path.startswith("/") and "$" not in path]
    return [path for path in named if not path.startswith(PSEUDO)]


def _override_names(servers: Iterable[Server | None]) -> set[str]:
    names: set[str] = set()
    for server in servers:
        for host in (server.main, *server.hosts) if server else ():
            names |= set(host.override_names or (".htaccess",))
    return names


# --- names ---


def _wanted_names(servers: Iterable[Server | None], others: Iterable[nginx.Whole]) -> list[str]:
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
    return [name for name in wanted if _is_name(name) and name != "_"]


def _is_name(text: str) -> bool:
    return (
        bool(text) and "*" not in text and not text.replace(".", "").isdigit() and ":" not in text
    )
