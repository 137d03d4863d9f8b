"""The engines' programs: which are installed, what they were built with, which are running.

A program is run only where nobody but root could have put it there, and a process is the engine's
only where root started it from that very file: what a process calls itself says nothing.
"""

from __future__ import annotations

import os
import re
import shutil
import stat
import subprocess
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import psutil

from ecumen.errors import EcumenError
from ecumen_machine.envvars import variables
from ecumen_machine.handles import is_its_own, reached, reopened
from ecumen_machine.mounts import unescaped

_HTTPD = ("apache2", "httpd")
PLACES = "/usr/sbin:/usr/local/sbin:/usr/bin:/usr/local/bin:/sbin:/bin"
PATIENCE = 20  # seconds
LARGEST_ENVVARS = 1 << 20  # bytes
NOBODY = 65534


class UntrustedError(EcumenError):
    """A program that others than root may change is not run."""


@dataclass(frozen=True, slots=True)
class Build:
    """What a program says of itself."""

    program: str
    version: str
    root: str
    config: str
    built_in: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Running:
    """The master process of an engine.

    loaded_at: seconds since 1970, UTC; when the oldest worker began, or else the master. config: as
    it was started with, or None for the usual one. domain: the type of its security context.
    own_view: where its mounts are not ours.
    """

    pid: int
    loaded_at: int
    environment: Mapping[str, str] | None
    defines: tuple[str, ...]
    config: str | None = None
    domain: str | None = None
    own_view: tuple[str, ...] = ()


def trusted(program: str) -> str:
    """The file behind a program's name, without links. Raises UntrustedError, OSError."""
    with reached(program) as found:
        if not found.roots:
            raise UntrustedError(f"{program}: others than root may change it, so it is not run")
        return found.path


def installed(names: Iterable[str]) -> str | None:
    """The program by the first of these names that is there. Raises UntrustedError."""
    for name in names:
        found = shutil.which(name, path=PLACES)
        if found is not None:
            trusted(found)
            return found
    return None


def output(*command: str) -> str:
    """What a trusted program prints about itself, run as nobody; "" where it does not."""
    as_nobody = {"user": NOBODY, "group": NOBODY, "extra_groups": []} if os.geteuid() == 0 else {}
    try:
        done = subprocess.run(
            command, capture_output=True, timeout=PATIENCE, check=False, cwd="/",
            stdin=subprocess.DEVNULL, env={"PATH": PLACES}, **as_nobody,
        )  # type: ignore[call-overload] # fmt: skip
    except (OSError, subprocess.SubprocessError):
        return ""
    return str(done.stdout.decode("utf-8", "replace") + done.stderr.decode("utf-8", "replace"))


def httpd_build() -> Build | None:
    """The installed httpd, or None. Raises UntrustedError."""
    program = installed(_HTTPD)
    if program is None:
        return None
    # It would read its configuration to say what it was built with.
    said = output(program, "-V", "-f", os.devnull)
    version = re.search(r"/(\d+\.\d+\.\d+)", said)
    settings = dict(re.findall(r'-D (\w+)="([^"]*)"', said))
    root = settings.get("HTTPD_ROOT", "/etc/apache2")
    config = settings.get("SERVER_CONFIG_FILE", "apache2.conf")
    modules = re.findall(r"^\s+(\w+\.c)$", output(program, "-l", "-f", os.devnull), re.MULTILINE)
    return Build(
        program, version[1] if version else "", root, os.path.join(root, config), tuple(modules)
    )


def nginx_build() -> Build | None:
    """The installed nginx, or None. Raises UntrustedError."""
    program = installed(("nginx",))
    if program is None:
        return None
    said = output(program, "-V")
    version = re.search(r"/(\d+\.\d+\.\d+)", said)
    config = re.search(r"--conf-path=(\S+)", said)
    path = config[1] if config else "/etc/nginx/nginx.conf"
    prefix = re.search(r"--prefix=(\S+)", said)
    root = prefix[1] if prefix else os.path.dirname(path)
    return Build(program, version[1] if version else "", root, path, ())


def environment_file(config: str) -> Mapping[str, str] | None:
    """Variables that the service's start script sets, from the file beside the configuration. It is
    read, whoever wrote it, and never run.
    """
    folder = os.path.dirname(config)
    try:
        with reached(os.path.join(folder, "envvars")) as found:
            if not stat.S_ISREG(found.info.st_mode) or not is_its_own(found):
                return None
            with os.fdopen(reopened(found.handle), "rb") as stream:
                text = stream.read(LARGEST_ENVVARS).decode("utf-8", "surrogateescape")
    except OSError:
        return None
    return _kept(variables(text, {"APACHE_CONFDIR": folder}))


def _variables(block: bytes) -> dict[str, str]:
    pairs = (item.partition(b"=") for item in block.split(b"\0") if b"=" in item)
    return _kept(
        {
            key.decode("utf-8", "replace"): value.decode("utf-8", "surrogateescape")
            for key, _, value in pairs
        }
    )


def _kept(found: Mapping[str, str]) -> dict[str, str]:
    """Only what a configuration can name, and nothing that might be a secret of the session."""
    return {key: value for key, value in found.items() if key.startswith(("APACHE_", "HTTPD_"))}


