"""Asks a real server: one request over a connection of its own, nothing followed, nothing kept.

Source: RFC 9112, sections 3.2 and 9.6; RFC 7239.
"""

from __future__ import annotations

import http.client
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass

from ecumen.errors import RequestError
from ecumen.passage.request import Request, greeting

PATIENCE = 10.0  # seconds, for each step
IN_ALL = 30.0  # seconds: a server that sends a byte now and then does not hold us up
MOST_READ = 1 << 20  # bytes of the answer's body, so that the server's log line is whole
# Asking must not change anything on the server (RFC 9110, section 9.2.1).
SAFE = ("GET", "HEAD", "OPTIONS")


@dataclass(frozen=True, slots=True)
class Reply:
    """What a server answered. status: None where no HTTP answer came, and trouble says why.

    asked_from: the address that the server saw; "" where no connection came about.
    """

    asked_from: str
    status: int | None = None
    content_type: str | None = None
    location: str | None = None
    trouble: str = ""


def ask(request: Request, address: str, port: int | None = None, *, proxied: bool = False) -> Reply:
    """Sends the request to an address. port: another than the request's own.

    proxied: the whole address stands in the request line, the visitor's in a header, and no TLS is
    spoken: for the stand-in.
    Raises RequestError for a method that may change something.
    """
    if request.method not in SAFE:
        raise RequestError(f"only {', '.join(SAFE)} are sent to the server: they change nothing")
    try:
        link = socket.create_connection((address, port or request.port), PATIENCE)
    except OSError as error:
        return Reply("", trouble=_why(error))
    asked_from = str(link.getsockname()[0])
    sealed = request.scheme == "https" and not proxied
    if sealed and not _is_sayable(greeting(request)):
        link.close()
        return Reply(asked_from, trouble="the name cannot stand in a TLS greeting")
    channel = _sealed(link, request) if sealed else link
    with channel, _limited(channel) as late:
        try:
            if isinstance(channel, ssl.SSLSocket):
                channel.do_handshake()
            return _answer(channel, request, asked_from, proxied)
        except (OSError, http.client.HTTPException) as error:
            return Reply(asked_from, trouble=_why(TimeoutError() if late.is_set() else error))


@contextmanager
def _limited(link: socket.socket) -> Iterator[threading.Event]:
    """Shuts the connection when its time is up; the event says whether it was."""
    late = threading.Event()

    def shut() -> None:
        late.set()
        with suppress(OSError):
            link.shutdown(socket.SHUT_RDWR)

    timer = threading.Timer(IN_ALL, shut)
    timer.daemon = True
    timer.start()
    try:
        yield late
    finally:
        timer.cancel()


def _sealed(link: socket.socket, request: Request) -> ssl.SSLSocket:
    """Whatever certificate is shown is taken: what it is worth is another question."""
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    name = greeting(request)
    return context.wrap_socket(link, server_hostname=name, do_handshake_on_connect=False)


def _is_sayable(name: str | None) -> bool:
    try:
        return name is None or (bool(name.encode("idna")) and not name.startswith("."))
    except UnicodeError:
        return False


def _answer(link: socket.socket, request: Request, asked_from: str, proxied: bool) -> Reply:
    asking = http.client.HTTPConnection(request.name)
    asking.sock = link
    target = request.path if request.query is None else f"{request.path}?{request.query}"
    if proxied:
        port = f":{request.port}" if request.port_given else ""
        target = f"{request.scheme}://{request.name}{port}{target}"
    asking.putrequest(request.method, target, skip_host=True, skip_accept_encoding=True)
    if request.host_header is not None:
        asking.putheader("Host", request.host_header)
    for name, value in request.headers.items():
        if name.lower() != "host":
            asking.putheader(name, value)
    if proxied and request.source is not None:
        asking.putheader("Forwarded", f"for={_node(request.source)}")
    asking.putheader("Connection", "close")
    asking.endheaders()
    came = asking.getresponse()
    # A body that breaks off changes nothing of what was answered.
    with suppress(OSError, http.client.HTTPException):
        came.read(MOST_READ)
    return Reply(
        asked_from, came.status, came.getheader("Content-Type"), came.getheader("Location")
    )


def _node(address: str) -> str:
    """RFC 7239, section 6."""
    return f'"[{address}]"' if ":" in address else address


def _why(error: Exception) -> str:
    if isinstance(error, TimeoutError):
        return "no answer came in time"
    if isinstance(error, ConnectionRefusedError):
        return "the connection was refused"
    if isinstance(error, http.client.RemoteDisconnected | ConnectionResetError):
        return "the server hung up without an answer"
    if isinstance(error, ssl.SSLError):
        return f"no TLS connection came about: {error.reason or error}"
    if isinstance(error, http.client.BadStatusLine):
        return "what came back is no HTTP"
    return str(error) or type(error).__name__
