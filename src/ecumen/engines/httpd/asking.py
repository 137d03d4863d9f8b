"""One question that the server answers: the visitor's own, or one that it asks itself on the way.

Source: httpd 2.4, "Request Processing in the Apache HTTP Server 2.x"; mod_rewrite, the list of
server variables.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from ecumen.engines.httpd.access import Judged
from ecumen.engines.httpd.hostname import HostHeader
from ecumen.engines.httpd.marks import Marks
from ecumen.engines.httpd.rewriting.run import RewriteSubject
from ecumen.engines.httpd.server import Host, Server
from ecumen.engines.httpd.settings import Settings
from ecumen.engines.httpd.uri import Address, escaped, read_path
from ecumen.engines.httpd.walk import Walked
from ecumen.engines.sites import Arrival


@dataclass(frozen=True, slots=True)
class Asking:
    """address: of this question; query: what stood behind `?`, None without one.

    lap: how often the server has begun anew. by_itself: it looks something up for another question.
    status: of an error whose page this is, else 200. env: variables set on the way. rewrites: rules
    are still asked. unknown: variables of which it is not known whether they are set. late: of
    which lines may say more once it was asked who may. before: the walk that the server made last
    for the same request. file: where the server asks itself for a file, and not for an address: its
    path, and what stands behind it. Names of variables are in lower case here.
    """

    arrival: Arrival
    host: Host
    header: HostHeader
    address: Address
    query: str | None
    method: str
    implied: tuple[str, ...] = ()
    lap: int = 0
    by_itself: bool = False
    status: int = 200
    env: Mapping[str, str | None] = field(default_factory=dict)
    rewrites: bool = True
    judged: Judged | None = None
    before: Walked | None = None
    unknown: frozenset[str] = frozenset()
    late: frozenset[str] = frozenset()
    # The document root, where the name that is asked for says where it is.
    root: str | None = None
    file: tuple[str, str] | None = None

    @property
    def path(self) -> str:
        return self.address.path

    def read(self, path: str) -> Address:
        """An address of this site, as the server reads it."""
        return read_path(path, self.host.settings.slashes or "off")

    def again(self, address: Address, query: str | None, **changes: object) -> Asking:
        """The next lap, with what was set on the way under its later name."""
        before, left_open = self._later()
        env = {f"redirect_{name}": value for name, value in before.items() if value is not None}
        env["redirect_status"] = str(changes.get("status", self.status))
        unknown = frozenset(f"redirect_{name}" for name in left_open)
        return replace(
            self,
            address=address,
            query=query,
            lap=self.lap + 1,
            by_itself=False,
            root=None,
            file=None,
            env=env,
            unknown=unknown,
            **changes,  # type: ignore[arg-type]
        )

    def _later(self) -> tuple[Mapping[str, str | None], frozenset[str]]:
        """Variables as the next question finds them: of those that late lines speak of it is left
        open what they are by then.
        """
        if not self.late:
            return self.env, self.unknown
        env = {name: value for name, value in self.env.items() if name not in self.late}
        return env, self.unknown | self.late

    def marked(self, marks: Marks) -> Asking:
        """The same question, with the variables that are set by now."""
        return replace(self, env=marks.values, unknown=marks.unknown)

    def aside(
        self, address: Address, query: str | None, judged: Judged | None, before: Walked | None
    ) -> Asking:
        """A question that the server asks itself, as for an index."""
        env, unknown = self._later()
        # By position: there is one for every name that is tried for an index.
        return Asking(
            self.arrival, self.host, self.header, address, query, "GET", self.implied, self.lap,
            True, self.status, env, self.rewrites, judged, before, unknown, self.late,
        )  # fmt: skip


# --- the name that a site gives as its own ---


def speaks_tls(asking: Asking) -> bool:
    """Whether the site takes itself to speak TLS: not so one without it, on a door that does."""
    return asking.arrival.sealed and asking.host.sealed is not None


def says_https(asking: Asking) -> bool:
    """Whether the site gives https as its own scheme: it speaks TLS, or is said to."""
    return speaks_tls(asking) or asking.host.sealed_outside


def own_name(asking: Asking, settings: Settings) -> str | None:
    """Where the site's own name stands in for it; None where only a resolver knows it."""
    named = asking.host.name or _implied_name(asking)
    if settings.canonical == "on":
        return named
    return asking.header.name or named


