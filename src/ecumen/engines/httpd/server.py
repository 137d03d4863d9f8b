"""The configuration as the server holds it: the main server, its virtual hosts, their sections.

Source: httpd 2.4, core ("VirtualHost", "ServerAlias", "DocumentRoot"), mod_alias, mod_userdir,
mod_log_config; each setting of a virtual host that is not given comes from the main server.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from functools import lru_cache
from typing import Any

from ecumen import codes
from ecumen.engines.httpd.catalogue import leaves_answer
from ecumen.engines.httpd.draft import CONDITIONAL, Draft, flat, section_settings
from ecumen.engines.httpd.hosting import FolderPattern, read_pattern
from ecumen.engines.httpd.lexer import SPACE, decode, next_word, words
from ecumen.engines.httpd.marks import Mark
from ecumen.engines.httpd.modules import KNOWN, identifier
from ecumen.engines.httpd.reader import Cache, Reader
from ecumen.engines.httpd.redirects import Redirect
from ecumen.engines.httpd.rewriting import RewriteMap, Rewriting, read_map
from ecumen.engines.httpd.settings import (
    EMPTY,
    Choice,
    Opt,
    Options,
    Settings,
    Upstream,
    read_upstream,
)
from ecumen.engines.httpd.uri import USUAL_LINE_LIMIT
from ecumen.engines.numbers import atoi
from ecumen.engines.parts import Parts
from ecumen.engines.sites import Binding, Doubt, Phase, Proof, Rank, proof_of
from ecumen.engines.tree import Deferred, Directive, Mistake, Place, Source, Tree
from ecumen.patterns import Regex, compiled, shell_pattern
from ecumen.survey import EngineRecord


@dataclass(slots=True, eq=False)
class Section:
    """A section on folders or on addresses. depth: components of a folder's path."""

    kind: str
    pattern: str
    directive: Directive
    depth: int = 0
    wild: bool = field(init=False)
    _settings: Settings | None = field(default=None, init=False)

    def __post_init__(self) -> None:
        self.wild = any(c in self.pattern for c in "*?[")

    @property
    def settings(self) -> Settings:
        """Worked out for the first request that it binds: most bind none."""
        if self._settings is None:
            children = self.directive.children or ()
            rewrites = self.kind == "folder"
            self._settings = section_settings(children, self.pattern, rewrites=rewrites)
        return self._settings

    def fits_folder(self, path: str) -> bool | None:
        """path: without a slash at its end. None: the pattern is not evaluated."""
        if not self.wild:
            return self.pattern == path
        pattern = shell_pattern(self.pattern, slashes_apart=True)
        return None if pattern is None else pattern.match(path) is not None

    def fits_regex(self, text: str) -> bool | None:
        pattern = compiled(self.pattern)
        return None if pattern is None else pattern.fits(text)

    def fits_address(self, path: str) -> bool | None:
        """path: of the address, decoded, double slashes merged."""
        if self.kind == "locationmatch":
            return self.fits_regex(path)
        if self.wild:
            pattern = shell_pattern(self.pattern, slashes_apart=True)
            return None if pattern is None else pattern.match(path) is not None
        if not path.startswith(self.pattern):
            return False
        rest = path[len(self.pattern) :]
        return self.pattern.endswith("/") or rest == "" or rest.startswith("/")


@dataclass(frozen=True, slots=True)
class UserFolders:
    """Personal sites. folders: patterns in order, None where they are not set."""

    folders: tuple[str, ...] | None = None
    folders_line: Directive | None = None
    all_off: bool | None = None
    all_off_line: Directive | None = None
    on: dict[str, Directive] = field(default_factory=dict)
    off: dict[str, Directive] = field(default_factory=dict)

    def off_for(self, name: str) -> Directive | None:
        """The line that keeps an account from having a personal site."""
        off = self.off.get(name.lower())
        if off is None and self.all_off and name.lower() not in self.on:
            return self.all_off_line
        return off

    def over(self, base: UserFolders) -> UserFolders:
        """The lists of accounts are not merged: a host that says anything has only its own."""
        mine = self.folders is not None
        said = self.all_off is not None
        if not (mine or said or self.on or self.off):
            return base
        return UserFolders(
            self.folders if mine else base.folders,
            self.folders_line if mine else base.folders_line,
            self.all_off if said else base.all_off,
            self.all_off_line if said else base.all_off_line,
            self.on,
            self.off,
        )


@dataclass(frozen=True, slots=True)
class Alias:
    """fake: the address, as written, or a pattern. real: where it leads. scripts: what lies there
    is run. regex: None for a pattern that is not evaluated. late: of a module that is asked once no
    plain alias fits; a program of its own makes the content.
    """

    fake: str
    real: str
    directive: Directive
    scripts: bool = False
    by_pattern: bool = False
    regex: Regex | None = None
    late: bool = False


