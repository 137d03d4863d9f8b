"""`ecumen agent`: the privileged part, on its socket."""

from __future__ import annotations

import fcntl
import grp
import os
import pwd

import click

from ecumen.errors import EcumenError
from ecumen_agent.protocol import SOCKET
from ecumen_cli.said import warn

STATE = "/var/lib/ecumen-agent"
BOUNDS = "/etc/ecumen/agent.toml"


@click.command()
@click.option("--socket", "path", default=SOCKET, show_default=True, help="Where it listens.")
@click.option("--state", default=STATE, show_default=True, help="Folder of the ledger.")
@click.option("--bounds", default=BOUNDS, show_default=True, help="File that widens the bounds.")
@click.option(
    "--account", default="ecumen", show_default=True, help="Who may ask, beside root: the web part."
)
def agent(path: str, state: str, bounds: str, account: str) -> None:
    """Applies plans within bounds, as root, and writes a ledger. What it was stopped at, it ends
    when it starts.
    """
    from ecumen_agent.applier import Applier
    from ecumen_agent.bounds import read_bounds
    from ecumen_agent.ledger import Ledger
    from ecumen_agent.server import Server, listening
    from ecumen_machine.hands import MachineHands

    if os.geteuid() != 0:
        raise EcumenError("the agent changes what belongs to others: start it as root")
    allowed = read_bounds(bounds)
    os.makedirs(state, mode=0o700, exist_ok=True)
    os.makedirs(os.path.dirname(path), mode=0o755, exist_ok=True)
    held = os.open(f"{state}/agent", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        raise EcumenError(f"another agent has {state}") from None
    uids, group = {0}, 0
    try:
        asking = pwd.getpwnam(account)
        uids.add(asking.pw_uid)
        group = grp.getgrgid(asking.pw_gid).gr_gid
    except KeyError:
        warn(f"there is no account {account}: root alone may ask")
    applier = Applier(Ledger(f"{state}/ledger.db"), MachineHands(), allowed, state)
    for outcome in applier.recover():
        warn(f"entry {outcome.entry}: {outcome.said}")
    ears = listening(path, group)
    warn(f"the agent listens at {path}")
    surveys = f"{os.path.dirname(path)}/surveys"
    Server(applier, frozenset(uids), surveys, group).serve(ears)
