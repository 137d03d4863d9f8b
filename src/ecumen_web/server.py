"""Starts the web application: a production server, as an account of its own, and the queue."""

from __future__ import annotations

import os
import secrets
import signal
import socket
import sys
import threading
from dataclasses import dataclass

import django
from django.core.management import call_command
from django.db import DatabaseError

from ecumen.errors import EcumenError

# Most of them wait for an answer that another process works out.
THREADS = 12
MOST_CONNECTIONS = 2000
# A connection that says nothing for so long is closed, however many there are (seconds).
SILENT = 10
LOOKED_AFTER = 3


class ServeError(EcumenError):
    """The application cannot be served as asked."""


def prepare(*, migrate: bool = True) -> None:
    """Makes Django and its database ready; called before anything of the store is imported."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ecumen_web.settings")
    django.setup()
    if not migrate:
        return
    try:
        call_command("migrate", verbosity=0, interactive=False)
    except DatabaseError as error:
        from django.conf import settings

        raise ServeError(f"{settings.HOME}: the records cannot be used ({error})") from error


@dataclass(frozen=True, slots=True)
class FirstAccount:
    """The first account's name, and its password where it was made just now: it is told once."""

    name: str
    password: str | None


def first_account(name: str) -> FirstAccount:
    """An account, if there is none at all. Its password must be changed at the first signing in."""
    from ecumen_web.store import people

    if people.any_there():
        return FirstAccount(name, None)
    password = secrets.token_urlsafe(12)
    people.add(name, password, administers=True)
    return FirstAccount(name, password)


def demo_account(name: str) -> str:
    """The account of the made-up server, with one password for this installation, which is shown
    at every start. Returns the password.
    """
    from ecumen_web.home import secret
    from ecumen_web.store import people

    password = secret(f"password-{name}", 9)
    if not people.is_there(name):
        people.add(name, password, administers=True, must_change=False)
    return password


def bound(host: str, port: int) -> socket.socket:
    """A listening socket: bound before root is left. Raises ServeError."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    listening = socket.socket(family, socket.SOCK_STREAM)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, port))
    except OSError as error:
        listening.close()
        raise ServeError(f"{host}, port {port}: {error.strerror}") from error
    listening.listen(1024)
    listening.setblocking(False)
    return listening


def run(listening: socket.socket) -> None:
    """Serves until a signal comes. Raises InUseError where another server has this home."""
    from django.conf import settings
    from waitress.server import create_server

    from ecumen_machine import matching
    from ecumen_web import answering
    from ecumen_web.front import Channel, to_clients
    from ecumen_web.locks import held
    from ecumen_web.queue import start_worker
    from ecumen_web.screens.countries import countries
    from ecumen_web.wsgi import application

    # What is set wrong is said at once.
    countries()
    # Before there are threads.
    matching.start()
    proxy = {}
    if settings.PROXY:
        headers = {"x-forwarded-for", "x-forwarded-proto"}
        proxy = {"trusted_proxy": settings.PROXY, "trusted_proxy_headers": headers}
    with held(settings.HOME / "serving.lock", "these records are being served"):
        worker = start_worker()
        answering.start()
        threading.Thread(target=answering.know, daemon=True).start()
        server = create_server(
            to_clients(application), sockets=[listening], threads=THREADS, ident=None,
            connection_limit=MOST_CONNECTIONS, channel_timeout=SILENT,
            cleanup_interval=LOOKED_AFTER, max_request_body_size=settings.LARGEST_UPLOAD + 1,
            clear_untrusted_proxy_headers=True, **proxy,
        )  # fmt: skip
        server.channel_class = Channel
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
        try:
            server.run()
        finally:
            worker.stop()
            answering.stop()
