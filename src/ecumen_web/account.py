"""Leaving root for the account that the web application runs as."""

from __future__ import annotations

import ctypes
import os
import pwd
import sysconfig
from dataclasses import dataclass
from pathlib import Path

from ecumen.errors import EcumenError

USUAL = "ecumen"
_NO_NEW_PRIVS = 38


class AccountError(EcumenError):
    """There is no account to run as, or it may not reach what it needs."""


@dataclass(frozen=True, slots=True)
class Account:
    name: str
    uid: int
    gid: int


def account(name: str) -> Account:
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
    return Account(name, row.pw_uid, row.pw_gid)


def leave_root(to: Account, home: Path) -> None:
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


def _give(home: Path, to: Account) -> None:
    """A home that root made before there was the account; what is somebody else's stays so."""
    home.mkdir(mode=0o700, parents=True, exist_ok=True)
    for folder, folders, files in os.walk(home):
        for path in (folder, *(os.path.join(folder, name) for name in (*folders, *files))):
            if os.lstat(path).st_uid == 0:
                os.chown(path, to.uid, to.gid, follow_symlinks=False)
    if os.stat(home).st_uid != to.uid:
        raise AccountError(f"{home} belongs to neither root nor {to.name}")
