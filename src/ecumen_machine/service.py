"""An installed engine of this machine: tried out with what is planned, and told to read its
configuration again.

An engine's own check passes what it would die of: keys that do not belong, logs that are folders,
ports that others hold (measured). So it is started for real, in a cage, over the planned files. And
a signal that was sent proves nothing: a reload is done when every worker of before is gone or no
longer listens.

Source: httpd's "Stopping and Restarting"; nginx's "Controlling nginx"; proc(5); ip(7).
"""

from __future__ import annotations

import os
import signal
import socket
import stat
import subprocess
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from urllib.parse import urlsplit

import psutil

from ecumen.errors import EcumenError
from ecumen.survey.model import EngineRecord
from ecumen_machine import programs
from ecumen_machine.ground import Ground

STARTS_WITHIN = 15.0  # seconds
RELOADS_WITHIN = 30.0  # seconds
STOPS_WITHIN = 20.0  # seconds
_STEP = 0.02  # seconds
_LOGS = "/var/log"
_MOST_SAID = 4000  # bytes of a log's end
_HEARD = b"heard: "
_OTHERWISE = 3  # the exit status of a trial that serves otherwise


class ServiceError(EcumenError):
    """An engine does not do what it was told."""


@dataclass(frozen=True, slots=True)
class Installed:
    """An engine that is installed here."""

    record: EngineRecord
    program: str

    @classmethod
    def of(cls, kind: str) -> Installed:
        """Raises ServiceError."""
        build = programs.httpd_build() if kind == "httpd" else programs.nginx_build()
        records = [each for each in Ground().engines([]) if each.kind == kind]
        if build is None or not records:
            raise ServiceError(f"{kind} is not installed here")
        return cls(records[0], build.program)

    @property
    def environment(self) -> dict[str, str]:
        return {"PATH": programs.PLACES, **(self.record.environment or {})}

    def command(self, *more: str) -> list[str]:
        """What it is started by, with its configuration."""
        file = "-f" if self.record.kind == "httpd" else "-c"
        defines = [word for name in self.record.defines for word in ("-D", name)]
        return [self.program, file, self.record.config, *defines, *more]


# --- trying out ---


def try_out(kind: str, change: Callable[[], None], pages: Sequence[tuple[str, str]] = ()) -> None:
    """Whether an engine takes what is planned, starts with it, and serves what it shall. change:
    makes the planned changes, in a cage where they reach nobody. pages: addresses of plain HTTP
    that must be served if they are this engine's, each with the address of the server to ask at.
    Raises ServiceError, which says why not; CageError where that cannot be found out.
    """
    engine = Installed.of(kind)
    status, output = Ground().in_cage(engine.record, lambda: _tried(engine, change, pages))
    lines = output.splitlines()
    if status:
        said = [line for line in lines if line.strip() and not line.startswith(_HEARD)]
        words = b"\n".join(said).decode("utf-8", "replace")
        if status == _OTHERWISE:
            raise ServiceError(f"tried out, {kind} does not answer as rehearsed: {words}")
        raise ServiceError(f"{kind} would not start with it: {words or 'it says nothing'}")
    heard = [line[len(_HEARD) :].decode().split() for line in lines if line.startswith(_HEARD)]
    master = programs.running(engine.program)
    own = set(_listens([master.pid])) if master is not None else set()
    for address, port in heard:
        if (address, int(port)) not in own:
            _free(address, int(port))


def _tried(engine: Installed, change: Callable[[], None], pages: Sequence[tuple[str, str]]) -> int:
    """In the cage."""
    began = time.time()
    change()
    check = subprocess.run(engine.command("-t"), env=engine.environment, stdin=subprocess.DEVNULL)
    if check.returncode:
        return 1
    more = ["-D", "FOREGROUND"] if engine.record.kind == "httpd" else []
    started = subprocess.Popen(engine.command(*more), env=engine.environment)
    until = time.monotonic() + STARTS_WITHIN
    while time.monotonic() < until:
        status = started.poll()
        # The one stays in front; the other's first process ends when it has begun.
        ended = status is not None and (bool(more) or status != 0)
        if ended:
            break
        ports = list(_listens(_family()))
        if ports and all(map(_answers, ports)):
            for address, port in ports:
                os.write(1, _HEARD + f"{address} {port}\n".encode())
            return _all_served(pages)
        time.sleep(_STEP)
    for line in _fresh_lines(began):
        os.write(2, line + b"\n")
    return 1