def own_port(asking: Asking, settings: Settings) -> int:
    """The port that the site gives as its own."""
    host, arrival = asking.host, asking.arrival
    physical = arrival.port if settings.physical_port else None
    # A block without a name takes the port that it is bound to; a name without one has none.
    bound = host.bindings[0].port if host.bindings else None
    named = host.name_port if host.name else bound
    usual = 443 if says_https(asking) else 80
    if settings.canonical == "on":
        return named or physical or usual
    asked = None if asking.by_itself else asking.header.port
    return asked or physical or named or usual


def own_address(asking: Asking, settings: Settings) -> str | None:
    """Scheme, name and port that the site gives as its own; None where it has no name."""
    name = own_name(asking, settings)
    if not name:
        return None
    scheme, usual = ("https", 443) if says_https(asking) else ("http", 80)
    port = own_port(asking, settings)
    return f"{scheme}://{name}" + ("" if port == usual else f":{port}")


def _implied_name(asking: Asking) -> str | None:
    """What a block without a name calls itself; None where only a resolver knows."""
    if asking.implied:
        return asking.implied[0]
    addresses = [binding.address for binding in asking.host.bindings]
    if addresses and (addresses[0].startswith("127.") or addresses[0] == "::1"):
        return "bogus_host_without_reverse_dns"
    return None


def is_ours(asking: Asking, name: str, port: int | None) -> bool:
    """Whether an address names this very site, so that the engine takes it for a path."""
    host = asking.host
    port = (443 if says_https(asking) else 80) if port is None else port
    for binding in host.bindings:
        if binding.port in (None, port) and binding.address.lower() == name.lower():
            return True
    own = host.name_port if host.name else (host.bindings[0].port if host.bindings else None)
    if port != (own or 0):
        return False
    return name.lower() in {each.lower() for each in (host.name or "", *host.names)}


class Asked:
    """What conditions may ask of a question. uri, args: as rules have changed them by then.

    filename: "" before it is known where the address leads.
    """

    def __init__(self, asking: Asking) -> None:
        self.asking = asking
        self.uri = asking.path
        self.args = asking.query
        self.settings = asking.host.settings
        self.filename = ""
        self.marks = Marks({k: v for k, v in asking.env.items() if v is not None}, asking.unknown)
        # Whether the address is still as it was sent.
        self.raw = True

    def mark(self, name: str) -> bool | None:
        return self.marks.holds(name)

    def told(self, about: str) -> str | None:
        """What marks may look at. Raises LookupError."""
        asking = self.asking
        match about:
            case "remote_addr" if self.client is not None:
                return self.client
            case "remote_addr" | "remote_host":
                raise LookupError(about)
            case "server_addr":
                return asking.arrival.address
            case "request_method":
                return asking.method
            case "request_protocol":
                return "HTTP/1.1"
            case "request_uri":
                return self._uri_by_now()
            case "host":
                return asking.arrival.host
        header_sent(about, asking)
        return asking.arrival.headers.get(about)

    def _uri_by_now(self) -> str:
        """At first just as it was sent, then as it was read and changed by rules."""
        if not self.raw:
            return self.uri
        if self.asking.lap == 0:
            return self.asking.arrival.path
        if escaped(self.uri) != self.uri:
            raise LookupError("request_uri")
        return self.uri

    @property
    def client(self) -> str | None:
        return self.asking.arrival.client

    def variable(self, name: str) -> str:
        if name == "REQUEST_URI":
            return self.uri
        if name == "QUERY_STRING":
            return self.args or ""
        if name in ("REQUEST_FILENAME", "SCRIPT_FILENAME"):
            return self.filename
        known = plain_variable(name, self.asking, self.settings)
        if known is None:
            raise LookupError(name)
        return known

    def header(self, name: str) -> str:
        return header_sent(name, self.asking)


# --- variables that rules may ask for ---

_HEADERS = {
    "HTTP_USER_AGENT": "user-agent",
    "HTTP_REFERER": "referer",
    "HTTP_COOKIE": "cookie",
    "HTTP_FORWARDED": "forwarded",
    "HTTP_ACCEPT": "accept",
    "HTTP_PROXY_CONNECTION": "proxy-connection",
}


