"""Real accounts for tests: made once, removed at the end."""

from __future__ import annotations

import grp
import pwd
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

NAMES = tuple(f"ecw{number}" for number in range(6))
GROUPS = ("ecwall", "ecwhalf")


def _run(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True)


def _exists_user(name: str) -> bool:
    return any(row.pw_name == name for row in pwd.getpwall())


def _exists_group(name: str) -> bool:
    return any(row.gr_name == name for row in grp.getgrall())


@contextmanager
def accounts(base: Path) -> Iterator[tuple[str, ...]]:
    """Six accounts with homes below `base`, two groups, and the worker's account in one."""
    for group in GROUPS:
        if not _exists_group(group):
            _run("groupadd", group)
    for number, name in enumerate(NAMES):
        if _exists_user(name):
            _run("userdel", name)
        extra = ["-G", "ecwall,ecwhalf" if number % 2 else "ecwall"]
        _run("useradd", "-M", "-d", str(base / "home" / name), *extra, name)
    _run("usermod", "-a", "-G", "ecwhalf", "www-data")
    try:
        yield NAMES
    finally:
        for name in NAMES:
            subprocess.run(["userdel", name], check=False, capture_output=True)
        subprocess.run(["gpasswd", "-d", "www-data", "ecwhalf"], check=False, capture_output=True)
        for group in GROUPS:
            subprocess.run(["groupdel", group], check=False, capture_output=True)
