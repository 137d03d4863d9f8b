"""Asking servers that answer in odd ways: each gives a reply in words, and none holds us up."""

from __future__ import annotations

import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from ecumen.errors import RequestError
from ecumen.passage import read_request
from ecumen_machine import asking
from ecumen_machine.asking import Reply, ask

Behave = Callable[[socket.socket], None]


@contextmanager
def serving(behave: Behave, context: ssl.SSLContext | None = None) -> Iterator[int]:
    """One answer at a time, on a free port of loopback."""
    with socket.create_server(("127.0.0.1", 0)) as door:

        def work() -> None:
            with suppress(OSError):
                while True:
                    link, _ = door.accept()
                    with suppress(OSError):
                        sealed = context.wrap_socket(link, server_side=True) if context else link
                        with sealed:
                            behave(sealed)

        threading.Thread(target=work, daemon=True).start()
        yield int(door.getsockname()[1])


def asked(behave: Behave, url: str = "http://a.test/", **more: str) -> Reply:
    with serving(behave) as port:
        return ask(read_request(url, **more), "127.0.0.1", port)


def sends(data: bytes) -> Behave:
    def behave(link: socket.socket) -> None:
        link.recv(65536)
        link.sendall(data)

    return behave


def test_what_is_sent_is_what_a_browser_sends_and_no_more() -> None:
    seen: list[bytes] = []

    def behave(link: socket.socket) -> None:
        seen.append(link.recv(65536))
        link.sendall(b"HTTP/1.1 204 x\r\n\r\n")

    assert asked(behave, "http://a.test:8080/p?q=%20", host="b.test").status == 204
    assert seen[0].split(b"\r\n") == [
        b"GET /p?q=%20 HTTP/1.1", b"Host: b.test", b"Connection: close", b"", b"",
    ]  # fmt: skip
    for method in ("POST", "DELETE", "PUT"):
        with pytest.raises(RequestError, match="change nothing"):
            asked(behave, method=method)
    assert len(seen) == 1


@pytest.mark.parametrize(
    ("data", "trouble"),
    [
        (b"", "the server hung up without an answer"),
        (b"no http at all\r\n\r\n", "what came back is no HTTP"),
        (b"HTTP/1.1 999999 x\r\n\r\n", "what came back is no HTTP"),
        (b"HTTP/1.1 200 x\r\n" + b"A: b\r\n" * 200 + b"\r\n", "got more than 100 headers"),
        (b"HTTP/1.1 200 " + b"x" * 70_000 + b"\r\n\r\n", "got more than 65536 bytes"),
    ],
)
def test_odd_answers_are_told_in_words(data: bytes, trouble: str) -> None:
    reply = asked(sends(data))
    assert reply.status is None
    assert trouble in reply.trouble


def test_what_was_answered_holds_though_the_body_breaks_off() -> None:
    head = b"HTTP/1.1 302 x\r\nLocation: /there\r\nContent-Type: a/b\r\n"
    for rest in (b"Content-Length: 99\r\n\r\nshort", b"Transfer-Encoding: chunked\r\n\r\nzz\r\n"):
        reply = asked(sends(head + rest))
        assert (reply.status, reply.location, reply.content_type) == (302, "/there", "a/b")


def test_a_silent_server_and_one_that_drips_do_not_hold_us_up(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(asking, "PATIENCE", 0.3)
    monkeypatch.setattr(asking, "IN_ALL", 0.8)
    done = threading.Event()

    def silent(link: socket.socket) -> None:
        done.wait(5)

    def drips(link: socket.socket) -> None:
        for byte in b"HTTP/1.1 200 x\r\n" + b"A: bbbbbbbbb\r\n" * 90:
            link.sendall(bytes([byte]))
            time.sleep(0.1)

    for behave in (silent, drips):
        began = time.monotonic()
        reply = asked(behave)
        assert reply.trouble == "no answer came in time"
        assert time.monotonic() - began < 4
    done.set()


def test_nobody_listening_is_refused() -> None:
    with socket.create_server(("127.0.0.1", 0)) as door:
        port = int(door.getsockname()[1])
    reply = ask(read_request("http://a.test/"), "127.0.0.1", port)
    assert reply == Reply("", trouble="the connection was refused")


def test_tls_is_spoken_with_the_name_and_any_certificate_is_taken(tmp_path: Path) -> None:
    key, shown = tmp_path / "key", tmp_path / "cert"
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "1", "-subj",
               "/CN=other.test", "-keyout", str(key), "-out", str(shown)]  # fmt: skip
    subprocess.run(command, check=True, capture_output=True)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(shown, key)
    names: list[str | None] = []
    context.sni_callback = lambda _link, name, _context: names.append(name)
    answer = sends(b"HTTP/1.1 200 x\r\nContent-Length: 0\r\n\r\n")
    with serving(answer, context) as port:
        for url in ("https://a.test/", "https://127.0.0.1/"):
            assert ask(read_request(url), "127.0.0.1", port).status == 200
    # A number is no name (RFC 6066, section 3).
    assert names == ["a.test", None]
    assert "cannot stand" in asked(answer, "https://a.test/", server_name=".a.test").trouble
    reply = asked(sends(b"HTTP/1.1 400 x\r\n\r\n"), "https://a.test/")
    assert reply.status is None
    assert "no TLS connection came about" in reply.trouble
