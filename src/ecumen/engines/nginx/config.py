"""What holds at one place of the configuration: the whole, a server, a location, a condition.

Settings of an outer place hold within, unless the inner one says anything of the kind itself.
Source: nginx, ngx_http_core_module, ngx_http_rewrite_module, and the module of each directive.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, fields
from functools import lru_cache

from ecumen.engines.nginx.catalogue import leaves_answer
from ecumen.engines.nginx.lexer import Line
from ecumen.engines.nginx.tables import Referers
from ecumen.engines.nginx.texts import Text, text_of
from ecumen.patterns import AtLimit, Regex, compiled

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def _network(text: str) -> Network:
    """Numbers of an address of IPv4 may have zeros before them (ngx_inet_addr); they are decimal.
    Raises ValueError.
    """
    if ":" not in text:
        text = re.sub(r"(?<!\d)0+(?=\d)", "", text)
    return ipaddress.ip_network(text, strict=False)


@lru_cache(maxsize=4096)
def client_address(client: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address:
    """An address from its text; the same few ask again and again."""
    return ipaddress.ip_address(client)


# Statuses for which the engine has a page of its own.
_WITH_PAGE = frozenset(
    (301, 302, 303, 307, 308, *range(400, 407), *range(408, 417), 421, 429, *range(494, 498),
     *range(500, 506), 507)
)  # fmt: skip
REDIRECTS = (301, 302, 303, 307, 308)


@dataclass(frozen=True, slots=True)
class Root:
    """alias: how many characters of the address the path stands for; None for a root; -1 where it
    stands for the whole address (a pattern's).
    """

    path: Text
    alias: int | None
    line: Line | None

    def behind(self, address: str) -> str:
        """What of an address stands behind the root, or behind what an alias stands for."""
        return address[self.alias or 0 :]

    def tried(self, name: str, address: str) -> str:
        """What is looked for behind the root, where a name is tried for an address."""
        alias = self.alias or 0
        return name[alias:] if alias > 0 and name.startswith(address[:alias]) else name

    def found(self, name: str, address: str, *, folder: bool) -> str:
        """The address with which the request goes on, where what was tried is there."""
        if self.alias is None:
            return name
        if self.alias == -1:
            return address if folder else name
        return address[: self.alias] + name


@dataclass(frozen=True, slots=True)
class ErrorPage:
    """status: 0 for what the page itself gives, -1 for that of the error, else another."""

    page: Text
    status: int
    line: Line

    def status_for(self, error: int) -> int | None:
        """The status that goes out with the page; None for the page's own."""
        return {-1: error, 0: None}.get(self.status, self.status)


@dataclass(frozen=True, slots=True)
class AccessLine:
    """network: None for everybody; unix: for local sockets alone."""

    allow: bool
    network: Network | None
    everybody: bool
    line: Line


@dataclass(frozen=True, slots=True)
class Log:
    """path: absolute, None where logging is off. condition: the variable that must be set."""

    path: str | None
    condition: str
    line: Line | None


@dataclass(frozen=True, slots=True)
class Upstream:
    """What a place hands requests to. kind: the way it is spoken to."""

    kind: str
    target: Text
    line: Line


@dataclass(frozen=True, slots=True)
class TryFiles:
    """tries: what is looked for in turn, and whether a folder is meant; code or last: what then."""

    tries: tuple[tuple[Text, bool], ...]
    last: Text
    code: int | None
    line: Line


# --- rules that run one after the other ---


@dataclass(frozen=True, slots=True)
class Return:
    status: int
    text: Text | None
    line: Line


@dataclass(frozen=True, slots=True)
class Rewrite:
    """regex: None where it is not evaluated. flag: last, break, redirect, permanent or none."""

    regex: Regex | None
    pattern: str
    path: Text
    query: Text | None
    flag: str
    sends: bool
    keeps_query: bool
    line: Line


@dataclass(frozen=True, slots=True)
class Set:
    name: str
    value: Text
    line: Line


@dataclass(frozen=True, slots=True)
class BreakRule:
    line: Line


@dataclass(frozen=True, slots=True)
class If:
    """test: as in the words in brackets. conf: what holds where the condition does."""

    operator: str
    left: Text
    right: Text | None
    regex: Regex | None
    conf: Conf
    line: Line


Rule = Return | Rewrite | Set | BreakRule | If


@dataclass(slots=True)
class Conf:
    """What holds at one place. title: as in the configuration, for evidence."""

    title: str
    line: Line | None
    root: Root
    index: tuple[tuple[Text, Line], ...] = ()
    listing: bool = False
    listing_format: str = "html"
    error_pages: dict[int, ErrorPage] = field(default_factory=dict)
    access: tuple[AccessLine, ...] = ()
    realm_line: Line | None = None
    passwords: bool = False
    any_will_do: bool = False
    # The address that says whether a visitor may.
    asks: Line | None = None
    referers: Referers | None = None
    types: dict[str, str] = field(default_factory=dict)
    default_type: str = "text/plain"
    charset: str = ""
    charset_types: frozenset[str] = frozenset()
    absolute: bool = True
    own_name: bool = False
    own_port: bool = True
    links: tuple[str, ...] = ()
    logs: tuple[Log, ...] = ()
    recursive_errors: bool = False
    upstream: Upstream | None = None
    maker: Line | None = None
    tries: TryFiles | None = None
    rules: list[Rule] = field(default_factory=list)
    internal: bool = False
    unread: list[Line] = field(default_factory=list)
    limited: tuple[frozenset[str], Conf] | None = None
    expires: Line | None = None
    cache_control: Line | None = None
    etag: bool = True
    errors: str | None = None
    # Whether header fields are taken whose names hold an underscore, or what no name may.
    underscores: bool = False
    odd_names: bool = False

    @property
    def realm(self) -> Line | None:
        """The line that asks for a sign-in; none is asked for without a file of passwords."""
        return self.realm_line if self.passwords else None

    def for_method(self, method: str) -> Conf:
        """What holds here for a method: other lines where it is limited."""
        if self.limited is None or method in self.limited[0]:
            return self
        return self.limited[1]

    def allowed(self, client: str | None) -> bool | None:
        """Whether a client may, by the first line that speaks of it; None where none does.

        client: None for somebody outside, at no address that a line was written for.
        """
        address = client_address(client) if self.access and client is not None else None
        for line in self.access:
            fits = line.everybody
            if not fits and line.network is not None:
                everywhere = line.network.prefixlen == 0
                fits = everywhere if address is None else address in line.network
            if fits:
                return line.allow
        return None

    def with_charset(self, kind: str) -> str:
        """A content type as it goes out."""
        types = self.charset_types
        bare = kind.partition(";")[0].strip().lower()
        if not self.charset or (bare not in types and "*" not in types):
            return kind
        return kind if "charset=" in kind else f"{kind}; charset={self.charset}"

    def canned(self, status: int) -> str | None:
        """The content type of the engine's own page for a status; None where it has none."""
        if status in (301, 302):
            # The engine gives these no charset, whatever is set.
            return "text/html"
        return self.with_charset("text/html") if status in _WITH_PAGE else None

    def type_of(self, path: str) -> str | None:
        """The content type of a file by the ending of its address."""
        stem, dot, ending = path.rpartition("/")[2].rpartition(".")
        kind = self.types.get(ending.lower()) if dot and stem and ending else None
        kind = kind or self.default_type
        return self.with_charset(kind) if kind else None

    def within(self, title: str, line: Line | None) -> Conf:
        """A place within this one, before anything is said there.

        By position, which is much faster than a copy: there is one for every server read.
        """
        return Conf(
            title, line, self.root, self.index, self.listing, self.listing_format,
            self.error_pages, self.access, self.realm_line, self.passwords, self.any_will_do,
            self.asks, self.referers,
            self.types, self.default_type, self.charset, self.charset_types, self.absolute,
            self.own_name, self.own_port, self.links, self.logs, self.recursive_errors,
            errors=self.errors, expires=self.expires, cache_control=self.cache_control,
            etag=self.etag, internal=self.internal, underscores=self.underscores,
            odd_names=self.odd_names,
        )  # fmt: skip


CHARSET_TYPES = frozenset(
    """
    text/html text/xml text/plain text/vnd.wap.wml application/javascript application/rss+xml
""".split()
)


class ConfDraft:
    """Fills one place with its lines."""

    def __init__(self, conf: Conf, absolute: Callable[[str], str], alias_length: int = 0) -> None:
        self.conf = conf
        self.absolute = absolute
        self.alias_length = alias_length
        self._said: set[str] = set()
        self._conditions: list[Conf] = []

    def finish(self) -> None:
        """To be called behind the last line: conditions inherit what stands behind them, too."""
        for inner in self._conditions:
            line = inner.line
            around = self.conf.within(inner.title, line)
            around.upstream, around.maker = self.conf.upstream, self.conf.maker
            for each in fields(Conf):
                setattr(inner, each.name, getattr(around, each.name))
            draft = ConfDraft(inner, self.absolute, self.alias_length)
            for child in (line.children if line is not None else None) or ():
                if not draft.take(child):
                    inner.unread.append(child)
            draft.finish()

    def take(self, line: Line) -> bool:
        """Takes a line that holds at any place. False: it is none."""
        taker = _TAKERS.get(line.name)
        if taker is None:
            return leaves_answer(line.name, line.args)
        try:
            taker(self, line)
        except (ValueError, IndexError):
            self.conf.unread.append(line)
        return True

    def _first(self, kind: str) -> bool:
        """Whether this is the first line of its kind here, so that it replaces what is outside."""
        if kind in self._said:
            return False
        self._said.add(kind)
        return True

    def root(self, line: Line) -> None:
        (path,) = line.args
        self.conf.root = Root(self._path(path), None, line)

    def alias(self, line: Line) -> None:
        (path,) = line.args
        self.conf.root = Root(self._path(path, slash=True), self.alias_length, line)

    def _path(self, path: str, *, slash: bool = False) -> Text:
        text = path if slash else path.rstrip("/") if path != "/" else ""
        return text_of(text if text.startswith(("/", "$")) or not text else self.absolute(text))

    def index(self, line: Line) -> None:
        own = tuple((text_of(word), line) for word in line.args)
        self.conf.index = own if self._first("index") else self.conf.index + own

    def listing(self, line: Line) -> None:
        self.conf.listing = _flag(line)

    def listing_format(self, line: Line) -> None:
        self.conf.listing_format = line.args[0]

    def error_page(self, line: Line) -> None:
        if self._first("error_page"):
            self.conf.error_pages = {}
        *codes, page = line.args
        status = -1
        if codes[-1].startswith("="):
            word = codes.pop()[1:]
            status = int(word) if word else 0
        for code in codes:
            self.conf.error_pages.setdefault(int(code), ErrorPage(text_of(page), status, line))

    def access(self, line: Line) -> None:
        (who,) = line.args
        allow = line.name == "allow"
        if who == "all":
            entry = AccessLine(allow, None, True, line)
        elif who == "unix:":
            entry = AccessLine(allow, None, False, line)
        else:
            entry = AccessLine(allow, _network(who), False, line)
        self.conf.access = (entry,) if self._first("access") else (*self.conf.access, entry)

    def realm(self, line: Line) -> None:
        self.conf.realm_line = None if line.args[0] == "off" else line

    def passwords(self, line: Line) -> None:
        self.conf.passwords = True

    def asks(self, line: Line) -> None:
        if "$" in line.args[0]:
            raise ValueError(line.args[0])
        self.conf.asks = None if line.args[0] == "off" else line

    def referers(self, line: Line) -> None:
        first = self._first("referers")
        before = None if first or self.conf.referers is None else self.conf.referers.given
        self.conf.referers = Referers((*(before or ()), *line.args))

    def satisfy(self, line: Line) -> None:
        self.conf.any_will_do = line.args[0] == "any"

    def types(self, line: Line) -> None:
        if self._first("types"):
            self.conf.types = {}
        for entry in line.children or ():
            for ending in entry.args:
                self.conf.types[ending.lower()] = entry.name

    def default_type(self, line: Line) -> None:
        self.conf.default_type = line.args[0]

    def charset(self, line: Line) -> None:
        word = line.args[0]
        if "$" in word:
            raise ValueError(word)
        self.conf.charset = "" if word == "off" else word

    def charset_types(self, line: Line) -> None:
        # Those of several lines of one place come together; `*` is any (ngx_http_types_slot()).
        if self._first("charset_types"):
            self.conf.charset_types = frozenset(("text/html",))
        self.conf.charset_types |= frozenset(map(str.lower, line.args))

    def absolute_redirect(self, line: Line) -> None:
        self.conf.absolute = _flag(line)

    def own_name(self, line: Line) -> None:
        self.conf.own_name = _flag(line)

    def own_port(self, line: Line) -> None:
        self.conf.own_port = _flag(line)

    def links(self, line: Line) -> None:
        self.conf.links = line.args if line.args[0] != "off" else ()

    def log(self, line: Line) -> None:
        words = line.args
        if words[0] == "off":
            entry = Log(None, "", line)
        else:
            condition = next((w[3:] for w in words[1:] if w.startswith("if=")), "")
            path = words[0] if words[0].startswith("syslog:") else self.absolute(words[0])
            entry = Log(path, condition, line)
        self.conf.logs = (entry,) if self._first("log") else (*self.conf.logs, entry)

    def error_log(self, line: Line) -> None:
        """Of several the first."""
        if self._first("errors") and line.args:
            elsewhere = line.args[0].startswith(("syslog:", "memory:")) or line.args[0] == "stderr"
            self.conf.errors = None if elsewhere else self.absolute(line.args[0])

    def recursive(self, line: Line) -> None:
        self.conf.recursive_errors = _flag(line)

    def upstream(self, line: Line) -> None:
        self.conf.upstream = Upstream(line.name.removesuffix("_pass"), text_of(line.args[0]), line)
        # There is one maker of content: the one that is named last.
        self.conf.maker = None

    def maker(self, line: Line) -> None:
        self.conf.maker, self.conf.upstream = line, None

    def tries(self, line: Line) -> None:
        *tried, last = line.args
        code = int(last[1:]) if last.startswith("=") else None
        tries = tuple((text_of(word.removesuffix("/")), word.endswith("/")) for word in tried)
        self.conf.tries = TryFiles(tries, text_of(last), code, line)

    def internal(self, line: Line) -> None:
        self.conf.internal = True

    def expires(self, line: Line) -> None:
        self.conf.expires = line

    def underscored(self, line: Line) -> None:
        self.conf.underscores = line.args == ("on",)

    def odd_names(self, line: Line) -> None:
        self.conf.odd_names = line.args == ("off",)

    def validator(self, line: Line) -> None:
        self.conf.etag = line.args != ("off",)

    def header(self, line: Line) -> None:
        if self._first("header"):
            self.conf.cache_control = None
        name = line.args[0].lower()
        if name == "cache-control":
            self.conf.cache_control = line
        elif name in ("content-type", "location"):
            self.conf.unread.append(line)

    # --- rules ---

    def returns(self, line: Line) -> None:
        words = line.args
        if len(words) == 1 and not words[0].isdecimal():
            if not words[0].startswith(("http://", "https://", "$scheme")):
                raise ValueError(words[0])
            self.conf.rules.append(Return(302, text_of(words[0]), line))
            return
        text = text_of(words[1]) if len(words) > 1 else None
        self.conf.rules.append(Return(int(words[0]), text, line))

    def rewrite(self, line: Line) -> None:
        pattern, made, *flags = line.args
        flag = flags[0] if flags else ""
        if flag not in ("", "last", "break", "redirect", "permanent") or not made:
            raise ValueError(flag)
        keeps = not made.endswith("?")
        made = made if keeps else made[:-1]
        sends = flag in ("redirect", "permanent") or made.startswith(
            ("http://", "https://", "$scheme")
        )
        path, mark, query = (made, "", "") if sends else made.partition("?")
        self.conf.rules.append(
            Rewrite(
                _regex(pattern),
                pattern,
                text_of(path),
                text_of(query) if mark else None,
                flag,
                sends,
                keeps,
                line,
            )
        )

    def set(self, line: Line) -> None:
        name, value = line.args
        self.conf.rules.append(Set(name.removeprefix("$"), text_of(value), line))

    def stop(self, line: Line) -> None:
        self.conf.rules.append(BreakRule(line))

    def condition(self, line: Line) -> None:
        inner = Conf(line.quoted.removesuffix(" {"), line, self.conf.root)
        operator, left, right = _condition(line.args)
        regex = None
        if operator.endswith(("~", "~*")):
            regex = _regex(right or "", ignore_case=operator.endswith("*"))
        self._conditions.append(inner)
        self.conf.rules.append(
            If(
                operator,
                text_of(left),
                None if right is None else text_of(right),
                regex,
                inner,
                line,
            )
        )


def _flag(line: Line) -> bool:
    (word,) = line.args
    if word.lower() not in ("on", "off"):
        raise ValueError(word)
    return word.lower() == "on"


def _regex(pattern: str, *, ignore_case: bool = False) -> Regex | None:
    return compiled(
        pattern,
        ignore_case=ignore_case,
        dollar_only_end=False,
        dot_all=False,
        same_names=False,
        at_limit=AtLimit.FAILS,
    )


def regex_of(pattern: str, *, ignore_case: bool = False) -> Regex | None:
    """A pattern as the server compiles it; None where it is not evaluated."""
    return _regex(pattern, ignore_case=ignore_case)


def _condition(args: tuple[str, ...]) -> tuple[str, str, str | None]:
    """(operator, left, right) of the words in brackets. Raises ValueError."""
    words = list(args)
    if not words or not words[0].startswith("("):
        raise ValueError("condition")
    words[0] = words[0][1:]
    words[-1] = words[-1].removesuffix(")")
    words = [
        word
        for number, word in enumerate(words)
        if word or 0 < number < len(words) - 1 or number == 2
    ]
    if len(words) == 1 and words[0].startswith("$"):
        return "set", words[0], None
    if len(words) == 2 and words[0].lstrip("!") in ("-f", "-d", "-e", "-x"):
        return words[0], words[1], None
    if len(words) >= 2 and words[1] in ("=", "!=", "~", "~*", "!~", "!~*"):
        return words[1], words[0], words[2] if len(words) > 2 else ""
    raise ValueError("condition")


_TAKERS: dict[str, Callable[[ConfDraft, Line], None]] = {
    "root": ConfDraft.root,
    "alias": ConfDraft.alias,
    "index": ConfDraft.index,
    "autoindex": ConfDraft.listing,
    "autoindex_format": ConfDraft.listing_format,
    "error_page": ConfDraft.error_page,
    "allow": ConfDraft.access,
    "deny": ConfDraft.access,
    "auth_basic": ConfDraft.realm,
    "auth_basic_user_file": ConfDraft.passwords,
    "satisfy": ConfDraft.satisfy,
    "auth_request": ConfDraft.asks,
    "valid_referers": ConfDraft.referers,
    "types": ConfDraft.types,
    "default_type": ConfDraft.default_type,
    "charset": ConfDraft.charset,
    "charset_types": ConfDraft.charset_types,
    "absolute_redirect": ConfDraft.absolute_redirect,
    "server_name_in_redirect": ConfDraft.own_name,
    "port_in_redirect": ConfDraft.own_port,
    "disable_symlinks": ConfDraft.links,
    "access_log": ConfDraft.log,
    "error_log": ConfDraft.error_log,
    "recursive_error_pages": ConfDraft.recursive,
    "proxy_pass": ConfDraft.upstream,
    "fastcgi_pass": ConfDraft.upstream,
    "uwsgi_pass": ConfDraft.upstream,
    "scgi_pass": ConfDraft.upstream,
    "grpc_pass": ConfDraft.upstream,
    "memcached_pass": ConfDraft.upstream,
    "stub_status": ConfDraft.maker,
    "empty_gif": ConfDraft.maker,
    "try_files": ConfDraft.tries,
    "internal": ConfDraft.internal,
    "expires": ConfDraft.expires,
    "etag": ConfDraft.validator,
    "underscores_in_headers": ConfDraft.underscored,
    "ignore_invalid_headers": ConfDraft.odd_names,
    "add_header": ConfDraft.header,
    "return": ConfDraft.returns,
    "rewrite": ConfDraft.rewrite,
    "set": ConfDraft.set,
    "break": ConfDraft.stop,
    "if": ConfDraft.condition,
}


def first(lines: Sequence[Line], name: str) -> Line | None:
    """The first line of this name."""
    return next((line for line in lines if line.name == name), None)
