"""The question: an address, and how it is asked.

Source: RFC 3986; RFC 9110, section 7.2. What a browser escapes is escaped here too.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from ecumen.errors import RequestError

_SHAPE = re.compile(
    r"(?:(?P<scheme>[A-Za-z][A-Za-z0-9+.-]*)://)?(?P<host>[^/?#]*)(?P<rest>.*)", re.S
)
_USUAL = re.compile(
    r"(https?)://((?:[a-z0-9_-]+\.)+[a-z][a-z0-9_-]*)(?::([1-9][0-9]{0,3}))?(/[a-z0-9/._~-]{0,999})"
)
LONGEST_URL = 65536
_PORTS = {"http": 80, "https": 443}
# The methods are case-sensitive tokens (RFC 9110, section 9.1).
_METHOD = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]{1,40}\Z")


@dataclass(frozen=True, slots=True)
class Request:
    """One request. path: as sent, from `/`. to: the server's address, None to look the name up.

    source: the visitor's address, None for somebody outside. host: overrides the Host header; an
    empty text sends none. server_name: overrides the TLS name.
    """

    url: str
    scheme: str
    name: str
    port: int
    port_given: bool
    path: str
    query: str | None
    method: str = "GET"
    to: str | None = None
    source: str | None = None
    host: str | None = None
    server_name: str | None = None
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def key(self) -> tuple[object, ...]:
        """What the answer depends on."""
        return (
            self.scheme,
            self.name,
            self.port,
            self.port_given,
            self.path,
            self.query,
            self.method,
            self.to,
            self.source,
            self.host,
            self.server_name,
            tuple(self.headers.items()) if self.headers else (),
        )

    @property
    def host_header(self) -> str | None:
        """The Host header as it is sent; None where none is."""
        if self.host is not None:
            return self.host or None
        for key, value in self.headers.items():
            if key.lower() == "host":
                return value
        return f"{self.name}:{self.port}" if self.port_given else self.name

    @property
    def signed_in(self) -> bool:
        return any(key.lower() == "authorization" for key in self.headers)


def read_request(
    url: str,
    *,
    method: str = "GET",
    to: str | None = None,
    source: str | None = None,
    host: str | None = None,
    server_name: str | None = None,
    headers: Mapping[str, str] | None = None,
) -> Request:
    """Raises RequestError with one line that says what is wrong with the question."""
    # Batches are made of such questions; the short pattern takes a fifth of the long way's time.
    if method == "GET" and source is host is server_name is None and not headers:
        usual = _USUAL.fullmatch(url)
        if usual is not None:
            return _plain(usual, to)
    if len(url) > LONGEST_URL:
        raise RequestError(f"the address is longer than {LONGEST_URL} characters")
    match = _SHAPE.fullmatch(url.strip())
    if match is None or not match["host"]:
        raise RequestError(f"{_short(url)} is no address: write http://name/path")
    scheme = (match["scheme"] or "http").lower()
    if scheme not in _PORTS:
        raise RequestError(f"{_short(url)}: only http and https addresses can be followed")
    if not _METHOD.match(method):
        raise RequestError(f"{_short(method)} is no method")
    # Browsers send no user information of an address on the wire (RFC 9110, section 4.2.4).
    name, port = _authority(match["host"].rpartition("@")[2], url)
    path, query = _path(match["rest"])
    server, server_port = _target(to)
    return Request(
        url=url.strip(),
        scheme=scheme,
        name=name,
        port=server_port or port or _PORTS[scheme],
        # The browser leaves the usual port out; the Host header says what the address says.
        port_given=port is not None and port != _PORTS[scheme],
        path=path,
        query=query,
        method=method,
        to=server,
        source=_address(source) if source else None,
        host=_header(scheme, name, port, server_port, host),
        server_name=server_name,
        headers=dict(headers or {}),
    )


def _plain(match: re.Match[str], to: str | None) -> Request:
    """A question as most are put: what the long way would make of it."""
    scheme, name, given, path = match.groups()
    server, server_port = _target(to)
    port = None if given is None else int(given)
    usual = _PORTS[scheme]
    return Request(
        url=match[0],
        scheme=scheme,
        name=name,
        port=server_port or port or usual,
        port_given=port is not None and port != usual,
        path=path,
        query=None,
        to=server,
        host=_header(scheme, name, port, server_port, None),
    )


def greeting(request: Request) -> str | None:
    """The name in the TLS greeting: none for an address that is a number, which no library puts
    there, whoever asks for it (RFC 6066, section 3).
    """
    name = request.name if request.server_name is None else request.server_name
    return None if not name or _is_number(name) else name


@lru_cache(maxsize=4096)
def _is_number(name: str) -> bool:
    try:
        ipaddress.ip_address(name.strip("[]"))
    except ValueError:
        return False
    return True


def _header(
    scheme: str, name: str, port: int | None, server_port: int | None, host: str | None
) -> str | None:
    """The Host header where it is not simply what name and port of the connection say."""
    if host is not None or server_port is None:
        return host
    return name if port is None or port == _PORTS[scheme] else f"{name}:{port}"


def _short(text: str) -> str:
    return ascii(text if len(text) < 80 else text[:77] + "...")


def _authority(text: str, url: str) -> tuple[str, int | None]:
    if text.startswith("["):
        literal, bracket, rest = text.partition("]")
        name, port = literal + bracket, rest.removeprefix(":")
    else:
        name, _, port = text.partition(":")
    if not name or (
        # Cut before it is read: int() of a text of megabytes takes seconds.
        port and not (port.isascii() and port.isdecimal() and 0 < int(port[:6]) < 65536)
    ):
        raise RequestError(f"{_short(url)}: the name or port cannot be understood")
    try:
        # Names outside ASCII go over the wire as their A-labels (RFC 5891).
        sent = name if name.isascii() else name.encode("idna").decode("ascii")
    except UnicodeError:
        raise RequestError(f"{_short(url)}: the name cannot be understood") from None
    return sent, int(port) if port else None


def _path(rest: str) -> tuple[str, str | None]:
    # A fragment never leaves the browser (RFC 9110, section 7.1).
    rest = rest.partition("#")[0]
    path, mark, query = rest.partition("?")
    return _sent(path or "/"), _sent(query) if mark else None


_SENT_AS_IS = re.compile(r"[!#-;=?-~]*\Z")


def _sent(text: str) -> str:
    """As a browser sends it: bytes outside ASCII, blanks and quotes are escaped."""
    if _SENT_AS_IS.match(text):
        return text
    data = text.encode("utf-8", "surrogateescape")
    return "".join(
        chr(byte) if 0x20 < byte < 0x7F and byte not in b'"<>' else f"%{byte:02X}" for byte in data
    )


_PLAIN = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~/")


def escaped_path(path: str) -> str:
    """A path on disk as it stands in an address (RFC 3986, section 2.1)."""
    data = path.encode("utf-8", "surrogateescape")
    return "".join(chr(byte) if byte in _PLAIN else f"%{byte:02X}" for byte in data)


@lru_cache(maxsize=4096)
def _target(to: str | None) -> tuple[str | None, int | None]:
    if to is None or to == "":
        return None, None
    if to.startswith("["):
        literal, _, rest = to[1:].partition("]")
        address, port = literal, rest.removeprefix(":")
    # More than one colon and no bracket: a bare address of IPv6, which has no port then.
    elif to.count(":") == 1:
        address, _, port = to.partition(":")
    else:
        address, port = to, ""
    if port and not (port.isascii() and port.isdecimal() and 0 < int(port[:6]) < 65536):
        raise RequestError(f"{_short(to)}: the port cannot be understood")
    return _address(address), int(port) if port else None


@lru_cache(maxsize=4096)
def _address(text: str) -> str:
    try:
        return str(ipaddress.ip_address(text))
    except ValueError:
        raise RequestError(
            f"{_short(text)} is no address: write 192.0.2.7 or 2001:db8::7"
        ) from None


_KEYS: Mapping[str, tuple[type, ...]] = {
    "url": (str,),
    "method": (str,),
    "to": (str,),
    "from": (str,),
    "host": (str,),
    "sni": (str,),
    "headers": (dict,),
}


def request_of(row: Mapping[str, Any]) -> Request:
    """A request from a row of the batch format. Raises RequestError."""
    for key, kinds in _KEYS.items():
        if row.get(key) is not None and not isinstance(row[key], kinds):
            raise RequestError(f"{key} must be {kinds[0].__name__}")
    if not row.get("url"):
        raise RequestError("url is missing")
    headers = row.get("headers") or {}
    if not all(isinstance(value, str) for value in headers.values()):
        raise RequestError("headers must be texts")
    return read_request(
        row["url"],
        method=row.get("method") or "GET",
        to=row.get("to"),
        source=row.get("from"),
        host=row.get("host"),
        server_name=row.get("sni"),
        headers=headers,
    )
