"""The small part of the web application that keeps root's right to read: it hands out handles of
logs, for reading, and says whether a survey file was taken here. It does nothing else.

Asked over a socket of its own, by whoever holds the other end. Which logs those are, the surveys of
this machine say, proven by their digest: what the web application itself says is not asked for.
"""

from __future__ import annotations

import array
import ctypes
import io
import json
import os
import signal
import socket
import struct
import threading
import zipfile
from contextlib import suppress
from pathlib import Path
from typing import Any

from ecumen.logs.rotation import logs_of
from ecumen_machine import origin
from ecumen_machine.logdoor import OWN

LARGEST_SURVEY = 2 << 30  # bytes
LARGEST_LIST = 64 << 20  # bytes of the list of logs
_LONGEST = 64 << 10  # bytes of a question
_NO_NEW_PRIVS, _PDEATHSIG = 38, 1
_CAPSET, _READ_ALL, _VERSION = 126, 2, 0x20080522
_NAMES_AT_ONCE = 500


class KeeperError(OSError):
    """The keeper is gone, or said no."""


class KeeperDoor:
    """The way to logs through the keeper. Threads take turns."""

    def __init__(self, link: socket.socket) -> None:
        self._link = link
        self._turn = threading.Lock()
        self._taken_in: set[Path] = set()

    @property
    def fileno(self) -> int:
        return self._link.fileno()

    def _ask(self, question: dict[str, Any], handle: int | None = None) -> tuple[Any, list[int]]:
        with self._turn:
            try:
                _send(self._link, question, [] if handle is None else [handle])
                answer, handles = _receive(self._link)
            except OSError as error:
                raise KeeperError(32, "the part that may read logs is gone") from error
        if answer is None:
            raise KeeperError(32, "the part that may read logs is gone")
        if "errno" in answer:
            raise OSError(answer["errno"], answer["why"], question.get("path"))
        return answer.get("found"), handles

    def names(self, folder: str) -> list[str]:
        found: list[str] = []
        while True:
            more, _ = self._ask({"what": "names", "path": folder, "from": len(found)})
            found += more
            if len(more) < _NAMES_AT_ONCE:
                return found

    def open(self, path: str) -> int:
        _, handles = self._ask({"what": "open", "path": path})
        return handles[0]

    def is_proven(self, handle: int) -> bool:
        """Whether a survey file was taken here; its logs can be opened from then on."""
        found, _ = self._ask({"what": "proven"}, handle)
        return bool(found)

    def take_in(self, file: Path) -> None:
        """Has the logs of a survey's file opened from now on; it is looked at once."""
        if file not in self._taken_in:
            with file.open("rb") as stream:
                self.is_proven(stream.fileno())
            self._taken_in.add(file)

    def close(self) -> None:
        """Ends the keeper, where nobody else has a way to it."""
        self._link.close()

    def another(self) -> socket.socket:
        """A way of its own to the keeper, for another process."""
        _, handles = self._ask({"what": "another"})
        return socket.socket(fileno=handles[0])


def start() -> KeeperDoor:
    """Starts the keeper; called as root, before that is left."""
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    if os.fork() == 0:
        ours.close()
        _keep(theirs)
    theirs.close()
    return KeeperDoor(ours)


# --- messages, with handles ---


def _send(link: socket.socket, message: object, handles: list[int]) -> None:
    data = json.dumps(message).encode()
    extra = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", handles))] if handles else []
    link.sendmsg([data], extra)


def _receive(link: socket.socket) -> tuple[Any, list[int]]:
    data, extra, flags, _ = link.recvmsg(_LONGEST, socket.CMSG_SPACE(4), 0x40000000)  # CLOEXEC
    handles: list[int] = []
    for level, kind, block in extra:
        if (level, kind) == (socket.SOL_SOCKET, socket.SCM_RIGHTS):
            handles += struct.unpack(f"{len(block) // 4}i", block)
    if flags & (socket.MSG_CTRUNC | socket.MSG_TRUNC):
        _close(handles)
        raise OSError(90, "a message was cut")
    return (json.loads(data) if data else None), handles


