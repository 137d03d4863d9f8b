"""What reads records or serves them is never root, unless it is told to."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from ecumen_machine.keeper import KeeperDoor

NAMED = click.option(
    "--account",
    default="ecumen",
    show_default=True,
    help="Started as root: the account to become.",
)
AS_ROOT = click.option(
    "--as-root", is_flag=True, help="Stay root all the same: for trying things out alone."
)


def without_root(account: str, as_root: bool, *, keeps_logs: bool = False) -> KeeperDoor | None:
    """Leaves root, if this is root. Returns the way to the part that may still read logs, where
    that is wanted. Raises AccountError.
    """
    if os.geteuid() != 0 or as_root:
        return None
    from ecumen_machine import keeper
    from ecumen_web.account import account as named
    from ecumen_web.account import leave_root
    from ecumen_web.home import place

    to = named(account)
    door = keeper.start() if keeps_logs else None
    leave_root(to, place())
    return door