@dataclass(frozen=True, slots=True)
class LogTarget:
    """Where access lines go. path: absolute, or the command behind `|`. form: a template, or the
    name of one; "" for the usual one.
    """

    path: str
    conditional: bool
    directive: Directive
    form: str = ""


@dataclass(slots=True, eq=False)
class Host:
    """The main server, or one virtual host. Of a virtual host only what it is called and bound to
    is worked out at once: of thousands, most requests meet one.
    """

    place: Place
    directive: Directive | None
    bindings: tuple[Binding, ...] = ()
    name: str | None = None
    name_port: int | None = None
    name_line: Directive | None = None
    # It calls itself https, as behind a door that takes the seal off (ServerName with a scheme).
    sealed_outside: bool = False
    names: set[str] = field(default_factory=set)
    wild_names: list[str] = field(default_factory=list)
    alias_lines: list[Directive] = field(default_factory=list)
    root: str | None = None
    root_line: Directive | None = None
    # By the name that is asked for: where what lies outside of aliases is, and where programs are.
    by_name: FolderPattern | None = None
    programs_by_name: FolderPattern | None = None
    user_folders: UserFolders = field(default_factory=UserFolders)
    aliases: list[Alias] = field(default_factory=list)
    redirects: list[Redirect] = field(default_factory=list)
    upstreams: list[Upstream] = field(default_factory=list)
    rewriting: Rewriting | None = None
    maps: dict[str, RewriteMap] = field(default_factory=dict)
    marks: list[Mark] = field(default_factory=list)
    logs: list[LogTarget] = field(default_factory=list)
    errors: str | None = None
    # An account of its own for what the host serves, and the line that gives it.
    account: tuple[str, str] | None = None
    account_line: Directive | None = None
    # The line that has it speak TLS; whether it says itself that it does, or does not.
    sealed: Directive | None = None
    seal_said: bool = False
    certificates: list[Directive] = field(default_factory=list)
    override_names: tuple[str, ...] | None = None
    settings: Settings = EMPTY
    folders: list[Section] = field(default_factory=list)
    folder_patterns: list[Section] = field(default_factory=list)
    addresses: list[Section] = field(default_factory=list)
    unread: list[Directive] = field(default_factory=list)
    # Works out a host with all else, when something of it is first asked for.
    later: Callable[[], Host] | None = field(default=None, repr=False)
    made: dict[bool, Host] = field(default_factory=dict, repr=False)

    @classmethod
    def begun(cls, place: Place, directive: Directive, bindings: tuple[Binding, ...]) -> Host:
        """A host of which the rest is yet to come."""
        host = object.__new__(cls)
        host.place, host.directive, host.bindings = place, directive, bindings
        host.name = host.name_port = host.name_line = host.later = None
        host.sealed_outside = False
        host.names, host.wild_names, host.alias_lines, host.made = set(), [], [], {}
        return host

    def named_alike(self) -> Host:
        """What is there already, with nothing else said."""
        host = Host(self.place, self.directive, self.bindings)
        for name in _AT_ONCE - {"later", "made"}:
            setattr(host, name, getattr(self, name))
        return host

    def __getattr__(self, name: str) -> Any:
        """Asked for what is not there yet. Of several threads that ask at once, all get what the
        first of them made; what is there is final.
        """
        if name not in _LATER:
            raise AttributeError(name)
        later = self.later
        if later is not None:
            whole = self.made.setdefault(True, later())
            for each in _LATER:
                setattr(self, each, getattr(whole, each))
            self.later = None
        return object.__getattribute__(self, name)

    @property
    def label(self) -> str:
        """What the site is called on screen and in answers."""
        if self.name:
            return self.name
        if self.bindings:
            return str(self.bindings[0])
        return "main server"

    @property
    def all_names(self) -> tuple[str, ...]:
        own = (self.name,) if self.name else ()
        return (*own, *sorted(self.names), *self.wild_names)


_AT_ONCE = frozenset(
    """
    place directive bindings name name_port name_line sealed_outside names wild_names alias_lines
    later made
    """.split()
)
_LATER = frozenset(each.name for each in fields(Host)) - _AT_ONCE


@dataclass(slots=True)
class _Bearing:
    """What bears on all requests, and the names of variables that a line sets for each of them."""

    doubts: list[Doubt] = field(default_factory=list)
    names: set[str] = field(default_factory=set)


