"""The hands that change this machine: what a swapping thread, links and second names cannot do."""

from __future__ import annotations

import ctypes
import os
import stat
import threading
from collections.abc import Callable
from pathlib import Path

import pytest

from ecumen.errors import ChangedError
from ecumen.operations.digest import digest
from ecumen.survey import AclEntry, Entry, parse_acl
from ecumen_machine.acl import decode, encode
from ecumen_machine.hands import MachineHands

pytestmark = [pytest.mark.server, pytest.mark.apart]
HANDS = MachineHands()
_EXCHANGE = 2
_libc = ctypes.CDLL(None, use_errno=True)


def there(path: Path) -> Entry:
    entry = HANDS.entry(str(path))
    assert entry is not None
    return entry


def exchange(one: Path, other: Path) -> None:
    answer = _libc.renameat2(-100, os.fsencode(one), -100, os.fsencode(other), _EXCHANGE)
    assert answer == 0, os.strerror(ctypes.get_errno())


@pytest.mark.parametrize("where", ["last", "in the middle"])
def test_what_is_swapped_meanwhile_is_never_changed(tmp_path: Path, where: str) -> None:
    victim, own, trap = tmp_path / "victim", tmp_path / "own", tmp_path / "trap"
    for folder in (victim, own):
        folder.mkdir()
        (folder / "file").write_text("")
        (folder / "file").chmod(0o600)
    if where == "last":
        (own / "link").symlink_to(victim / "file")
        swapped = own / "file", own / "link"
    else:
        trap.symlink_to(victim)
        swapped = own, trap
    done = threading.Event()

    def swap() -> None:
        while not done.is_set():
            exchange(*swapped)

    other = threading.Thread(target=swap)
    other.start()
    changed = refused = 0
    try:
        for _ in range(3000):
            try:
                HANDS.set_mode(there(own / "file"), 0o644)
                HANDS.set_owner(there(own / "file"), 5, 60)
                HANDS.set_acl(there(own / "file"), parse_acl("user::rw-,group::r--,other::---"))
                changed += 1
            except (OSError, ChangedError):
                refused += 1
    finally:
        done.set()
        other.join()
    info = (victim / "file").stat()
    assert (stat.S_IMODE(info.st_mode), info.st_uid, info.st_gid) == (0o600, 0, 0)
    # Both were met, or this would prove nothing.
    assert changed
    assert refused


