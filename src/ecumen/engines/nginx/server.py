"""The configuration as the server holds it: servers, what they listen on, their names, locations.

Source: nginx, ngx_http_core_module ("server", "listen", "server_name", "location").
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache, partial

from ecumen import codes
from ecumen.engines.nginx.config import CHARSET_TYPES, Conf, ConfDraft, Log, Root, first, regex_of
from ecumen.engines.nginx.lexer import Line
from ecumen.engines.nginx.locations import Location, Locations
from ecumen.engines.nginx.reader import Cache, Reader, Reading
from ecumen.engines.nginx.tables import ByAddress, ByShare, by_address, by_share
from ecumen.engines.nginx.texts import Text, text_of
from ecumen.engines.parts import Parts
from ecumen.engines.sites import Binding, Doubt, Phase, Proof, Rank
from ecumen.engines.tree import Mistake, Place, Source
from ecumen.patterns import Regex
from ecumen.survey import EngineRecord

DEFAULT_LOG = "/var/log/nginx/access.log"
DEFAULT_ERRORS = "/var/log/nginx/error.log"
_TYPES = {"html": "text/html", "gif": "image/gif", "jpg": "image/jpeg"}


@dataclass(frozen=True, slots=True)
class Listen:
    """address: `*` for all of v4, `::` for all of v6, a literal, or `unix:…`, without a port."""

    address: str
    port: int | None
    default: bool
    sealed: bool
    only_v6: bool
    line: Line | None


@dataclass(slots=True)
class Server:
    """One server block. names: in lower case. first_name: that it gives as its own, "" where it has
    none. What holds in it, and its locations, are worked out when they are first asked for; of
    several threads that ask at once, all get what the first of them made.
    """

    line: Line
    later: Callable[[], Conf]
    listens: tuple[Listen, ...]
    names: tuple[str, ...]
    patterns: tuple[tuple[str, Regex | None], ...]
    merge_slashes: bool
    compiler: Compiler
    first_name: str
    refuses_handshake: bool = False
    _locations: Locations | None = None
    _made: dict[bool, Conf] = field(default_factory=dict)

    @property
    def conf(self) -> Conf:
        made = self._made.get(True)
        return self._made.setdefault(True, self.later()) if made is None else made

    @property
    def locations(self) -> Locations:
        if self._locations is None:
            self._locations = self.compiler.locations(self.line.children or (), self.conf)
        return self._locations

    @property
    def place(self) -> Place:
        return self.line.place

    @property
    def label(self) -> str:
        """What the site is called on screen and in answers."""
        named = [name for name in self.names if name not in ("", "_")]
        return named[0] if named else str(binding(self.listens[0]))


def binding(listen: Listen) -> Binding:
    place = listen.line.place if listen.line else Place("", 0)
    address = "*" if listen.address in ("*", "::") else listen.address
    return Binding(address, listen.port, place)


@dataclass(frozen=True, slots=True)
class Map:
    """One variable that is looked up by another. hosts: names in it may be wild. volatile: it is
    looked up anew each time.
    """

    source: Text
    exact: dict[str, Text]
    patterns: tuple[tuple[Regex | None, Text], ...]
    default: Text
    hosts: bool
    line: Line
    volatile: bool = False


@dataclass(slots=True)
class Whole:
    """One nginx, as configured."""

    reading: Reading
    servers: tuple[Server, ...]
    user: str
    group: str | None
    maps: dict[str, Map | ByAddress | ByShare]
    upstreams: dict[str, Line]
    mistakes: tuple[Mistake, ...]
    doubts: tuple[Doubt, ...]
    reader: Reader
    defined: frozenset[str] = frozenset()
    formats: dict[str, str] = field(default_factory=dict)
    # What is said outside of servers, and what came of each of these, by the number of its line: a
    # configuration that says the same in other places takes it over.
    said: tuple[Line, ...] = ()
    parts: dict[int, Server] = field(default_factory=dict)

    @property
    def bearing_on_all(self) -> tuple[object, ...]:
        """What is said outside of servers, and in one of them for all."""
        return self.said, self.user, self.group, self.doubts, self.defined, self.formats

    @property
    def listens(self) -> tuple[Binding, ...]:
        found: dict[tuple[str, int | None], Binding] = {}
        for server in self.servers:
            for listen in server.listens:
                key = (listen.address, listen.port)
                if key not in found:
                    found[key] = binding(listen)
        return tuple(found.values())

    def grounds(self) -> list[str]:
        """Folders out of which files may be served, and sockets that requests are handed to."""
        found: dict[str, None] = {}
        for server in self.servers:
            for conf in (server.conf, *(each.conf for each in server.locations.all())):
                for path in _paths_of(conf):
                    found[path] = None
        for line in self.upstreams.values():
            for child in line.children or ():
                if child.name == "server" and child.args and child.args[0].startswith("unix:"):
                    found[child.args[0][5:].partition(":")[0]] = None
        return list(found)


def _paths_of(conf: Conf) -> list[str]:
    found = []
    texts = [conf.root.path.source]
    if conf.upstream is not None:
        where = conf.upstream.target.source
        where = where.partition("://")[2] or where
        if where.startswith("unix:"):
            texts.append(where[5:].partition(":")[0])
    for text in texts:
        # Of a path with a variable in it only the part in front is known.
        known = text.partition("$")[0].rpartition("/")[0] if "$" in text else text
        if known.startswith("/") and known.rstrip("/"):
            found.append(known.rstrip("/"))
    return found


def _is_server(line: Line) -> bool:
    return line.name == "server"


class Compiler:
    """Makes servers and locations of the lines that were read."""

    def __init__(self, reader: Reader, before: Whole | None = None) -> None:
        self.reader = reader
        self.prefix = "/usr/share/nginx"
        self.before = before

    def absolute(self, path: str) -> str:
        """Paths that are not of the configuration lie below the server's own folder."""
        return path if path.startswith("/") else f"{self.prefix}/{path}"

    def whole(self, reading: Reading) -> Whole:
        conf = Conf("http", None, Root(text_of(f"{self.prefix}/html"), None, None))
        conf.index = ((text_of("index.html"), Line("index", ("index.html",), "", 0)),)
        conf.types, conf.charset_types = _TYPES, CHARSET_TYPES
        conf.logs = (Log(DEFAULT_LOG, "", None),)
        conf.errors = DEFAULT_ERRORS
        top = first(reading.lines, "error_log")
        if top is not None:
            ConfDraft(conf, self.absolute).error_log(top)
        user = first(reading.lines, "user")
        whole = Whole(reading, (), "nobody", None, {}, {}, reading.mistakes, (), self.reader)
        if user is not None and user.args:
            whole.user = user.args[0]
            whole.group = user.args[1] if len(user.args) > 1 else None
        doubts: list[Doubt] = []
        servers: list[Server] = []
        http = [line for line in reading.lines if line.name == "http"]
        blocks = [line.children for line in http if line.children is not None]
        outside = [line for line in reading.lines if line.name != "http"]
        known = self.before.parts if self.before is not None and len(blocks) == 1 else {}
        parted = [Parts(lines, known, _is_server) for lines in blocks]
        whole.said = (*outside, *(line for parts in parted for line in parts.said))
        single = all(parts.single for parts in parted)
        if self.before is None or self.before.said != whole.said or not single:
            parted = [Parts(lines, {}, _is_server) for lines in blocks]
        for parts in parted:
            servers += self._http(parts, conf, whole, doubts)
            if single:
                whole.parts |= parts.of
        whole.servers, whole.doubts = tuple(servers), tuple(doubts)
        self.before = None
        return whole

    def _http(
        self, parts: Parts[Line, Server], conf: Conf, whole: Whole, doubts: list[Doubt]
    ) -> list[Server]:
        draft = ConfDraft(conf, self.absolute)
        merge = True
        defined: set[str] = set()
        for line in parts.said:
            match line.name:
                case "map":
                    self._map(line, whole)
                case "upstream":
                    whole.upstreams[line.args[0] if line.args else ""] = line
                case "log_format":
                    whole.formats[line.args[0] if line.args else ""] = _template(line.args[1:])
                case "merge_slashes":
                    merge = line.args != ("off",)
                case "geo" | "split_clients":
                    table = by_address(line) if line.name == "geo" else by_share(line)
                    name = line.args[-1][1:] if line.args else ""
                    if table is None:
                        defined.add(name)
                    else:
                        whole.maps[name] = table
                case "geoip_country" | "geoip_city" | "perl_set":
                    defined |= {word[1:] for word in line.args if word.startswith("$")}
                case _:
                    if not draft.take(line):
                        doubts.append(_unread(line))
        doubts += [_unread(line) for line in conf.unread]
        whole.defined = frozenset(defined)
        return parts.made([self._server(line, conf, merge) for line in parts.new])

    def _map(self, line: Line, whole: Whole) -> None:
        if len(line.args) != 2:
            return
        exact: dict[str, Text] = {}
        patterns: list[tuple[Regex | None, Text]] = []
        default, hosts, volatile = text_of(""), False, False
        for entry in line.children or ():
            key, value = entry.name, text_of(entry.args[0] if entry.args else "")
            if not entry.args:
                hosts, volatile = hosts or key == "hostnames", volatile or key == "volatile"
            elif key == "default":
                default = value
            elif key.startswith("~"):
                caseless = key.startswith("~*")
                patterns.append(
                    (regex_of(key[2 if caseless else 1 :], ignore_case=caseless), value)
                )
            else:
                exact[key.removeprefix("\\").lower()] = value
        name = line.args[1].removeprefix("$")
        source = text_of(line.args[0])
        whole.maps[name] = Map(source, exact, tuple(patterns), default, hosts, line, volatile)

    # --- servers ---

    def _server(self, line: Line, outer: Conf, merge: bool) -> Server:
        names: list[str] = []
        listens: list[Listen] = []
        refuses = False
        for child in line.children or ():
            match child.name:
                case "listen":
                    with suppress(ValueError):
                        listens.append(read_listen(child))
                case "server_name":
                    names += child.args
                case "merge_slashes":
                    merge = child.args != ("off",)
                case "ssl_reject_handshake":
                    refuses = child.args == ("on",)
        later = partial(self._within, line, outer)
        patterns = tuple(
            (name, regex_of(name[1:], ignore_case=any(c.isupper() for c in name)))
            for name in names
            if name.startswith("~")
        )
        plain = tuple(name.lower() for name in names if not name.startswith("~")) or (
            () if patterns else ("",)
        )
        if not listens:
            listens = [Listen("*", 80, False, False, False, None)]
        own = names[0] if names else ""
        own = own if own.startswith("~") else own.lower().removeprefix(".")
        return Server(line, later, tuple(listens), plain, patterns, merge, self, own, refuses)

    def _within(self, line: Line, outer: Conf) -> Conf:
        """What holds in a server block, but for what it is called and bound to."""
        conf = outer.within("server", line)
        draft = ConfDraft(conf, self.absolute)
        for child in line.children or ():
            if child.name == "listen":
                try:
                    read_listen(child)
                except ValueError:
                    conf.unread.append(child)
            elif child.name not in _AT_ONCE and not draft.take(child):
                conf.unread.append(child)
        draft.finish()
        return conf

    # --- locations ---

    def locations(self, lines: Sequence[Line], outer: Conf) -> Locations:
        found = Locations()
        for line in lines:
            if line.name != "location" or not line.args:
                continue
            location = self._location(line, outer)
            if location is None:
                outer.unread.append(line)
            else:
                found.add(location)
        return found

    def _location(self, line: Line, outer: Conf) -> Location | None:
        modifier, name = (line.args[0], line.args[1]) if len(line.args) > 1 else ("", line.args[0])
        if not modifier:
            for sign in ("=", "^~", "~*", "~"):
                if name.startswith(sign) and not name.startswith("@"):
                    modifier, name = sign, name[len(sign) :]
                    break
        kind = {"=": "exact", "^~": "stop", "~": "pattern", "~*": "pattern"}.get(modifier, "prefix")
        if name.startswith("@") and not modifier:
            kind = "named"
        conf = outer.within(line.quoted.removesuffix(" {"), line)
        draft = ConfDraft(conf, self.absolute, -1 if kind == "pattern" else len(name))
        inner: list[Line] = []
        limited: list[Line] = []
        for child in line.children or ():
            if child.name == "location":
                inner.append(child)
            elif child.name == "limit_except":
                limited.append(child)
            elif not draft.take(child):
                conf.unread.append(child)
        draft.finish()
        for child in limited:
            self._limited(child, conf)
        regex = regex_of(name, ignore_case=modifier == "~*") if kind == "pattern" else None
        location = Location(kind, name, conf, regex)
        location.adds_slash = conf.upstream is not None and name.endswith("/") and kind != "pattern"
        if inner:
            location.inner = self.locations(inner, conf)
            for each in location.inner.all():
                # A request never comes by the outer one; what is said there is inherited.
                each.conf.unread[:0] = conf.unread
        return location

    def _limited(self, line: Line, conf: Conf) -> None:
        inner = conf.within(line.quoted.removesuffix(" {"), line)
        inner.upstream, inner.maker = conf.upstream, conf.maker
        draft = ConfDraft(inner, self.absolute)
        for child in line.children or ():
            if not draft.take(child):
                inner.unread.append(child)
        draft.finish()
        methods = {word.upper() for word in line.args}
        if "GET" in methods:
            methods.add("HEAD")
        conf.limited = (frozenset(methods), inner)