def _close(handles: list[int]) -> None:
    for handle in handles:
        os.close(handle)


# --- the keeper ---


class _Keeper:
    def __init__(self) -> None:
        self._key = origin.key()
        # Names of logs by folder.
        self._logs: dict[str, set[str]] = {}
        self._turn = threading.Lock()

    def serve(self, link: socket.socket) -> None:
        """Answers until nobody holds the other end any more."""
        while True:
            try:
                question, handles = _receive(link)
            except (OSError, ValueError):
                return
            if question is None:
                return
            given: list[int] = []
            try:
                answer, given = self._answer(question, handles)
            except OSError as error:
                answer = {"errno": error.errno or 5, "why": error.strerror or str(error)}
            except (LookupError, TypeError, ValueError):
                answer = {"errno": 22, "why": "that is no question"}
            with suppress(OSError):
                _send(link, answer, given)
            _close([*handles, *given])

    def _answer(self, question: Any, handles: list[int]) -> tuple[dict[str, Any], list[int]]:
        match question["what"]:
            case "names":
                folder, begin = str(question["path"]), int(question["from"])
                if folder not in self._logs:
                    raise PermissionError(13, "no log of a survey of this machine lies there")
                names = sorted(name for name in OWN.names(folder) if self._is_log(folder, name))
                return {"found": names[begin : begin + _NAMES_AT_ONCE]}, []
            case "open":
                folder, _, name = str(question["path"]).rpartition("/")
                if not self._is_log(folder or "/", name):
                    raise PermissionError(13, "no survey of this machine names this log")
                return {}, [OWN.open(f"{folder}/{name}")]
            case "proven":
                return {"found": self._take_in(handles[0])}, []
            case "another":
                ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
                threading.Thread(target=self.serve, args=(ours,), daemon=True).start()
                return {}, [theirs.detach()]
        raise ValueError

    def _is_log(self, folder: str, name: str) -> bool:
        logs = self._logs.get(folder, set())
        return name in logs or not logs.isdisjoint(logs_of(name))

    def _take_in(self, handle: int) -> bool:
        """The copy that is looked at is the keeper's own: nobody else can change it any more."""
        size = os.fstat(handle).st_size
        if size > LARGEST_SURVEY:
            return False
        copy = os.memfd_create("survey", os.MFD_CLOEXEC)
        with os.fdopen(copy, "w+b") as stream, os.fdopen(os.dup(handle), "rb") as given:
            given.seek(0)
            while block := given.read(1 << 20):
                stream.write(block)
            stream.flush()
            if not origin.is_proven(stream, self._key):
                return False
            for path in _logs_in(stream):
                folder, _, name = path.rpartition("/")
                if folder and name:
                    with self._turn:
                        self._logs.setdefault(folder, set()).add(name)
        return True


def _logs_in(stream: io.BufferedRandom) -> list[str]:
    with zipfile.ZipFile(stream) as archive:
        info = archive.getinfo("logs.json")
        if info.file_size > LARGEST_LIST:
            return []
        return [str(row["path"]) for row in json.loads(archive.read(info))]


def _keep(link: socket.socket) -> None:
    """The whole of the keeper's process. Never returns."""
    try:
        for number in (signal.SIGTERM, signal.SIGINT):
            # It ends when nobody asks any more.
            signal.signal(number, signal.SIG_IGN)
        os.chdir("/")
        libc = ctypes.CDLL(None, use_errno=True)
        libc.prctl(_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
        libc.prctl(_NO_NEW_PRIVS, 1, 0, 0, 0)
        keeper = _Keeper()
        _keep_reading_only(libc)
        keeper.serve(link)
    finally:
        os._exit(0)


def _keep_reading_only(libc: ctypes.CDLL) -> None:
    """Of all that root may do, reading what others closed is kept (capabilities(7))."""
    if os.geteuid() == 0 and os.uname().machine == "x86_64":
        bit = 1 << _READ_ALL
        head = struct.pack("=Ii", _VERSION, 0)
        libc.syscall(ctypes.c_long(_CAPSET), head, struct.pack("=6I", bit, bit, 0, 0, 0, 0))
