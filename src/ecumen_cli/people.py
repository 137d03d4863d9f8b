"""`ecumen people`: who may sign in."""

from __future__ import annotations

import secrets
import sys

import click

from ecumen_cli.rootless import AS_ROOT, NAMED, without_root
from ecumen_cli.said import say, warn

FROM_INPUT = click.option(
    "--from-input", is_flag=True, help="Read the password from standard input; else one is made."
)


@click.group()
def people() -> None:
    """Who may sign in to the web application."""


def _password(from_input: bool) -> tuple[str, bool]:
    """The password, and whether it was made here and must be told."""
    if from_input:
        given = sys.stdin.readline().rstrip("\n")
        if len(given) < 8:
            raise click.UsageError("a password has at least 8 letters")
        return given, False
    return secrets.token_urlsafe(12), True


def _ready(account: str, as_root: bool) -> None:
    without_root(account, as_root)
    from ecumen_web import server

    server.prepare()


@people.command()
@click.argument("name")
@FROM_INPUT
@NAMED
@AS_ROOT
def add(name: str, from_input: bool, account: str, as_root: bool) -> None:
    """Lets somebody sign in, with a password that must be changed then."""
    password, told = _password(from_input)
    _ready(account, as_root)
    from ecumen_web.store import people as store

    store.add(name, password, administers=True)
    if told:
        say(password)
    warn(f"{name} may sign in, and chooses a password then")


@people.command()
@click.argument("name")
@FROM_INPUT
@NAMED
@AS_ROOT
def password(name: str, from_input: bool, account: str, as_root: bool) -> None:
    """Gives somebody another password, that must be changed at the next signing in; all sessions of
    that person end.
    """
    given, told = _password(from_input)
    _ready(account, as_root)
    from ecumen_web.store import people as store

    store.set_password(name, given)
    if told:
        say(given)
    warn(f"{name} has another password, and chooses one when signing in")


@people.command()
@click.argument("name")
@NAMED
@AS_ROOT
def close(name: str, account: str, as_root: bool) -> None:
    """Lets somebody sign in no more; all sessions of that person end."""
    _ready(account, as_root)
    from ecumen_web.store import people as store

    store.close(name)
    warn(f"{name} may not sign in any more")
