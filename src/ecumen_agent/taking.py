"""Takes surveys for those who ask, by the command that takes them, in a process of its own."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable

from ecumen.errors import EcumenError

MOST_KEPT = 3
_RUN = "from ecumen_cli.main import main; main()"


class TakingError(EcumenError):
    """No survey was taken."""


def take(folder: str, group: int, tell: Callable[[str, int, int], None]) -> str:
    """A new survey of this machine, in a folder whose files a group may read. Returns its path.

    The latest are kept. Raises TakingError.
    """
    os.makedirs(folder, mode=0o750, exist_ok=True)
    os.chown(folder, 0, group)
    path = os.path.join(folder, f"{time.time_ns()}.survey")
    tell("taking a survey", 0, 0)
    command = [sys.executable, "-I", "-c", _RUN, "survey", "--out", path]
    done = subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True)
    # With gaps it is a survey all the same, and says so itself.
    if done.returncode not in (0, 3) or not os.path.exists(path):
        raise TakingError(done.stderr.strip() or "no survey was taken")
    os.chown(path, 0, group)
    os.chmod(path, 0o640)
    kept = sorted(name for name in os.listdir(folder) if name.endswith(".survey"))
    for name in kept[:-MOST_KEPT]:
        os.unlink(os.path.join(folder, name))
    return path
