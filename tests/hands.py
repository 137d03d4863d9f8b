"""Hands on this machine, in the plainest way: to judge the operations by."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterable
from pathlib import Path

from ecumen.survey import Acl, Entry, acl_text
from ecumen_machine.files import Collector


class PlainHands:
    """Switches are remembered alone."""

    def __init__(self, **switches: bool) -> None:
        self.switches = switches

    def entry(self, path: str) -> Entry | None:
        if not os.path.lexists(path):
            return None
        found = Collector()
        found.path(path)
        return found.table().get(path)

    def below(self, path: str) -> Iterable[str]:
        return [str(each) for each in sorted(Path(path).rglob("*"))]

    def switch(self, name: str) -> bool | None:
        return self.switches.get(name)

    def set_mode(self, path: str, mode: int) -> None:
        Path(path).chmod(mode)

    def set_owner(self, path: str, uid: int | None, gid: int | None) -> None:
        os.lchown(path, -1 if uid is None else uid, -1 if gid is None else gid)

    def set_acl(self, path: str, acl: Acl) -> None:
        text = acl_text(acl)
        subprocess.run(["setfacl", "-b", "--", path], check=True)
        subprocess.run(["setfacl", "--set", text, "--", path], check=True)

    def set_context(self, path: str, context: str) -> None:
        if context:
            data = context.encode() + b"\0"
            os.setxattr(path, "security.selinux", data, follow_symlinks=False)
        else:
            os.removexattr(path, "security.selinux", follow_symlinks=False)

    def turn(self, name: str, on: bool) -> None:
        self.switches[name] = on

    def make_folder(self, path: str, mode: int, uid: int, gid: int) -> None:
        Path(path).mkdir()
        os.chown(path, uid, gid)
        Path(path).chmod(mode)

    def rename(self, path: str, to: str) -> None:
        assert not os.path.lexists(to)
        os.rename(path, to)

    def make_link(self, path: str, target: str) -> None:
        Path(path).symlink_to(target)

    def remove(self, path: str) -> None:
        there = Path(path)
        if there.is_symlink():
            there.unlink()
        else:
            there.rmdir()
