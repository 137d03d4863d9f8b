"""Attributes of an inode that forbid changes whatever its mode says.

Source: statx(2), "stx_attributes"; chattr(1). The standard library does not have this call.
"""

from __future__ import annotations

import ctypes
import os
import struct

_AT_FDCWD = -100
_NOFOLLOW_AS_CACHED = 0x100 | 0x4000  # AT_SYMLINK_NOFOLLOW, AT_STATX_DONT_SYNC
_SIZE = 256
_FLAGS = {0x10: "immutable", 0x20: "append-only"}
_ALL = sum(_FLAGS)

_statx = getattr(ctypes.CDLL(None), "statx", None)
_buffer = ctypes.create_string_buffer(_SIZE)
_attributes = struct.Struct("@8xQ")


def flags_of(path: str) -> tuple[str, ...]:
    """`immutable` and `append-only`, where the file system tells. Never raises."""
    if _statx is None or _statx(_AT_FDCWD, os.fsencode(path), _NOFOLLOW_AS_CACHED, 0, _buffer):
        return ()
    (bits,) = _attributes.unpack_from(_buffer)
    return names_of(bits)


def names_of(bits: int) -> tuple[str, ...]:
    """The names of the attributes among these bits that forbid changes."""
    return tuple(name for bit, name in _FLAGS.items() if bits & bit) if bits & _ALL else ()