@dataclass(slots=True)
class Server:
    """One httpd, as configured."""

    tree: Tree
    main: Host
    hosts: tuple[Host, ...]
    listens: tuple[Binding, ...]
    user: str | None
    group: str | None
    types: dict[str, str]
    types_file: str
    mistakes: tuple[Mistake, ...]
    doubts: tuple[Doubt, ...]
    reader: Reader
    set_names: frozenset[str]
    version: str = ""
    formats: dict[str, str] = field(default_factory=dict)
    # What the main server says, without its virtual hosts; and what comes of each of these by
    # itself, by the number of its directive: a configuration that says the same in other places
    # takes it over. bearings: of those that bear on all requests.
    said: tuple[Directive, ...] = ()
    parts: dict[int, Host] = field(default_factory=dict)
    bearings: dict[int, _Bearing] = field(default_factory=dict)

    @property
    def root(self) -> str:
        return self.reader.root

    @property
    def bearing_on_all(self) -> tuple[object, ...]:
        """What is said outside of virtual hosts, and in one of them for all."""
        return (
            self.said, self.root, self.user, self.group, self.types, self.types_file, self.version,
            self.doubts, self.set_names, self.formats,
        )  # fmt: skip

    def hosts_saying(self, words: Sequence[str]) -> Iterator[Host]:
        """The main server, and the hosts in whose own lines one of these stands, given in small
        letters: of thousands none needs to be worked out for what it does not say.
        """
        yield self.main
        yield from (host for host in self.hosts if not is_silent(host, words))


# --- from the tree ---

_NAME = re.compile(r"(?:([^:/]+)://)?(\[[^]]*\]|[^:]*)(?::(\d+))?", re.IGNORECASE)
DEFAULT_TYPES = "mime.types"
_VIRTUAL = "<virtualhost"


