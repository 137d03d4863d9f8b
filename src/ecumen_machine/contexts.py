"""Security contexts of this machine: the rules for paths, and the policy through its tools.

Source: selinux_config(5), selinux_file_context_path(3), sesearch(1), seinfo(1).
"""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Mapping

from ecumen.contexts.rules import RULE_FILES, SUBSTITUTIONS
from ecumen.errors import EcumenError
from ecumen.survey import Labels, PolicyTexts
from ecumen_machine.programs import PLACES

DOMAIN = "httpd_t"  # in which every reference policy runs its web servers
_CONFIG = "/etc/selinux/config"
_BOOLEANS = "/sys/fs/selinux/booleans"
# The policy as the kernel holds it: the one on disk may have been changed since it was loaded.
_IN_FORCE = "/sys/fs/selinux/policy"
_PATIENCE = 300.0  # seconds for one question to a large policy, on a slow machine


class ToolError(EcumenError):
    """A policy tool is missing, or would not answer."""


def labels_here(domain: str = DOMAIN) -> Labels:
    """Rules and policy of this machine, as far as they are there. Raises ToolError where there is
    a policy, and its tools are missing or fail.
    """
    base = _base()
    if base is None:
        return Labels()
    files = rules_here()
    in_force = os.access(_IN_FORCE, os.R_OK)
    policy = _IN_FORCE if in_force else _newest(os.path.join(base, "policy"))
    return Labels(files, None if policy is None else policy_texts(policy, domain, _active()))


def rules_here() -> dict[str, str]:
    """The rules of this machine alone."""
    base = _base()
    return {} if base is None else rules_in(os.path.join(base, "contexts", "files"))


def rules_in(folder: str) -> dict[str, str]:
    """The texts of the rules in a folder, by file name. Bytes that are no ASCII stay visible."""
    found = {}
    for name in (*RULE_FILES, *SUBSTITUTIONS):
        try:
            with open(os.path.join(folder, name), encoding="utf-8", errors="replace") as stream:
                found[name] = stream.read()
        except FileNotFoundError:
            continue
    return found


def policy_texts(policy: str, domain: str, active: Mapping[str, bool] | None = None) -> PolicyTexts:
    """What the tools say of a compiled policy. Raises ToolError."""
    return PolicyTexts(
        domain=domain,
        rules=_asked("sesearch", "-A", "-s", domain, policy),
        types=_asked("seinfo", policy, "-t", "-x"),
        switches=_asked("seinfo", policy, "-b", "-x"),
        ports=_asked("seinfo", policy, "--portcon"),
        permissive=_asked("seinfo", policy, "--permissive"),
        active=dict(active or {}),
    )


def _asked(tool: str, *words: str) -> str:
    program = shutil.which(tool, path=PLACES)
    if program is None:
        raise ToolError(f"{tool} is not installed here: it comes with the package setools")
    try:
        done = subprocess.run(
            [program, *words], capture_output=True, text=True, timeout=_PATIENCE, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise ToolError(f"{tool}: {error}") from error
    if done.returncode:
        said = (done.stderr or done.stdout).strip().splitlines()
        raise ToolError(f"{tool}: {said[-1] if said else 'it failed'}")
    return done.stdout


def _base() -> str | None:
    """The folder of the policy that the machine is set up with."""
    try:
        with open(_CONFIG, encoding="utf-8", errors="replace") as stream:
            lines = stream.read().splitlines()
    except OSError:
        return None
    for line in lines:
        name, equals, value = line.strip().partition("=")
        if equals and name.strip() == "SELINUXTYPE":
            base = os.path.join("/etc/selinux", value.strip())
            return base if os.path.isdir(base) else None
    return None


def _newest(folder: str) -> str | None:
    """The compiled policy of the highest version."""
    try:
        names = os.listdir(folder)
    except OSError:
        return None
    numbers = [
        int(n.partition(".")[2]) for n in names if n.startswith("policy.") and n[7:].isdecimal()
    ]
    return os.path.join(folder, f"policy.{max(numbers)}") if numbers else None


def _active() -> dict[str, bool]:
    """The switches as the kernel holds them; nothing where it holds no policy."""
    found = {}
    try:
        names = os.listdir(_BOOLEANS)
    except OSError:
        return {}
    for name in names:
        try:
            with open(os.path.join(_BOOLEANS, name), encoding="ascii") as stream:
                found[name] = stream.read().split()[:1] == ["1"]
        except (OSError, UnicodeDecodeError):
            continue
    return found
