"""Where the application keeps its records, and the secrets made at first start."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from platformdirs import user_data_path


def home() -> Path:
    """ECUMEN_HOME, or the user's data folder; made for its owner alone."""
    given = os.environ.get("ECUMEN_HOME")
    path = Path(given) if given else user_data_path("ecumen")
    path.mkdir(mode=0o700, parents=True, exist_ok=True)
    (path / "surveys").mkdir(mode=0o700, exist_ok=True)
    return path


def secret(name: str, length: int = 48) -> str:
    """A secret of this installation, made when it is first asked for."""
    path = home() / name
    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        return path.read_text().strip()
    value = secrets.token_urlsafe(length)
    with os.fdopen(handle, "w") as stream:
        stream.write(value)
    return value