class _Compiler:
    """where_only: of hosts nothing is worked out but which folders, logs and texts they name."""

    def __init__(self, reader: Reader, where_only: bool = False) -> None:
        self.reader = reader
        self.where_only = where_only
        self.told = False  # whether a virtual host said anything of the server as a whole
        self.listens: list[Binding] = []
        self.user: str | None = None
        self.group: str | None = None
        self.types_file: str | None = None
        self.hosts: list[Host] = []
        self.formats: dict[str, str] = {}
        self.main: Host | None = None

    def whole(self, host: Host, directives: Sequence[Directive]) -> Host:
        """The main server, with the virtual hosts that stand in it."""
        plain = []
        for directive in directives:
            if _is_host(directive):
                self._virtual(directive)
            else:
                if (takes := _taker_at_once(directive.name)) is not None:
                    takes(self, host, directive, words(directive.text))
                plain.append(directive)
        self.main = self._rest(host, plain)
        return self.main

    def _rest(self, host: Host, directives: Sequence[Directive]) -> Host:
        """All that is not worked out at once."""
        if self.where_only:
            for directive in directives:
                if (takes := _taker_of_places(directive.name)) is not None:
                    takes(self, host, directive, words(directive.text))
            return host
        draft = Draft()
        for directive in directives:
            if _taker_at_once(directive.name) is not None:
                continue
            takes = _host_taker(directive.name)
            if takes is not None:
                takes(self, host, directive, words(directive.text))
            elif draft.take(directive):
                continue
            elif not leaves_answer(directive):
                host.unread.append(directive)
        host.rewriting = draft.rewriting
        host.redirects = draft.redirects
        host.marks = draft.marks
        if draft.rewriting is not None:
            # In folders only the switch and the options of the host go on, not its rules.
            draft.rewriting = Rewriting(draft.rewriting.on, draft.rewriting.options)
        host.settings = draft.settings()
        host.unread += host.settings.unread
        if host.settings.unread or host.settings.redirects or host.settings.marks:
            host.settings = replace(host.settings, unread=(), redirects=(), marks=())
        return host

    def _virtual(self, directive: Directive) -> None:
        bindings = tuple(_binding(text, directive.place) for text in words(directive.text))
        host = Host.begun(directive.place, directive, bindings)
        unread: list[Directive] = []
        host.unread = unread
        # Asked whether there are any, they would be worked out.
        children = () if directive.children is None else directive.children
        at_once = children.at_once if isinstance(children, Deferred) else flat(children)
        for line in at_once:
            if (takes := _taker_at_once(line.name)) is not None:
                takes(self, host, line, words(line.text))
        del host.unread

        def later() -> Host:
            assert self.main is not None
            whole = host.named_alike()
            whole.unread += unread
            lines = _naming_places(children) if self.where_only else children
            _inherit(self._rest(whole, flat(lines)), self.main)
            return whole

        host.later = later
        self.hosts.append(host)

    def _tells(self, host: Host) -> None:
        """A line that holds for the server as a whole, wherever it stands."""
        self.told = self.told or host.directive is not None

    # each of these takes one directive of a host

    def listen(self, host: Host, directive: Directive, given: list[str]) -> None:
        if not given:
            return
        address, _, port = given[0].rpartition(":")
        if port.isdecimal():
            self._tells(host)
            self.listens.append(Binding(address.strip("[]") or "*", atoi(port), directive.place))

    def server_name(self, host: Host, directive: Directive, given: list[str]) -> None:
        match = _NAME.fullmatch(given[0]) if given else None
        if match is None:
            host.unread.append(directive)
            return
        host.name = match[2]
        host.name_port = atoi(match[3]) if match[3] else None
        host.name_line = directive
        host.sealed_outside = (match[1] or "").lower() == "https"

    def server_alias(self, host: Host, directive: Directive, given: list[str]) -> None:
        host.alias_lines.append(directive)
        for name in given:
            if any(c in name for c in "*?"):
                host.wild_names.append(name)
            else:
                host.names.add(name.lower())

    def document_root(self, host: Host, directive: Directive, given: list[str]) -> None:
        if given:
            host.root = clean(self.reader.absolute(given[0]))
            host.root_line = directive

    def by_name(self, host: Host, directive: Directive, given: list[str]) -> None:
        pattern = read_pattern(directive, given)
        if pattern is None:
            host.unread.append(directive)
        elif directive.name.lower().startswith("virtualscript"):
            host.programs_by_name = pattern
        else:
            host.by_name = pattern

    def map(self, host: Host, directive: Directive, given: list[str]) -> None:
        if len(given) < 2:
            host.unread.append(directive)
            return
        found = read_map(given[1], directive.place.file)
        if found.kind in ("txt", "rnd"):
            found = replace(found, source=self.reader.absolute(found.source))
        host.maps[given[0]] = found

    def user_dir(self, host: Host, directive: Directive, given: list[str]) -> None:
        word = given[0].lower() if given else ""
        mine = host.user_folders
        # The server looks accounts up in these lists without case.
        people = dict.fromkeys((name.lower() for name in given[1:]), directive)
        if word in ("disable", "disabled"):
            if people:
                mine = replace(mine, off={**mine.off, **people})
            else:
                mine = replace(mine, all_off=True, all_off_line=directive)
        elif word in ("enable", "enabled"):
            mine = replace(mine, on={**mine.on, **people})
        else:
            mine = replace(mine, folders=tuple(given), folders_line=directive)
        host.user_folders = mine

    def alias(self, host: Host, directive: Directive, given: list[str]) -> None:
        if len(given) != 2:
            host.unread.append(directive)
            return
        name = directive.name.lower()
        by_pattern = name.endswith("match")
        real = given[1] if by_pattern else self.reader.absolute(given[1])
        regex = compiled(given[0]) if by_pattern else None
        scripts = name.startswith("script")
        host.aliases.append(Alias(given[0], real, directive, scripts, by_pattern, regex))

    def program(self, host: Host, directive: Directive, given: list[str]) -> None:
        """An alias for a program that another package's module keeps running; options behind."""
        self.alias(host, directive, given[:2])
        if host.aliases and host.aliases[-1].directive is directive:
            host.aliases[-1] = replace(host.aliases[-1], late=True)

    def upstream(self, host: Host, directive: Directive, given: list[str]) -> None:
        by_pattern = directive.name.lower() == "proxypassmatch"
        fake = "".join(given[:1])
        upstream = read_upstream(fake, directive, given[1:], by_pattern=by_pattern)
        if upstream is None:
            host.unread.append(directive)
        else:
            host.upstreams.append(upstream)

    def log(self, host: Host, directive: Directive, given: list[str]) -> None:
        if not given:
            return
        path = given[0] if given[0].startswith("|") else self.reader.absolute(given[0])
        conditional = any(word.startswith(("env=", "expr=")) for word in given[1:])
        named = directive.name.lower() == "customlog" and len(given) > 1
        form = given[1] if named and not given[1].startswith(("env=", "expr=")) else ""
        host.logs.append(LogTarget(path, conditional, directive, form))

    def error_log(self, host: Host, directive: Directive, given: list[str]) -> None:
        if given:
            elsewhere = given[0].startswith(("|", "syslog"))
            host.errors = given[0] if elsewhere else self.reader.absolute(given[0])

    def log_format(self, host: Host, directive: Directive, given: list[str]) -> None:
        if given:
            self._tells(host)
            self.formats[given[1] if len(given) > 1 else ""] = given[0]

    def seal(self, host: Host, directive: Directive, given: list[str]) -> None:
        # What is optional is no longer there, and such a door speaks none (measured, 2.4.71).
        host.sealed = directive if given and given[0].lower() == "on" else None
        host.seal_said = True

    def certificate(self, host: Host, directive: Directive, given: list[str]) -> None:
        host.certificates.append(directive)

    def override_names(self, host: Host, directive: Directive, given: list[str]) -> None:
        host.override_names = tuple(given)

    def forward(self, host: Host, directive: Directive, given: list[str]) -> None:
        if given and given[0].lower() != "off":
            host.unread.append(directive)

    def folder(self, host: Host, directive: Directive, given: list[str]) -> None:
        regex = directive.name.lower() == "<directorymatch"
        if given and given[0] == "~":
            regex, given = True, given[1:]
        if not given:
            host.unread.append(directive)
            return
        if regex:
            host.folder_patterns.append(Section("foldermatch", given[0], directive))
            return
        path = clean(self.reader.absolute(given[0]))
        depth = 0 if path == "/" else path.count("/")
        host.folders.append(Section("folder", path, directive, depth))

    def address(self, host: Host, directive: Directive, given: list[str]) -> None:
        kind = directive.name.lower()[1:]
        if given and given[0] == "~":
            kind, given = "locationmatch", given[1:]
        if not given:
            host.unread.append(directive)
            return
        host.addresses.append(Section(kind, given[0], directive))

    def worker(self, host: Host, directive: Directive, given: list[str]) -> None:
        if not given:
            return
        self._tells(host)
        if directive.name.lower() == "user":
            self.user = given[0]
        else:
            self.group = given[0]

    def account(self, host: Host, directive: Directive, given: list[str]) -> None:
        if len(given) != 2:
            host.unread.append(directive)
            return
        host.account, host.account_line = (given[0], given[1]), directive

    def types_config(self, host: Host, directive: Directive, given: list[str]) -> None:
        if given:
            self._tells(host)
            self.types_file = self.reader.absolute(given[0])

    def line_limit(self, host: Host, directive: Directive, given: list[str]) -> None:
        """Only a limit below the usual one refuses requests that are let through here."""
        if not given or not given[0].isdecimal() or atoi(given[0]) < USUAL_LINE_LIMIT:
            host.unread.append(directive)

    def nothing(self, host: Host, directive: Directive, given: list[str]) -> None:
        return


