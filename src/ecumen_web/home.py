"""Where the application keeps its records, and the secrets made at first start."""

from __future__ import annotations

import os
import secrets
import stat
from contextlib import suppress
from pathlib import Path

from platformdirs import user_data_path

from ecumen.errors import EcumenError

OF_ROOT = Path("/var/lib/ecumen/web")


class HomeError(EcumenError):
    """The records cannot be kept there."""


def place() -> Path:
    """ECUMEN_HOME, what a service has, or the user's data folder."""
    given = os.environ.get("ECUMEN_HOME")
    if given:
        return Path(given)
    return OF_ROOT if os.geteuid() == 0 else user_data_path("ecumen")


def home() -> Path:
    """The folder of the records, for its owner alone, as is all that lies in it.

    Raises HomeError where that cannot be had.
    """
    path = place()
    try:
        path.mkdir(mode=0o700, parents=True, exist_ok=True)
        (path / "surveys").mkdir(mode=0o700, exist_ok=True)
        for each in (path, *path.iterdir(), *(path / "surveys").iterdir()):
            # What is gone by now was somebody's temporary file.
            with suppress(FileNotFoundError):
                _make_private(each)
    except OSError as error:
        raise HomeError(f"{error.filename or path}: {error.strerror}") from error
    return path


def _make_private(path: Path) -> None:
    info = path.lstat()
    if stat.S_ISLNK(info.st_mode):
        raise HomeError(f"{path} is a link: records are kept in plain files and folders")
    if info.st_uid != os.geteuid():
        raise HomeError(f"{path} belongs to another account (uid {info.st_uid})")
    if info.st_mode & 0o077:
        path.chmod(stat.S_IMODE(info.st_mode) & 0o700)


def secret(name: str, length: int = 48) -> str:
    """A secret of this installation, made when it is first asked for."""
    path = home() / name
    value = secrets.token_urlsafe(length)
    # Whole or not at all, whoever else makes one at the same moment.
    fresh = path.with_name(f".{name}.{os.getpid()}")
    try:
        if not path.exists():
            handle = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "w") as stream:
                stream.write(value)
                stream.flush()
                os.fsync(handle)
            with suppress(FileExistsError):
                os.link(fresh, path)
        return path.read_text().strip()
    except OSError as error:
        raise HomeError(f"{error.filename or path}: {error.strerror}") from error
    finally:
        fresh.unlink(missing_ok=True)
