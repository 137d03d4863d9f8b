"""What stands for a variable in a request.

Source: nginx, "Alphabetical index of variables"; ngx_http_map_module.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from ecumen.engines.nginx.server import Map, Server, Whole
from ecumen.engines.nginx.texts import Text
from ecumen.engines.sites import Arrival
from ecumen.patterns import Hit, TooCostly

# What never stands for the same from one request to the next, or is not in the survey.
_UNKNOWN = frozenset(
    """
    binary_remote_addr body_bytes_sent bytes_sent connection connection_requests connection_time
    content_length content_type date_gmt date_local hostname msec nginx_version pid pipe
    proxy_protocol_addr proxy_protocol_port proxy_protocol_server_addr proxy_protocol_server_port
    remote_port request_body request_body_file request_completion request_id request_length
    request_time status tcpinfo_rtt time_iso8601 time_local realip_remote_addr
    realip_remote_port limit_rate
""".split()
)
_UNKNOWN_FAMILIES = tuple(
    """
    ssl_ upstream_ proxy_ geoip_ sent_ tcpinfo_ secure_link session_ modern_browser
    ancient_browser msie uid_ limit_ fastcgi_ slice_ spdy http2 connections_ memcached_
""".split()
)
# Fields that have a place of their own, by their proper name alone.
_BY_NAME = frozenset(("user-agent", "referer", "via", "x-forwarded-for", "cookie"))
DEEPEST = 20
MOST_MAPPED = 5_000  # lookups in maps for one request: they can ask for each other


@dataclass(slots=True)
class RequestState:
    """What a request has come to by now. captures: of the last pattern that fitted. looked_up: what
    maps gave; they are asked once for a request, whatever becomes of it (measured).
    """

    arrival: Arrival
    server: Server
    whole: Whole
    host: str
    path: str
    query: str
    method: str
    # Of the request that another one is asked for, which is what its variable tells.
    main_method: str = ""
    root: str = ""
    filename: str = ""
    own: dict[str, str] = field(default_factory=dict)
    captures: Hit | None = None
    mapped: int = 0
    looked_up: dict[str, str] = field(default_factory=dict)

    def copied(self) -> RequestState:
        """As it is now: what the request comes to afterwards does not change it."""
        return replace(self, own=dict(self.own), looked_up=dict(self.looked_up))

    def value(self, name: str, deep: int = 0) -> str:
        """Raises LookupError for what the survey cannot tell."""
        if name.isdecimal():
            return self.captures.group(int(name)) if self.captures is not None else ""
        if name in self.own:
            return self.own[name]
        known = self._known(name)
        if known is not None:
            return known
        table = self.whole.maps.get(name)
        if table is not None and deep < DEEPEST:
            if name in self.looked_up:
                return self.looked_up[name]
            self.mapped += 1
            if self.mapped > MOST_MAPPED:
                raise LookupError(name)
            if isinstance(table, Map):
                found = self._mapped(table, deep)
            else:
                found = table.value(lambda name: self.value(name, deep + 1))
            if not table.volatile:
                self.looked_up[name] = found
            return found
        if name in self.whole.defined or name in _UNKNOWN or name.startswith(_UNKNOWN_FAMILIES):
            raise LookupError(name)
        return ""

    def _mapped(self, table: Map, deep: int) -> str:
        key = table.source.value(lambda name: self.value(name, deep + 1))
        found = table.exact.get(key.lower())
        if found is None and table.hosts:
            found = _by_host(table, key.lower())
        if found is None:
            for regex, value in table.patterns:
                try:
                    if regex is None:
                        raise LookupError("pattern")
                    hit = regex.search(key)
                except TooCostly:
                    raise LookupError("pattern") from None
                if hit is not None:
                    self.captured(hit)
                    found = value
                    break
        return (found or table.default).value(lambda name: self.value(name, deep + 1))

    def captured(self, hit: Hit) -> None:
        """A pattern fitted: its captures can be asked for from now on."""
        self.captures = hit
        self.own.update(hit.named)

    def _known(self, name: str) -> str | None:
        arrival = self.arrival
        match name:
            case "uri" | "document_uri":
                return self.path
            case "args" | "query_string":
                return self.query
            case "is_args":
                return "?" if self.query else ""
            case "request_uri":
                return arrival.path + ("" if arrival.query is None else f"?{arrival.query}")
            case "request":
                return f"{arrival.method} {self.value('request_uri')} HTTP/1.1"
            case "request_method":
                return self.main_method or self.method
            case "scheme":
                return "https" if arrival.sealed else "http"
            case "https":
                return "on" if arrival.sealed else ""
            case "host":
                return self.host or self.server.first_name
            case "server_name":
                return self.server.first_name
            case "server_port":
                return str(arrival.port)
            case "server_addr":
                return arrival.address
            case "server_protocol":
                return "HTTP/1.1"
            case "remote_addr":
                if arrival.client is None:
                    raise LookupError(name)
                return arrival.client
            case "remote_user":
                if arrival.signed_in:
                    raise LookupError(name)
                return ""
            case "document_root" | "realpath_root":
                if name == "realpath_root" or not self.root:
                    raise LookupError(name)
                return self.root
            case "request_filename":
                if not self.filename:
                    raise LookupError(name)
                return self.filename
        return self._of_request(name, arrival.headers)

    def _of_request(self, name: str, headers: Mapping[str, str]) -> str | None:
        if name == "http_host":
            return self.arrival.host or ""
        if name.startswith("http_"):
            header = name[5:].replace("_", "-").lower()
            if header in ("connection", "content-length", "authorization"):
                raise LookupError(name)
            return self._field(header, headers)
        if name.startswith("cookie_"):
            return _cookie(headers.get("cookie", ""), name[7:])
        if name.startswith("arg_"):
            for pair in self.query.split("&"):
                key, equals, value = pair.partition("=")
                if equals and key.lower() == name[4:].lower():
                    return value
            return ""
        return None

    def _field(self, wanted: str, headers: Mapping[str, str]) -> str:
        """A header field by its name with hyphens. One with an underscore is passed over unless the
        server says otherwise; then it is as good as one with a hyphen
        (ngx_http_variable_unknown_header, ngx_http_process_request_headers).
        """
        conf = self.server.conf
        takes = (conf.underscores or conf.odd_names) and wanted not in _BY_NAME
        found = [
            value
            for name, value in headers.items()
            if name == wanted or (takes and name.replace("_", "-") == wanted)
        ]
        if len(found) > 1:
            # Joined by some releases, and the first one taken by others.
            raise LookupError(wanted)
        return found[0] if found else ""


def _cookie(text: str, name: str) -> str:
    for part in text.split(";"):
        key, equals, value = part.strip().partition("=")
        if equals and key.lower() == name.lower():
            return value
    return ""


def _by_host(table: Map, host: str) -> Text | None:
    labels = host.split(".")
    for number in range(len(labels)):
        ending = ".".join(labels[number:])
        for key in (f".{ending}", *((f"*.{ending}",) if number else ())):
            if key in table.exact:
                return table.exact[key]
    for number in range(len(labels) - 1, 0, -1):
        key = ".".join(labels[:number]) + ".*"
        if key in table.exact:
            return table.exact[key]
    return None