_HostTaker = Callable[[_Compiler, Host, Directive, list[str]], None]
_HOST_TAKERS: dict[str, _HostTaker] = {
    "listen": _Compiler.listen,
    "servername": _Compiler.server_name,
    "serveralias": _Compiler.server_alias,
    "documentroot": _Compiler.document_root,
    "userdir": _Compiler.user_dir,
    "rewritemap": _Compiler.map,
    "virtualdocumentroot": _Compiler.by_name,
    "virtualdocumentrootip": _Compiler.by_name,
    "virtualscriptalias": _Compiler.by_name,
    "virtualscriptaliasip": _Compiler.by_name,
    "alias": _Compiler.alias,
    "scriptalias": _Compiler.alias,
    "aliasmatch": _Compiler.alias,
    "scriptaliasmatch": _Compiler.alias,
    "wsgiscriptalias": _Compiler.program,
    "wsgiscriptaliasmatch": _Compiler.program,
    "proxypass": _Compiler.upstream,
    "proxypassmatch": _Compiler.upstream,
    "proxypassreverse": _Compiler.nothing,
    "proxyrequests": _Compiler.forward,
    "limitrequestline": _Compiler.line_limit,
    "customlog": _Compiler.log,
    "transferlog": _Compiler.log,
    "errorlog": _Compiler.error_log,
    "logformat": _Compiler.log_format,
    "sslengine": _Compiler.seal,
    "sslcertificatefile": _Compiler.certificate,
    "sslcertificatekeyfile": _Compiler.certificate,
    "sslcertificatechainfile": _Compiler.certificate,
    "sslcacertificatefile": _Compiler.certificate,
    # Of the whole connection; in folders and on addresses it is another matter.
    "sslverifyclient": _Compiler.nothing,
    "accessfilename": _Compiler.override_names,
    "<directory": _Compiler.folder,
    "<directorymatch": _Compiler.folder,
    "<location": _Compiler.address,
    "<locationmatch": _Compiler.address,
    "assignuserid": _Compiler.account,
    "user": _Compiler.worker,
    "group": _Compiler.worker,
    "typesconfig": _Compiler.types_config,
}


# What a host is called, and what holds for the server as a whole, wherever it stands.
_TAKERS_AT_ONCE = {
    name: _HOST_TAKERS[name]
    for name in "servername serveralias listen logformat user group typesconfig".split()
}