def running(program: str) -> Running | None:
    """The master process of an installed program, if there is one: root's, run from that very file,
    in the name spaces that we are in ourselves.
    """
    family = [
        process for process in psutil.process_iter(["pid", "ppid"]) if _runs(process, program)
    ]
    pids = {process.pid for process in family}
    masters = [each for each in family if each.info["ppid"] not in pids and _is_roots(each.pid)]
    if not masters:
        return None
    master = min(masters, key=lambda process: process.pid)
    try:
        workers = [p.create_time() for p in family if p.info["ppid"] == master.pid]
        loaded = int(min(workers, default=master.create_time()))
        command = master.cmdline()
    except psutil.Error:
        return None
    try:
        with open(f"/proc/{master.pid}/environ", "rb") as stream:
            environment: dict[str, str] | None = _variables(stream.read(LARGEST_ENVVARS))
    except OSError:
        environment = None
    defines = tuple(after for before, after in pairwise(command) if before == "-D") + tuple(
        word[2:] for word in command if word.startswith("-D") and len(word) > 2
    )
    return Running(
        master.pid, loaded, environment, defines, _config_of(command), _domain(master.pid),
        _own_view(master.pid),
    )  # fmt: skip


def _domain(pid: int) -> str | None:
    """The type of a process, where the kernel gives processes one."""
    try:
        with open(f"/proc/{pid}/attr/current", "rb") as stream:
            context = stream.read(4096).rstrip(b"\0\n").decode("utf-8", "replace")
    except OSError:
        return None
    parts = context.split(":")
    return parts[2] if len(parts) >= 3 else None


# Made for every service, and no place for what is served.
_MADE_UP = ("/proc", "/sys", "/dev", "/run/credentials")


def _own_view(pid: int) -> tuple[str, ...]:
    """Where a process sees other mounts than we do: what a service has for itself of what is
    temporary, what is kept from it (proc(5), mountinfo; systemd.exec(5), "Sandboxing").
    """
    try:
        if os.readlink(f"/proc/{pid}/ns/mnt") == os.readlink("/proc/self/ns/mnt"):
            return ()
        theirs, ours = _mounted(pid), _mounted(os.getpid())
    except OSError:
        return ()
    places = {place for place in (*theirs, *ours) if theirs.get(place) != ours.get(place)}
    return tuple(sorted(p for p in places if not f"{p}/".startswith(_MADE_UP_WITHIN)))


_MADE_UP_WITHIN = tuple(f"{path}/" for path in _MADE_UP)


def _mounted(pid: int) -> dict[str, tuple[str, str]]:
    """By the place of each mount: the device, and which folder of it is there."""
    found: dict[str, tuple[str, str]] = {}
    with open(f"/proc/{pid}/mountinfo", "rb") as stream:
        for line in stream:
            fields = line.split(b" ")
            if len(fields) > 5:
                device, folder = map(os.fsdecode, fields[2:4])
                found[os.fsdecode(unescaped(fields[4]))] = (device, folder)
    return found


def _runs(process: psutil.Process, program: str) -> bool:
    """Whether a process runs from the very file of a program, as the kernel tells.

    Of others' processes only root is told; then it must be root's, and be called so.
    """
    link = f"/proc/{process.pid}/exe"
    try:
        there, own = os.stat(link), os.stat(program)
        # Of a program that was replaced since, the process holds on to the one before.
        same = os.readlink(link) == f"{os.path.realpath(program)} (deleted)"
    except PermissionError:
        return _named_alike(process, program)
    except OSError:
        return False
    same = same or (there.st_dev, there.st_ino) == (own.st_dev, own.st_ino)
    return same and _beside_us(process.pid)


def _named_alike(process: psutil.Process, program: str) -> bool:
    try:
        return os.geteuid() != 0 and process.name() == os.path.basename(program)
    except psutil.Error:
        return False


def _is_roots(pid: int) -> bool:
    try:
        with open(f"/proc/{pid}/status", "rb") as stream:
            lines = stream.read().split(b"\n")
    except OSError:
        return False
    uids = next((line.split()[1:] for line in lines if line.startswith(b"Uid:")), [])
    return uids == [b"0"] * 4 or (os.geteuid() != 0 and uids == [b"%d" % os.geteuid()] * 4)


def _beside_us(pid: int) -> bool:
    """Whether a process sees the same tree and the same accounts as we do. A service may have some
    folders of its own, as for what is temporary: its mounts are not compared.
    """
    try:
        there, own = os.stat(f"/proc/{pid}/root"), os.stat("/")
        return (there.st_dev, there.st_ino) == (own.st_dev, own.st_ino) and all(
            os.readlink(f"/proc/{pid}/ns/{kind}") == os.readlink(f"/proc/self/ns/{kind}")
            for kind in ("pid", "user")
        )
    except OSError:
        return False


def _config_of(command: Sequence[str]) -> str | None:
    for flag, value in pairwise(command):
        if flag == "-f" and os.path.isabs(value):
            return str(value)
    return None
