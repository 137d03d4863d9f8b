"""The real server: started on loopback, asked over a bare socket."""

from __future__ import annotations

import shutil
import socket
import ssl
import subprocess
import time
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

PATIENCE = 20.0  # seconds; some programs are tried for long on a busy machine


@dataclass(frozen=True)
class Seen:
    """What came back. status None: no answer."""

    status: int | None
    headers: dict[str, str]


@contextmanager
def _running(name: str, options: list[str], address: str, port: int) -> Iterator[None]:
    """The server runs in the foreground until the block is left."""
    program = shutil.which(name, path="/usr/sbin:/usr/bin")
    assert program is not None
    # In a session of its own: some end their whole group of processes with themselves.
    process = subprocess.Popen(
        [program, *options],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        start_new_session=True,
    )
    try:
        _wait(process, address, port)
        yield
    finally:
        process.terminate()
        process.communicate(timeout=20)


def httpd(config: Path, address: str, port: int) -> AbstractContextManager[None]:
    """The server, until the block is left; it answers at this address by then."""
    return _running("apache2", ["-f", str(config), "-DFOREGROUND"], address, port)


def nginx(config: Path, address: str, port: int) -> AbstractContextManager[None]:
    """The server, until the block is left; it answers at this address by then."""
    log = str(config.parent / "logs/first")
    options = ["-c", str(config), "-g", "daemon off;", "-e", log]
    return _running("nginx", options, address, port)


def _wait(process: subprocess.Popen[bytes], address: str, port: int) -> None:
    until = time.monotonic() + 20
    while time.monotonic() < until:
        if process.poll() is not None:
            assert process.stderr is not None
            raise RuntimeError(process.stderr.read().decode())
        try:
            socket.create_connection((address, port), 1).close()
            return
        except OSError:
            time.sleep(0.05)
    raise RuntimeError("the server did not start")


def ask(row: dict[str, object]) -> Seen:
    """Sends one request of the batch format as it stands."""
    parts = urlsplit(str(row["url"]))
    raw = str(row["url"]).partition("://")[2]
    target = "/" + raw.partition("/")[2] if "/" in raw else "/"
    host = row.get("host")
    if host is None:
        host = parts.netloc
    lines = [f"{row.get('method', 'GET')} {target} HTTP/1.1"]
    if host != "":
        lines.append(f"Host: {host}")
    headers = row.get("headers")
    if isinstance(headers, dict):
        lines += [f"{key}: {value}" for key, value in headers.items()]
    lines += ["Connection: close", "Content-Length: 0", "", ""]
    assert parts.port is not None
    try:
        with socket.create_connection((str(row["to"]), parts.port), PATIENCE) as plain:
            plain.settimeout(PATIENCE)
            sealed = parts.scheme == "https"
            with _sealed(plain, row, parts.hostname or "") if sealed else plain as link:
                link.sendall("\r\n".join(lines).encode())
                return _read(link)
    except OSError:
        return Seen(None, {})


def _sealed(link: socket.socket, row: dict[str, object], name: str) -> ssl.SSLSocket:
    """Whatever certificate is shown is taken. No name is sent for an address that is a number."""
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    sent = row.get("sni", name)
    number = name.replace(".", "").isdigit() or ":" in name
    named = None if number and "sni" not in row else str(sent) or None
    return context.wrap_socket(link, server_hostname=named)


def _read(link: socket.socket) -> Seen:
    data = b""
    while b"\r\n\r\n" not in data:
        more = link.recv(65536)
        if not more:
            break
        data += more
    head = data.partition(b"\r\n\r\n")[0].decode("utf-8", "surrogateescape").split("\r\n")
    if not head[0].startswith("HTTP/"):
        return Seen(None, {})
    # To the end, so that the server's log line is written before the next request.
    while link.recv(65536):
        pass
    headers = {}
    for line in head[1:]:
        key, _, value = line.partition(":")
        headers.setdefault(key.strip().lower(), value.strip(" \t\r"))
    return Seen(int(head[0].split()[1]), headers)