class Variables:
    """What stands for a name in braces. Raises LookupError for what the survey cannot tell."""

    def __init__(self, asking: Asking, settings: Settings, server: Server) -> None:
        self.asking = asking
        self.settings = settings
        self.server = server
        self.prefix = ""
        self.context_root: str | None = None

    def __call__(self, name: str, subject: RewriteSubject) -> str:
        upper = name.upper()
        if len(name) < 4:
            return ""
        if upper.startswith("ENV:"):
            return self._environment(name[4:])
        if upper.startswith("HTTP:"):
            return self._header(name[5:].lower())
        if upper.startswith("SSL:") and not self.asking.arrival.sealed:
            return ""
        if ":" in name:
            raise LookupError(name)
        if upper in _HEADERS:
            return self._header(_HEADERS[upper])
        known = self._plain(upper, subject)
        if known is None:
            raise LookupError(name)
        return known

    def _header(self, name: str) -> str:
        return header_sent(name, self.asking)

    def _environment(self, name: str) -> str:
        if name.lower() in self.asking.unknown or name in ("PATH", "HTTPS", "TZ", "HOME"):
            raise LookupError(name)
        known = self.asking.env.get(name.lower())
        if known is not None:
            return known
        return ""

    def _plain(self, name: str, subject: RewriteSubject) -> str | None:
        asking = self.asking
        match name:
            case "REQUEST_URI":
                return subject.uri
            case "REQUEST_FILENAME" | "SCRIPT_FILENAME":
                return subject.filename
            case "PATH_INFO":
                return subject.path_info
            case "QUERY_STRING":
                return subject.args or ""
            case "CONTEXT_PREFIX":
                return self.prefix
            case "CONTEXT_DOCUMENT_ROOT":
                return self.context_root or asking.root or asking.host.root
        if name in _PLAIN:
            return plain_variable(name, asking, self.settings)
        # Words that the server does not know stand for nothing.
        # The server tells its variables apart by their length first (mod_rewrite, lookup_variable):
        # one of another length is none of its own.
        known_length = {4, 5, 8, 9, 10, 11, 12, 13, 14, 15, 16, 21}
        return None if len(name) in known_length else ""


_PLAIN = frozenset(
    """
    HTTP_HOST HTTPS REQUEST_SCHEME REQUEST_METHOD REMOTE_ADDR CONN_REMOTE_ADDR SERVER_ADDR
    SERVER_NAME SERVER_PORT SERVER_PROTOCOL DOCUMENT_ROOT THE_REQUEST IS_SUBREQ IPV6 REMOTE_USER
    AUTH_TYPE
    """.split()
)


def header_sent(name: str, asking: Asking) -> str:
    """A header of the request, by its name in lower case. Raises LookupError."""
    if name == "host":
        return asking.arrival.host or ""
    if name in ("connection", "content-length"):
        raise LookupError(name)
    return asking.arrival.headers.get(name, "")


def plain_variable(name: str, asking: Asking, settings: Settings) -> str | None:
    """What the request alone says. None, or LookupError, where that is not known."""
    arrival = asking.arrival
    match name:
        case "HTTP_HOST":
            return header_sent("host", asking)
        case "HTTPS":
            return "on" if arrival.sealed else "off"
        case "REQUEST_SCHEME":
            return "https" if says_https(asking) else "http"
        case "REQUEST_METHOD":
            return asking.method
        case "REMOTE_ADDR" | "CONN_REMOTE_ADDR":
            return arrival.client
        case "SERVER_ADDR":
            return arrival.address
        case "SERVER_NAME":
            return own_name(asking, settings)
        case "SERVER_PORT":
            return str(own_port(asking, settings))
        case "SERVER_PROTOCOL":
            return "HTTP/1.1"
        case "DOCUMENT_ROOT":
            return asking.root or asking.host.root
        case "THE_REQUEST":
            query = "" if arrival.query is None else f"?{arrival.query}"
            return f"{arrival.method} {arrival.path}{query} HTTP/1.1"
        case "IS_SUBREQ":
            return "true" if asking.by_itself else "false"
        case "IPV6":
            return "on" if arrival.client and ":" in arrival.client else "off"
        case "REMOTE_USER" | "AUTH_TYPE" if not arrival.signed_in:
            return ""
    return None