_AT_ONCE = frozenset(("location", "server_name", "merge_slashes", "ssl_reject_handshake"))


@lru_cache(maxsize=256)  # thousands of sites listen on a few
def _literal(text: str) -> str:
    """An address as it is compared. Raises ValueError."""
    return str(ipaddress.ip_address(text))


def read_listen(line: Line) -> Listen:
    """Raises ValueError for what the server would not accept."""
    where, *flags = line.args
    default = "default_server" in flags or "default" in flags
    sealed = "ssl" in flags
    if where.startswith("unix:"):
        return Listen(where, None, default, sealed, False, line)
    address, port = "*", 80
    if where.isdecimal():
        port = int(where)
    elif where.startswith("["):
        literal, _, rest = where[1:].partition("]")
        address = _literal(literal)
        port = int(rest[1:]) if rest.startswith(":") else 80
    else:
        host, colon, number = where.partition(":")
        port = int(number) if colon else 80
        address = "*" if host in ("*", "0.0.0.0") else _literal(host)
    if not 0 < port < 65536:
        raise ValueError(where)
    only_v6 = "ipv6only=off" not in flags
    return Listen(address, port, default, sealed, only_v6, line)


def _unread(line: Line) -> Doubt:
    facts = {"directive": line.name}
    proof = Proof(place=line.place, text=line.quoted)
    return Doubt(codes.SITE_NOT_EVALUATED, Rank(Phase.ENTRY), facts, (proof,))


def load(source: Source, record: EngineRecord, before: Whole | None = None) -> Whole:
    """Reads and compiles an nginx configuration. Never raises for what stands in it.

    before: the same server as it was configured: what says the same still is taken over.
    """
    prefix = record.config.rpartition("/")[0] or "/"
    reader = Reader(source, prefix, Cache() if before is None else before.reader.cache)
    compiler = Compiler(reader, before)
    if record.root:
        compiler.prefix = record.root
    return compiler.whole(reader.read(record.config))


def _template(words: Sequence[str]) -> str:
    """The words of a template, with how its fields are escaped in front."""
    escape = next((word for word in words if word.startswith("escape=")), "")
    text = "".join(word for word in words if not word.startswith("escape="))
    return f"{escape} {text}" if escape else text