def _all_served(pages: Sequence[tuple[str, str]]) -> int:
    """In the cage: 0 where all of these are served that anybody listens for."""
    found = 0
    for page, address in pages:
        status = _status_of(page, address)
        if status not in (None, 200):
            said = f"{page} comes with {status}"
            os.write(2, said.encode("utf-8", "backslashreplace") + b"\n")
            found = _OTHERWISE
    return found


def _status_of(page: str, address: str) -> int | None:
    """The status of a plain page; None where nobody listens, or nobody says one."""
    try:
        parts = urlsplit(page)
        path = f"{parts.path or '/'}{'?' if parts.query else ''}{parts.query}"
        asked = f"GET {path} HTTP/1.1\r\nHost: {parts.netloc}\r\nConnection: close\r\n\r\n"
        with socket.create_connection((address, parts.port or 80), 2) as link:
            link.settimeout(STARTS_WITHIN)
            link.sendall(asked.encode("utf-8", "surrogateescape"))
            words = link.makefile("rb").readline(1 << 12).split()
        return int(words[1])
    except (OSError, ValueError, IndexError):
        return None


def _family() -> list[int]:
    """All processes of the cage but the first."""
    return [pid for pid in psutil.pids() if pid != os.getpid()]


def _fresh_lines(since: float) -> Iterator[bytes]:
    """What was logged meanwhile, of each log the end."""
    for folder, _, names in os.walk(_LOGS):
        for name in sorted(names):
            path = os.path.join(folder, name)
            with suppress(OSError):
                info = os.lstat(path)
                if stat.S_ISREG(info.st_mode) and info.st_mtime >= since - 1:
                    with open(path, "rb") as stream:
                        stream.seek(max(0, info.st_size - _MOST_SAID))
                        yield from stream.read().splitlines()[-5:]