@lru_cache(maxsize=4096)
def _taker_at_once(name: str) -> _HostTaker | None:
    """By the name as it is written."""
    return _TAKERS_AT_ONCE.get(name.lower())


_PLACES = {
    name: _HOST_TAKERS[name]
    for name in """
    documentroot userdir rewritemap virtualdocumentroot virtualdocumentrootip virtualscriptalias
    virtualscriptaliasip alias scriptalias aliasmatch scriptaliasmatch wsgiscriptalias
    wsgiscriptaliasmatch customlog transferlog errorlog accessfilename <directory <directorymatch
    sslcertificatefile sslcertificatekeyfile sslcertificatechainfile sslcacertificatefile
    """.split()
}
_PLACE_LINE = re.compile(
    rf"^[ \t]*((?:{'|'.join(name for name in _PLACES if name[0] != '<')})[ \t][^\n]*)",
    re.IGNORECASE | re.MULTILINE,
)
_OVERRIDES = ("allowoverride",)


def _naming_places(lines: Sequence[Directive]) -> Sequence[Directive]:
    """Of a host's lines at least those that name folders, logs and texts. Its sections are wanted
    for what they say of override files alone.
    """
    if not isinstance(lines, Deferred) or lines.says(_OVERRIDES):
        return lines
    found = map(next_word, (line.rstrip(SPACE) for line in _PLACE_LINE.findall(lines.text)))
    return [Directive(name, rest, lines.place) for name, rest in found]


@lru_cache(maxsize=4096)
def _taker_of_places(name: str) -> _HostTaker | None:
    """By the name as it is written."""
    return _PLACES.get(name.lower())


@lru_cache(maxsize=4096)
def _host_taker(name: str) -> _HostTaker | None:
    """By the name as it is written."""
    return _HOST_TAKERS.get(name.lower())


def clean(path: str) -> str:
    """Without double slashes, dot segments and a slash at the end."""
    cleaned = posixpath.normpath(path)
    return cleaned[1:] if cleaned.startswith("//") else cleaned


def _binding(text: str, place: Place) -> Binding:
    if text.startswith("["):
        address, _, rest = text[1:].partition("]")
        port = rest.removeprefix(":")
    elif text.count(":") == 1:
        address, _, port = text.partition(":")
    else:
        address, port = text, ""
    if address in ("_default_", "0.0.0.0", "::"):
        address = "*"
    return Binding(address.lower(), atoi(port) if port.isdecimal() else None, place)


def _inherits_rules(host: Host, main: Host) -> bool:
    """Whether rules and maps of the server as a whole go on in a host (mod_rewrite.c,
    config_server_merge).
    """
    mine = (host.rewriting.options if host.rewriting else None) or frozenset()
    theirs = (main.rewriting.options if main.rewriting else None) or frozenset()
    if mine & {"inherit", "inheritbefore"}:
        return True
    return bool(theirs & {"inheritdown", "inheritdownbefore"}) and "ignoreinherit" not in mine


def _inherit(host: Host, main: Host) -> None:
    """What a virtual host has from the main server."""
    if host.root is None:
        host.root, host.root_line = main.root, main.root_line
    host.by_name = host.by_name or main.by_name
    host.programs_by_name = host.programs_by_name or main.programs_by_name
    host.user_folders = host.user_folders.over(main.user_folders)
    host.aliases = sorted(host.aliases + main.aliases, key=lambda alias: alias.late)
    host.redirects = host.redirects + main.redirects
    host.marks = main.marks + host.marks
    host.upstreams = main.upstreams + host.upstreams
    if _inherits_rules(host, main):
        host.maps = {**main.maps, **host.maps}
    if host.rewriting is not None and main.rewriting is not None:
        host.rewriting = host.rewriting.over(main.rewriting)
    if host.account is None:
        host.account, host.account_line = main.account, main.account_line
    if not host.seal_said:
        host.sealed = main.sealed
    host.logs = host.logs or main.logs
    host.errors = host.errors or main.errors
    host.override_names = host.override_names or main.override_names
    host.settings = host.settings.over(main.settings)
    # Stable: sections of the main server stand before those of the host at the same depth.
    host.folders = sorted(main.folders + host.folders, key=lambda section: section.depth)
    host.folder_patterns = sorted(main.folder_patterns + host.folder_patterns, key=_slashes)
    host.addresses = main.addresses + host.addresses
    host.unread = main.unread + host.unread


def _slashes(section: Section) -> int:
    """By this the server sorts sections by pattern, too: the slashes in the text of the pattern."""
    return section.pattern.count("/")


