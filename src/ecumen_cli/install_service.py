"""`ecumen install-service`: the service's units, account and folders."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import click

from ecumen.errors import EcumenError
from ecumen_agent.protocol import SOCKET
from ecumen_cli.said import say

UNITS = Path("/etc/systemd/system")
ACCOUNT = "ecumen"
HOME = "/var/lib/ecumen"

# What is not here, and why: RestrictSUIDSGID= would refuse openat2(2), by which paths are opened
# without links; RestrictNamespaces= and ~@mount the cage in which engines are tried out.
_AGENT = """\
[Unit]
Description=Ecumen: makes rehearsed changes to the sites of this server
Requires=ecumen-agent.socket

[Service]
ExecStart={program} agent --account {account}
NoNewPrivileges=yes
MemoryDenyWriteExecute=yes
ProtectClock=yes
ProtectKernelModules=yes
ProtectKernelLogs=yes
RestrictRealtime=yes
LockPersonality=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
CapabilityBoundingSet=CAP_CHOWN CAP_FOWNER CAP_FSETID CAP_DAC_OVERRIDE CAP_DAC_READ_SEARCH CAP_KILL
CapabilityBoundingSet=CAP_SETUID CAP_SETGID CAP_SETPCAP CAP_NET_BIND_SERVICE CAP_NET_ADMIN
CapabilityBoundingSet=CAP_SYS_ADMIN CAP_SYS_PTRACE CAP_SYS_CHROOT CAP_MKNOD
StateDirectory=ecumen-agent
StateDirectoryMode=0700
"""
_SOCKET = """\
[Unit]
Description=Ecumen: where changes are asked for

[Socket]
ListenStream={socket}
SocketMode=0660
SocketGroup={account}
DirectoryMode=0755

[Install]
WantedBy=sockets.target
"""
# Begun as root it leaves root by itself, but for the part that hands out logs.
_WEB = """\
[Unit]
Description=Ecumen: explains the sites of this server
After=network.target ecumen-agent.socket

[Service]
ExecStart={program} serve --account {account}
ProtectSystem=strict
ProtectHome=read-only
ReadWritePaths={home}
PrivateTmp=yes
ProtectClock=yes
ProtectKernelModules=yes
ProtectControlGroups=yes
RestrictRealtime=yes
LockPersonality=yes
Restart=on-failure

[Install]
WantedBy=multi-user.target
"""
_TEXTS = {
    "ecumen-agent.service": _AGENT,
    "ecumen-agent.socket": _SOCKET,
    "ecumen.service": _WEB,
}


@click.command("install-service")
@click.option("--remove", is_flag=True, help="The way back: units go; records and account stay.")
def install_service(remove: bool) -> None:
    """Writes the units of the agent and of the web part, makes the account that the web part runs
    as and its folder, and says each step. Done again, it changes nothing.
    """
    if os.geteuid() != 0:
        raise EcumenError("services are root's: call it as root")
    for step in _removed() if remove else _installed():
        say(step)


def _installed() -> Iterator[str]:
    yield _account()
    home = pwd.getpwnam(ACCOUNT)
    if os.path.isdir(HOME):
        yield f"{HOME} is there"
    else:
        os.makedirs(HOME, mode=0o750)
        os.chown(HOME, home.pw_uid, home.pw_gid)
        yield f"{HOME} made, of {ACCOUNT}"
    if not _has_systemd():
        program = _program()
        yield "There is no systemd here. Run, each as root:"
        yield f"  {program} agent --account {ACCOUNT}"
        yield f"  {program} serve --account {ACCOUNT}"
        return
    for name, text in _TEXTS.items():
        yield _written(UNITS / name, _filled(text))
    _told("daemon-reload")
    yield "The units are known. To start: systemctl enable --now ecumen-agent.socket ecumen"


def _removed() -> Iterator[str]:
    for name in _TEXTS:
        path = UNITS / name
        if path.exists():
            if _has_systemd():
                _told("disable", "--now", name)
            path.unlink()
            yield f"{path} removed"
        else:
            yield f"{path} is not there"
    if _has_systemd():
        _told("daemon-reload")
    yield f"Left as they are: the account {ACCOUNT}, {HOME}, the ledger in /var/lib/ecumen-agent"


def _account() -> str:
    try:
        pwd.getpwnam(ACCOUNT)
        return f"the account {ACCOUNT} is there"
    except KeyError:
        command = ["useradd", "--system", "--home-dir", HOME, "--shell", "/usr/sbin/nologin"]
        done = subprocess.run([*command, ACCOUNT], capture_output=True, text=True)
        if done.returncode:
            raise EcumenError(f"no account was made: {done.stderr.strip()}") from None
        return f"the account {ACCOUNT} made"


def _written(path: Path, text: str) -> str:
    if path.exists() and path.read_text() == text:
        return f"{path} is as it should be"
    aside = path.with_name(f".{path.name}")
    aside.write_text(text)
    os.chmod(aside, 0o644)
    os.replace(aside, path)
    return f"{path} written"


def _filled(text: str) -> str:
    return text.format(program=_program(), account=ACCOUNT, socket=SOCKET, home=HOME)


def _program() -> str:
    """How the command is called here, whole."""
    beside = Path(sys.executable).with_name("ecumen")
    found = str(beside) if beside.exists() else shutil.which("ecumen")
    if found is None:
        raise EcumenError("the command ecumen is not installed beside this Python")
    return found


def _has_systemd() -> bool:
    """Whether it runs the machine (sd_booted(3))."""
    return os.path.isdir("/run/systemd/system")


def _told(*words: str) -> None:
    done = subprocess.run(["systemctl", *words], capture_output=True, text=True)
    if done.returncode:
        raise EcumenError(f"systemctl {words[0]}: {done.stderr.strip()}")
