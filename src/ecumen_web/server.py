"""Starts the web application: a production server on loopback, and the queue's worker."""

from __future__ import annotations

import os
import signal
import sys

import django
from django.core.management import call_command


def prepare() -> None:
    """Makes Django and its database ready; called before anything of the store is imported."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ecumen_web.settings")
    django.setup()
    call_command("migrate", verbosity=0, interactive=False)


def ensure_account(name: str) -> str:
    """An account by this name with a password of this installation. Returns the password."""
    from django.contrib.auth import get_user_model

    from ecumen_web.home import secret

    password = secret(f"password-{name}", 9)
    users = get_user_model().objects
    if not users.filter(username=name).exists():
        users.create_user(username=name, password=password)
    # It is the administrator's, who may see visitors' addresses whole.
    users.filter(username=name).update(is_staff=True)
    return password


def run(host: str, port: int) -> None:
    """Serves until a signal comes."""
    import waitress

    from ecumen_web.queue import start_worker
    from ecumen_web.store.countries import countries
    from ecumen_web.wsgi import application

    # What is set wrong is said at once.
    countries()

    worker = start_worker()
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    try:
        waitress.serve(application, host=host, port=port, threads=8, ident=None)
    finally:
        worker.stop()
