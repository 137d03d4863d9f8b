"""The engines' programs: which are installed, what they were built with, which are running."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise

import psutil

from ecumen.survey import ConfigCheck

_HTTPD = ("apache2", "httpd")
PLACES = "/usr/sbin:/usr/local/sbin:/usr/bin:/usr/local/bin:/sbin:/bin"
PATIENCE = 20  # seconds
LONGEST_CHECK = 120  # seconds; names of upstreams may have to be looked up
MOST_SAID = 20_000  # characters of what a check says


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
    """loaded_at: seconds since 1970, UTC; when the oldest worker began, or else the master."""

    pid: int
    loaded_at: int
    environment: Mapping[str, str] | None
    defines: tuple[str, ...]


def _output(*command: str) -> str:
    try:
        done = subprocess.run(
            command, capture_output=True, timeout=PATIENCE, check=False, env={"PATH": PLACES}
        )
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.decode("utf-8", "replace") + done.stderr.decode("utf-8", "replace")


def httpd_build() -> Build | None:
    """The installed httpd, or None."""
    program = next((found for name in _HTTPD if (found := shutil.which(name, path=PLACES))), None)
    if program is None:
        return None
    said = _output(program, "-V")
    version = re.search(r"/(\d+\.\d+\.\d+)", said)
    settings = dict(re.findall(r'-D (\w+)="([^"]*)"', said))
    root = settings.get("HTTPD_ROOT", "/etc/apache2")
    config = settings.get("SERVER_CONFIG_FILE", "apache2.conf")
    modules = re.findall(r"^\s+(\w+\.c)$", _output(program, "-l"), re.MULTILINE)
    return Build(
        program, version[1] if version else "", root, os.path.join(root, config), tuple(modules)
    )


def nginx_build() -> Build | None:
    """The installed nginx, or None."""
    program = shutil.which("nginx", path=PLACES)
    if program is None:
        return None
    said = _output(program, "-V")
    version = re.search(r"/(\d+\.\d+\.\d+)", said)
    config = re.search(r"--conf-path=(\S+)", said)
    path = config[1] if config else "/etc/nginx/nginx.conf"
    prefix = re.search(r"--prefix=(\S+)", said)
    root = prefix[1] if prefix else os.path.dirname(path)
    return Build(program, version[1] if version else "", root, path, ())


def check(
    kind: str, config: str, environment: Mapping[str, str] | None, defines: tuple[str, ...]
) -> ConfigCheck | None:
    """What the engine's own check says of a configuration; None where it cannot be asked.

    Only root is told the truth: others may not read the keys or open the logs that it tries.
    """
    if os.geteuid() != 0:
        return None
    build = httpd_build() if kind == "httpd" else nginx_build()
    if build is None:
        return None
    file = "-f" if kind == "httpd" else "-c"
    options = [option for name in defines for option in ("-D", name)]
    try:
        done = subprocess.run(
            [build.program, "-t", file, config, *options],
            capture_output=True,
            timeout=LONGEST_CHECK,
            check=False,
            env={"PATH": PLACES, **(environment or {})},
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    said = (done.stderr + done.stdout).decode("utf-8", "replace")
    if "DefaultRuntimeDir" in said:
        # The service makes this folder when it starts: that it is not there says nothing.
        return None
    return ConfigCheck(done.returncode == 0, said[:MOST_SAID])


def environment_file(config: str) -> Mapping[str, str] | None:
    """Variables that the service's start script sets, from the file beside the configuration."""
    path = os.path.join(os.path.dirname(config), "envvars")
    if not os.path.isfile(path):
        return None
    try:
        done = subprocess.run(
            ["/bin/sh", "-c", '. "$1" >/dev/null 2>&1; exec env -0', "sh", path],
            capture_output=True,
            timeout=PATIENCE,
            check=False,
            env={"PATH": PLACES, "APACHE_CONFDIR": os.path.dirname(config)},
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    return _variables(done.stdout)


def _variables(block: bytes) -> dict[str, str]:
    pairs = (item.partition(b"=") for item in block.split(b"\0") if b"=" in item)
    found = {
        key.decode("utf-8", "replace"): value.decode("utf-8", "surrogateescape")
        for key, _, value in pairs
    }
    # Only what a configuration can name, and nothing that might be a secret of the session.
    return {key: value for key, value in found.items() if key.startswith(("APACHE_", "HTTPD_"))}


def running(names: tuple[str, ...]) -> Running | None:
    """The master process of a program by one of these names, if there is one."""
    family = [p for p in psutil.process_iter(["pid", "name", "ppid"]) if p.info["name"] in names]
    pids = {process.info["pid"] for process in family}
    masters = [process for process in family if process.info["ppid"] not in pids]
    if not masters:
        return None
    master = min(masters, key=lambda process: process.info["pid"])
    try:
        workers = [p.create_time() for p in family if p.info["ppid"] == master.pid]
        loaded = int(min(workers, default=master.create_time()))
        command = master.cmdline()
    except psutil.Error:
        return None
    try:
        with open(f"/proc/{master.pid}/environ", "rb") as stream:
            environment: dict[str, str] | None = _variables(stream.read())
    except OSError:
        environment = None
    defines = tuple(after for before, after in pairwise(command) if before == "-D") + tuple(
        word[2:] for word in command if word.startswith("-D") and len(word) > 2
    )
    return Running(master.pid, loaded, environment, defines)


def main_config(names: tuple[str, ...], usual: str) -> str:
    """The configuration that the running program was started with, else the usual one."""
    for process in psutil.process_iter(["name", "cmdline"]):
        if process.info["name"] in names:
            command = process.info["cmdline"] or []
            for flag, value in pairwise(command):
                if flag == "-f" and os.path.isabs(value):
                    return str(value)
    return usual
