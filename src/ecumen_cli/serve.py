"""`ecumen serve`: the web application with the stored records."""

from __future__ import annotations

import os
import pwd

import click

from ecumen_cli.rootless import AS_ROOT, NAMED, without_root
from ecumen_cli.said import say


@click.command()
@click.option("--port", default=8420, show_default=True, type=click.IntRange(1, 65535))
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
@NAMED
@AS_ROOT
def serve(port: int, host: str, account: str, as_root: bool) -> None:
    """Serves the web application with the stored records.

    Started as root, it becomes another account; a small part of it stays, and hands out logs.
    """
    from ecumen_machine import matching
    from ecumen_web import server

    listening = server.bound(host, port)
    keeper = without_root(account, as_root, keeps_logs=True)
    server.prepare()
    from django.conf import settings

    settings.KEEPER = keeper
    first = server.first_account("admin")
    say(f"Ecumen is at http://{host}:{port}/")
    if first.password is not None:
        say(
            f"First account: {first.name}, password: {first.password} (told this once; it must be "
            "changed at the first signing in)"
        )
    matcher = matching.start()
    kept_from = matcher.holds if matcher else "libpcre2-8 missing: most are not evaluated"
    say(f"Runs as {pwd.getpwuid(os.geteuid()).pw_name}; patterns are matched apart ({kept_from})")
    server.run(listening)