@lru_cache(maxsize=16)  # the same text with each change of a survey
def _types(text: bytes) -> dict[str, str]:
    """The file of content types: a type and its endings on each line."""
    found_types: dict[str, str] = {}
    for line in decode(text).split("\n"):
        line = line.strip(SPACE)
        if not line or line.startswith("#"):
            continue
        given = words(line)
        for ending in given[1:]:
            found_types[ending.lower()] = given[0]
    return found_types


_PROXIED = ("remoteipproxyprotocol",)


def host_like(server: Server, directive: Directive) -> Host:
    """A virtual host with these lines, as if it stood in a server's configuration."""
    compiler = _Compiler(server.reader)
    compiler.main = server.main
    compiler._virtual(directive)
    return compiler.hosts[0]


def is_silent(host: Host, words: Sequence[str]) -> bool:
    """Whether none of these, given in small letters, stands in a host's own lines, which are not
    worked out yet.
    """
    lines = host.directive.children if host.directive is not None else None
    return isinstance(lines, Deferred) and not lines.says(words)


def _of_connections(main: Host, hosts: Sequence[Host]) -> list[Doubt]:
    """What one site says of connections holds for each that comes to its address and port: for all
    sites there, named or not (mod_remoteip, "RemoteIPProxyProtocol"; measured).
    """
    found = {
        directive.place: directive
        for host in (main, *hosts)
        if not is_silent(host, _PROXIED)
        for directive in host.unread
        if directive.name.lower() == "remoteipproxyprotocol" and directive.text.lower() != "off"
    }
    return [
        Doubt(
            codes.SITE_NOT_EVALUATED,
            Rank(Phase.ENTRY),
            {"directive": directive.name},
            (proof_of(directive),),
        )
        for directive in found.values()
    ]


def _unset(
    reader: Reader, directives: Sequence[Directive], host_of: Mapping[int, Host]
) -> list[Doubt]:
    """What comes of variables that lines use and nobody knows: they stay as they stand there, or
    are known to whoever started the server. Within a virtual host that is the host's affair alone.
    """
    # With a letter that no shell lets stand in one, it is no variable of the environment.
    names = {name for _, name in reader.unset if _VARIABLE.fullmatch(name)}
    if not names or reader.environment:
        return []
    place_of = {place: name for place, name in reader.unset if name in names}
    doubts: list[Doubt] = []
    for directive in directives:
        host = host_of.get(id(directive))
        # Where a variable is used, all was read at once.
        for line in Tree((directive,)).walk_where(lambda inner: False):
            used = [name for name in names if f"${{{name}}}" in line.text]
            for name in used:
                place_of.pop(line.place, None)
                if line.name.lower() in _LOGS or leaves_answer(line):
                    continue
                if host is None or line is directive:
                    doubts.append(_unknown(line.place, name))
                elif line not in host.unread:
                    host.unread.append(line)
    # Of lines that acted while the file was read, and are no longer there.
    return doubts + [_unknown(place, name) for place, name in place_of.items()]


_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_LOGS = frozenset(("customlog", "transferlog", "errorlog"))


def _unknown(place: Place, name: str) -> Doubt:
    proof = Proof(place=place, text=f"${{{name}}}")
    return Doubt(codes.SITE_VARIABLE_UNKNOWN, Rank(Phase.ENTRY), {"name": name}, (proof,))


def _at_once(directives: Sequence[Directive]) -> Iterator[Directive]:
    """All lines, and of hosts that are not worked out those that are known before."""
    for directive in Tree(tuple(directives)).walk_where(lambda inner: False):
        yield directive
        if isinstance(directive.children, Deferred):
            yield from directive.children.at_once


def _bearing_of(directives: tuple[Directive, ...]) -> _Bearing:
    """Of all lines, wherever they stand."""
    start, found = Rank(Phase.ENTRY), _Bearing()
    doubts = found.doubts
    for directive in _at_once(directives):
        if not _bears(directive.name):
            continue
        name = directive.name.lower()
        if name == "loadmodule":
            # Without a name it is a mistake, which is told as one.
            module = next(iter(words(directive.text)), "")
            if module and identifier(module) not in KNOWN:
                proofs = (proof_of(directive),)
                doubts.append(Doubt(codes.SITE_MODULE_UNKNOWN, start, {"module": module}, proofs))
        elif name in _SETTERS:
            found.names |= {word.lower() for word in words(directive.text)}
        elif directive.taken is None:
            doubts.append(Doubt(codes.SITE_CONDITION_UNKNOWN, start, {}, (proof_of(directive),)))
    return found