def test_nothing_is_made_written_or_taken_away_where_a_link_leads(
    tmp_path: Path, tries: int
) -> None:
    """The folder around it is swapped for a link into somebody else's meanwhile."""
    victim, own, trap = tmp_path / "victim", tmp_path / "own", tmp_path / "trap"
    for folder in (victim, own):
        folder.mkdir()
        (folder / "file").write_text("kept")
        (folder / "sub").mkdir()
    trap.symlink_to(victim)
    before = {path.name: path.lstat().st_ino for path in victim.iterdir()}
    done = threading.Event()

    def swap() -> None:
        while not done.is_set():
            exchange(own, trap)

    other = threading.Thread(target=swap)
    other.start()
    changed = refused = 0
    aside, path = f"{tmp_path}/aside", str(own)
    was = digest(b"kept")

    def steps(kept: str) -> list[Callable[[], None]]:
        return [
            lambda: HANDS.make_file(f"{path}/new", b"x", 0o644, 0, 0),
            lambda: HANDS.make_folder(f"{path}/made", 0o755, 0, 0, kept),
            lambda: HANDS.make_link(f"{path}/link", "x"),
            lambda: HANDS.write(there(own / "file"), was, b"kept", f"{kept}w"),
            lambda: HANDS.rename(f"{path}/made", f"{path}/renamed"),
            lambda: HANDS.put_aside(there(own / "renamed"), f"{kept}p"),
            lambda: HANDS.put_aside(there(own / "new"), f"{kept}n"),
            lambda: HANDS.remove(f"{path}/link"),
        ]

    try:
        for number in range(tries // (8 if tries > 50_000 else 120)):
            kept = f"{aside}/{number}"
            for step in steps(kept):
                try:
                    step()
                    changed += 1
                except (OSError, ChangedError, AssertionError):
                    refused += 1
            for left in (kept, f"{kept}w", f"{kept}p", f"{kept}n"):
                HANDS.forget(left)
    finally:
        done.set()
        other.join()
    assert {path.name: path.lstat().st_ino for path in victim.iterdir()} == before
    assert (victim / "file").read_text() == "kept"
    assert changed
    assert refused


def test_a_file_with_a_second_name_is_left_alone(tmp_path: Path) -> None:
    file = tmp_path / "file"
    file.write_text("")
    os.link(file, tmp_path / "other")
    for change in (
        lambda: HANDS.set_mode(there(file), 0o666),
        lambda: HANDS.set_owner(there(file), 5, None),
        lambda: HANDS.set_acl(there(file), parse_acl("user::rw-,group::rw-,other::rw-")),
    ):
        with pytest.raises(OSError, match="another name"):
            change()
    assert stat.S_IMODE(file.stat().st_mode) == 0o644


def test_nothing_is_overwritten_and_nothing_is_lost(tmp_path: Path) -> None:
    file, folder = tmp_path / "file", tmp_path / "folder"
    file.write_text("kept")
    folder.mkdir()
    (folder / "in").write_text("")
    (tmp_path / "dangling").symlink_to("nowhere")
    for change in (
        lambda: HANDS.rename(str(folder), str(file)),
        lambda: HANDS.rename(str(file), str(tmp_path / "dangling")),
        lambda: HANDS.make_folder(str(tmp_path / "dangling"), 0o755, 0, 0, f"{tmp_path}/aside/1"),
        lambda: HANDS.make_link(str(file), "x"),
        lambda: HANDS.remove(str(file)),
        lambda: HANDS.remove(str(folder)),
        lambda: HANDS.make_link(f"{tmp_path}/folder/..", "x"),
        lambda: HANDS.set_mode(there(tmp_path / "dangling"), 0o600),
    ):
        with pytest.raises(OSError, match=r"exists|not empty|neither|Invalid|no mode"):
            change()
    assert file.read_text() == "kept"
    assert sorted(os.listdir(tmp_path)) == ["aside", "dangling", "file", "folder"]


def test_a_new_folder_has_the_rights_that_are_asked_for_and_no_others(tmp_path: Path) -> None:
    grant = parse_acl("user::rwx,user:5:rwx,group::rwx,mask::rwx,other::rwx")
    os.setxattr(tmp_path, "system.posix_acl_default", encode(grant))
    HANDS.make_folder(str(tmp_path / "new"), 0o2750, 5, 60, f"{tmp_path}/aside/1")
    entry = HANDS.entry(str(tmp_path / "new"))
    assert entry is not None
    assert (entry.mode, entry.uid, entry.gid) == (0o2750, 5, 60)
    assert (entry.acl, entry.default_acl) == (None, None)


def test_an_acl_is_written_as_it_is_read() -> None:
    acl = parse_acl("user::rwx,user:7:r-x,user:5:rw-,group::r--,group:60:r-x,mask::rwx,other::---")
    again = decode(encode(acl))
    assert again is not None
    assert set(again) == set(acl)
    with pytest.raises(ValueError, match="twice"):
        encode((*acl, AclEntry("user", 5, 7)))


def test_folders_may_be_nested_as_deep_as_a_path_is_long(tmp_path: Path) -> None:
    made = [f"{tmp_path}/{'/'.join('d' * depth)}" for depth in range(1, 1500)]
    for path in made:
        os.mkdir(path)
    try:
        assert list(HANDS.below(str(tmp_path))) == made
    finally:
        for path in reversed(made):
            os.rmdir(path)
