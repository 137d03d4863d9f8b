"""The one way to the terminal: whatever owners wrote is shown, and nothing of it acts."""

from __future__ import annotations

import click


def printable(text: str) -> str:
    """Text of a surveyed server, made harmless for a terminal: one line, each control character,
    and what turns the direction of writing, as its escape.
    """
    return "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in text)


def say(text: str, *, err: bool = False) -> None:
    """Prints one line. Lone surrogates, for bytes that are no UTF-8, are escaped too."""
    click.echo(printable(text), err=err)


def warn(text: str) -> None:
    """Prints one line beside the data."""
    say(text, err=True)