def _answers(at: tuple[str, int]) -> bool:
    """Whether a worker says anything at all: it does when it is ready. A TLS port answers what is
    plain, too.
    """
    address, port = at
    here = {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(address, address)
    try:
        with socket.create_connection((here, port), 1) as link:
            link.settimeout(STARTS_WITHIN)
            link.sendall(b"GET / HTTP/1.0\r\n\r\n")
            link.recv(1)
            return True
    except OSError:
        return False


def _free(address: str, port: int) -> None:
    """Whether a port that the engine did not hold before can be had. Raises ServiceError."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if family == socket.AF_INET6:
            probe.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        try:
            probe.bind((address, port))
            probe.listen(1)
        except OSError as error:
            words = error.strerror or str(error)
            raise ServiceError(f"{address} port {port} cannot be had: {words.lower()}") from error


# --- reloading ---


def reload(kind: str) -> None:
    """Has a running engine read its configuration again, and proves that it has. Raises
    ServiceError.
    """
    engine = Installed.of(kind)
    now = programs.running(engine.program)
    if now is None:
        raise ServiceError(f"{kind} is not running: start it")
    # Where it could not be tried out, this is what there is; the other way round, something may
    # have happened since.
    check = subprocess.run(
        engine.command("-t"), env=engine.environment, stdin=subprocess.DEVNULL, capture_output=True
    )
    if check.returncode:
        words = check.stderr.decode("utf-8", "replace").strip()
        raise ServiceError(f"{kind} does not take its configuration: {words}")
    master = psutil.Process(now.pid)
    before = set(_workers(master))
    sockets = _inodes(now.pid)
    # Gracefully, the one and the other: nobody who is being served is cut off.
    master.send_signal(signal.SIGUSR1 if kind == "httpd" else signal.SIGHUP)
    until = time.monotonic() + RELOADS_WITHIN
    while time.monotonic() < until:
        time.sleep(_STEP)
        if not master.is_running() or master.status() == psutil.STATUS_ZOMBIE:
            raise ServiceError(f"{kind} has ended over its new configuration: start it")
        new = set(_workers(master)) - before
        if new and not any(_inodes(each.pid) & sockets for each in before):
            _all_answer(kind, now.pid)
            return
    raise ServiceError(
        f"{kind} has not taken up its new configuration within {RELOADS_WITHIN:.0f} s"
    )


# --- starting and stopping ---


def is_running(kind: str) -> bool | None:
    """None where it is not installed here."""
    try:
        return programs.running(Installed.of(kind).program) is not None
    except ServiceError:
        return None


def start(kind: str) -> None:
    """Starts an engine as this system does, and waits until all its ports answer. Raises
    ServiceError.
    """
    engine = Installed.of(kind)
    unit = _unit(engine)
    command = engine.command() if unit is None else ["systemctl", "start", "--", unit]
    done = subprocess.run(
        command, env=engine.environment, stdin=subprocess.DEVNULL, capture_output=True
    )
    until = time.monotonic() + STARTS_WITHIN
    while not done.returncode and time.monotonic() < until:
        now = programs.running(engine.program)
        if now is not None and _workers(psutil.Process(now.pid)) and _listens([now.pid]):
            _all_answer(kind, now.pid)
            return
        time.sleep(_STEP)
    said = done.stderr.decode("utf-8", "replace").strip()
    raise ServiceError(f"{kind} did not start: {said or 'it says nothing'}")


def stop(kind: str) -> None:
    """Stops an engine once whom it serves is served, at last without. Raises ServiceError."""
    engine = Installed.of(kind)
    now = programs.running(engine.program)
    if now is None:
        return
    master = psutil.Process(now.pid)
    unit = _unit(engine)
    if unit is not None:
        # It would be started again by what watches over it.
        command = ["systemctl", "stop", "--", unit]
        subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True)
    with suppress(psutil.NoSuchProcess):
        master.send_signal(signal.SIGWINCH if kind == "httpd" else signal.SIGQUIT)
        if not _ends(master, STOPS_WITHIN):
            master.send_signal(signal.SIGTERM)
            if not _ends(master, STOPS_WITHIN):
                raise ServiceError(f"{kind} does not end")


def _ends(process: psutil.Process, within: float) -> bool:
    until = time.monotonic() + within
    while time.monotonic() < until:
        if not process.is_running() or process.status() == psutil.STATUS_ZOMBIE:
            return True
        time.sleep(_STEP)
    return False


def _unit(engine: Installed) -> str | None:
    """The service that the system knows it by; None where it has no such thing."""
    if not os.path.isdir("/run/systemd/system"):
        return None
    name = os.path.basename(engine.program)
    known = subprocess.run(
        ["systemctl", "cat", "--", f"{name}.service"], stdin=subprocess.DEVNULL, capture_output=True
    )
    return None if known.returncode else f"{name}.service"


def _all_answer(kind: str, pid: int) -> None:
    silent = [at for at in _listens([pid]) if not _answers(at)]
    if silent:
        address, port = silent[0]
        raise ServiceError(f"{kind} no longer answers at {address} port {port}")


def _workers(master: psutil.Process) -> list[psutil.Process]:
    with suppress(psutil.Error):
        return [each for each in master.children() if each.status() != psutil.STATUS_ZOMBIE]
    return []


def _inodes(pid: int) -> set[str]:
    """The listening sockets that a process holds; none once it is gone."""
    return {inode for inode, _ in _sockets([pid])}


def _listens(pids: Iterable[int]) -> list[tuple[str, int]]:
    """The addresses and ports at which processes listen."""
    return sorted({at for _, at in _sockets(pids)})


def _sockets(pids: Iterable[int]) -> Iterator[tuple[str, tuple[str, int]]]:
    heard = _heard()
    for pid in pids:
        with suppress(OSError):
            for name in os.listdir(f"/proc/{pid}/fd"):
                with suppress(OSError):
                    target = os.readlink(f"/proc/{pid}/fd/{name}")
                    inode = target[len("socket:[") : -1]
                    if target.startswith("socket:[") and inode in heard:
                        yield inode, heard[inode]


def _heard() -> dict[str, tuple[str, int]]:
    """By its inode each listening TCP socket of this network. Source: proc(5), /proc/net/tcp."""
    found = {}
    for name, family in (("tcp", socket.AF_INET), ("tcp6", socket.AF_INET6)):
        with suppress(OSError), open(f"/proc/net/{name}") as stream:
            for line in list(stream)[1:]:
                fields = line.split()
                if fields[3] == "0A":
                    address, _, port = fields[1].partition(":")
                    found[fields[9]] = _address(address, family), int(port, 16)
    return found


def _address(text: str, family: socket.AddressFamily) -> str:
    """In words of four bytes, each in the machine's own order."""
    raw = bytes.fromhex(text)
    packed = b"".join(raw[at : at + 4][::-1] for at in range(0, len(raw), 4))
    return socket.inet_ntop(family, packed)