@lru_cache(maxsize=4096)
def _bears(written: str) -> bool:
    """Whether a directive may bear on all requests, by its name as it is written."""
    return written.lower() in _BEARING


_SETTERS = frozenset(("setenv", "passenv", "unsetenv"))
_BEARING = {"loadmodule", *_SETTERS, *CONDITIONAL}


def load(
    source: Source,
    engine: EngineRecord,
    before: Server | None = None,
    *,
    where_only: bool = False,
) -> Server:
    """Reads and compiles an httpd configuration. Never raises for what stands in it.

    before: the same server as it was configured: what says the same still is taken over.
    where_only: for who looks around: which folders, logs and texts are named, and no more.
    """
    reader = Reader(
        source,
        root=engine.root or posixpath.dirname(engine.config),
        version=engine.version or "2.4.0",
        built_in=engine.built_in,
        defines=engine.defines,
        environment=engine.environment,
        cache=Cache() if before is None else before.reader.cache,
    )
    return _compiled(source, engine, reader, reader.read(engine.config), before, where_only)


# The document root that was built in, by the root that was: no output of the program names it. The
# second one is what Debian's package logs where none is set (measured).
_BUILT_IN_ROOTS = {"/etc/apache2": "/var/www/html"}


def _bearings(parts: Parts[Directive, Host], before: Mapping[int, _Bearing]) -> dict[int, _Bearing]:
    """What hosts bear on all requests. before: of those that were there before."""
    new = {id(each): _bearing_of((each,)) for each in parts.new}
    found = {number: each for number, each in new.items() if each.doubts or each.names}
    held = parts.of if before else {}
    return found | {n: each for n, each in before.items() if n in held and n not in new}


@lru_cache(maxsize=4096)
def _opens_host(written: str) -> bool:
    return written.lower() == _VIRTUAL


def _is_host(directive: Directive) -> bool:
    return _opens_host(directive.name)


def _compiled(
    source: Source,
    engine: EngineRecord,
    reader: Reader,
    tree: Tree,
    before: Server | None,
    where_only: bool,
) -> Server:
    parts = Parts(tree.directives, before.parts if before is not None else {}, _is_host)
    directives = tree.directives
    if flat(parts.others) is not parts.others:
        directives = tuple(flat(directives))
        parts = Parts(directives, before.parts if before is not None else {}, _is_host)
    same = before is not None and before.said == parts.said and before.root == reader.root
    single = parts.single
    if not same or not single:
        parts = Parts(directives, {}, _is_host)
    compiler = _Compiler(reader, where_only)
    main = compiler.whole(Host(Place(engine.config, 1), None), parts.others)
    hosts = parts.made(compiler.hosts)
    host_of = parts.of
    if main.name_line is not None:
        main.place = main.name_line.place
    if main.root is None:
        main.root = _BUILT_IN_ROOTS.get(engine.root.rstrip("/"))
    default = Settings(options=Options(Opt.FOLLOW, True))
    main.settings = main.settings.over(default)
    main.aliases.sort(key=lambda alias: alias.late)
    main.folders.sort(key=lambda section: section.depth)
    main.folder_patterns.sort(key=_slashes)
    bearings = _bearings(parts, before.bearings if before is not None else {})
    bearing = _Bearing()
    for directive in directives if bearings else parts.said:
        found = bearings.get(id(directive))
        if found is None and id(directive) not in host_of:
            found = _bearing_of((directive,))
        if found is not None:
            bearing.doubts += found.doubts
            bearing.names |= found.names
    types_file = compiler.types_file or reader.absolute(DEFAULT_TYPES)
    types = source.read(types_file) if "mime_module" in reader.modules else b""
    doubts = [*_unset(reader, directives, host_of), *bearing.doubts]
    if "remoteip_module" in reader.modules:
        doubts += _of_connections(main, hosts)
    if types is None:
        doubts.append(
            Doubt(
                codes.SERVE_TYPES_UNREAD, Rank(Phase.CONTENT), {"path": types_file}, only_type=True
            )
        )
    return Server(
        tree=tree,
        main=main,
        hosts=tuple(hosts),
        listens=tuple(compiler.listens),
        user=compiler.user,
        group=compiler.group,
        types=_types(types or b""),
        types_file=types_file,
        mistakes=tree.mistakes,
        version=engine.version,
        doubts=tuple(doubts),
        reader=reader,
        set_names=frozenset(bearing.names),
        formats=compiler.formats,
        said=parts.said,
        parts={} if compiler.told or not single else host_of,
        bearings=bearings,
    )


def with_value(choice: Choice | None) -> str | None:
    """A choice's value; None where it is not set or is `None`."""
    if choice is None or choice.value.strip().lower() == "none":
        return None
    return choice.value
