"""Leaving root for the account that the web application runs as."""

from __future__ import annotations

import ctypes
import os
import pwd
import sysconfig
from dataclasses import dataclass
from pathlib import Path

from ecumen.errors import EcumenError
from ecumen_machine.handles import reached

USUAL = "ecumen"
_NO_NEW_PRIVS = 38


class AccountError(EcumenError):
    """There is no account to run as, or it may not reach what it needs."""


@dataclass(frozen=True, slots=True)
class ServiceAccount:
    name: str
    uid: int
    gid: int


def account(name: str) -> ServiceAccount:
    """Raises AccountError."""
    try:
        row = pwd.getpwnam(name)
    except KeyError:
        raise AccountError(
            f"the web application never runs as root, and there is no account {name} for it: make "
            f"one with 'useradd --system {USUAL}', name another with --account, or say --as-root"
        ) from None
    if row.pw_uid == 0:
        raise AccountError(f"{name} is root: name another account, or say --as-root")
    return ServiceAccount(name, row.pw_uid, row.pw_gid)


def leave_root(to: ServiceAccount, home: Path) -> None:
    """Becomes the account for good. home: its records; given to it where it is root's.

    Raises AccountError, OSError.
    """
    _give(home, to)
    os.setgroups([])
    os.setresgid(to.gid, to.gid, to.gid)
    os.setresuid(to.uid, to.uid, to.uid)
    os.environ["HOME"] = str(home)
    ctypes.CDLL(None).prctl(_NO_NEW_PRIVS, 1, 0, 0, 0)
    os.umask(0o077)
    code = sysconfig.get_path("stdlib")
    for path in (home, code):
        if not os.access(path, os.R_OK | os.X_OK):
            raise AccountError(f"the account {to.name} may not reach {path}")


def _give(home: Path, to: ServiceAccount) -> None:
    """A home that is root's becomes the account's. Of one that is the account's nothing is touched:
    root would follow what the account can swap.
    """
    home.mkdir(mode=0o700, parents=True, exist_ok=True)
    with reached(str(home)) as found:
        if found.writers or found.linked_by:
            raise AccountError(f"{home}: others than root may put another folder in its place")
        owner = found.info.st_uid
    if owner == to.uid:
        return
    if owner != 0:
        raise AccountError(f"{home} belongs to neither root nor {to.name}")
    # Nobody else may go in until all of it is given.
    home.chmod(0o700)
    for folder, folders, files in os.walk(home, topdown=False):
        for name in (*folders, *files):
            os.chown(os.path.join(folder, name), to.uid, to.gid, follow_symlinks=False)
    os.chown(home, to.uid, to.gid, follow_symlinks=False)
