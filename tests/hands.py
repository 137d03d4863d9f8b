"""Hands on this machine, in the plainest way: to judge the operations by."""

from __future__ import annotations

import itertools
import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterable
from pathlib import Path

from ecumen.survey import Acl, Entry, acl_text, leading, led_by
from ecumen_machine.files import Collector


class PlainHands:
    """Switches are remembered alone."""

    def __init__(self, **switches: bool) -> None:
        self.switches = switches
        self.reloaded: list[str] = []
        self.hosts = "/etc/hosts"
        self.kept, self.numbers = tempfile.mkdtemp(), itertools.count()

    def entry(self, path: str) -> Entry | None:
        if not os.path.lexists(path):
            return None
        found = Collector()
        found.path(path)
        return found.table().get(path)

    def below(self, path: str) -> Iterable[str]:
        return [str(each) for each in sorted(Path(path).rglob("*"))]

    def names(self, path: str) -> list[str]:
        return sorted(os.listdir(path)) if os.path.isdir(path) else []

    def content(self, path: str) -> bytes | None:
        there = Path(path)
        return there.read_bytes() if there.is_file() and not there.is_symlink() else None

    def text(self, path: str) -> None: ...

    def aside(self, path: str) -> str:
        return f"{self.kept}/{next(self.numbers)}"

    def switch(self, name: str) -> bool | None:
        return self.switches.get(name)

    def leads(self, name: str) -> tuple[str, ...]:
        return led_by(Path(self.hosts).read_bytes(), name)

    def lead(self, name: str, addresses: tuple[str, ...], there: str) -> None:
        there_now = Path(self.hosts)
        shutil.copy(there_now, there)
        there_now.write_bytes(leading(there_now.read_bytes(), name, addresses))

    def running(self, engine: str) -> None: ...

    def set_mode(self, entry: Entry, mode: int) -> None:
        Path(entry.path).chmod(mode)

    def set_owner(self, entry: Entry, uid: int | None, gid: int | None) -> None:
        os.lchown(entry.path, -1 if uid is None else uid, -1 if gid is None else gid)

    def set_acl(self, entry: Entry, acl: Acl) -> None:
        text = acl_text(acl)
        subprocess.run(["setfacl", "-b", "--", entry.path], check=True)
        subprocess.run(["setfacl", "--set", text, "--", entry.path], check=True)

    def set_context(self, entry: Entry, context: str) -> None:
        if context:
            data = context.encode() + b"\0"
            os.setxattr(entry.path, "security.selinux", data, follow_symlinks=False)
        else:
            os.removexattr(entry.path, "security.selinux", follow_symlinks=False)

    def turn(self, name: str, on: bool) -> None:
        self.switches[name] = on

    def make_folder(self, path: str, mode: int, uid: int, gid: int, there: str) -> None:
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

    def make_file(self, path: str, content: bytes, mode: int, uid: int, gid: int) -> None:
        Path(path).write_bytes(content)
        os.chown(path, uid, gid)
        Path(path).chmod(mode)

    def write(self, entry: Entry, was: str, content: bytes, there: str) -> None:
        shutil.copy(entry.path, there)
        Path(entry.path).write_bytes(content)
        Path(entry.path).chmod(entry.mode & 0o1777)

    def swap(self, path: str, there: str) -> None:
        one, other = Path(path), Path(there)
        held, mode = one.read_bytes(), one.stat().st_mode
        one.write_bytes(other.read_bytes())
        one.chmod(other.stat().st_mode & 0o7777)
        other.write_bytes(held)
        other.chmod(mode & 0o7777)

    def put_aside(self, entry: Entry, there: str) -> None:
        os.rename(entry.path, there)

    def reload(self, engine: str) -> None:
        self.reloaded.append(engine)

    def forget(self, there: str) -> None:
        if os.path.isdir(there) and not os.path.islink(there):
            shutil.rmtree(there)
        elif os.path.lexists(there):
            os.unlink(there)
