"""Whether a survey file was taken here: a keyed digest of the whole file, in the archive's comment.

Source: APPNOTE.TXT of the ZIP format, 4.3.16 (comment); RFC 2104 (HMAC). The key never leaves the
machine. Whoever reads the comment without the key learns nothing, and nothing else needs it.
"""

from __future__ import annotations

import hashlib
import hmac
import os
from pathlib import Path
from typing import IO

from platformdirs import user_data_path

_WORD = b"ecumen-origin:"
_DIGEST = 64  # letters
_COMMENT = len(_WORD) + _DIGEST
_BLOCK = 1 << 20
_KEY_SIZE = 32


def state() -> Path:
    """Where this machine's own key is kept: ECUMEN_STATE, /var/lib/ecumen for root, else the
    account's data folder.
    """
    given = os.environ.get("ECUMEN_STATE")
    if given:
        return Path(given)
    return Path("/var/lib/ecumen") if os.geteuid() == 0 else user_data_path("ecumen")


def key(*, make: bool = False) -> bytes | None:
    """The key of this machine's surveys. Raises OSError where it cannot be made.

    None where there is none yet, or where others may have read or written it.
    """
    path = state() / "origin.key"
    if make:
        path.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
        # Whole or not at all, whoever else makes one at the same moment.
        fresh = path.with_name(f".origin.{os.getpid()}")
        handle = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        try:
            os.write(handle, os.urandom(_KEY_SIZE))
            os.fsync(handle)
            os.link(fresh, path)
        except FileExistsError:
            pass
        finally:
            os.close(handle)
            os.unlink(fresh)
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:
        return None
    with os.fdopen(handle, "rb") as stream:
        info = os.fstat(handle)
        if info.st_uid != os.geteuid() or info.st_mode & 0o077:
            return None
        found = stream.read(_KEY_SIZE)
    return found if len(found) == _KEY_SIZE else None


def _digest(stream: IO[bytes], size: int, secret: bytes) -> bytes:
    digest = hmac.new(secret, digestmod=hashlib.sha256)
    stream.seek(0)
    while size > 0 and (block := stream.read(min(_BLOCK, size))):
        digest.update(block)
        size -= len(block)
    return digest.hexdigest().encode()


def seal(stream: IO[bytes], secret: bytes) -> None:
    """Ends a survey file that was just written, without a comment, with the proof of its origin."""
    stream.seek(0, os.SEEK_END)
    size = stream.tell()
    stream.seek(size - 2)
    if stream.read(2) != b"\0\0":
        raise ValueError("the archive has a comment already")
    stream.seek(size - 2)
    stream.write(_COMMENT.to_bytes(2, "little") + _WORD)
    stream.flush()
    digest = _digest(stream, size + len(_WORD), secret)
    stream.seek(0, os.SEEK_END)
    stream.write(digest)
    stream.flush()


def is_proven(stream: IO[bytes], secret: bytes | None) -> bool:
    """Whether a survey file is as this machine's capture left it."""
    stream.seek(0, os.SEEK_END)
    size = stream.tell()
    if secret is None or size < _COMMENT + 22:
        return False
    stream.seek(size - _COMMENT)
    comment = stream.read(_COMMENT)
    if not comment.startswith(_WORD):
        return False
    return hmac.compare_digest(_digest(stream, size - _DIGEST, secret), comment[len(_WORD) :])
