"""POSIX ACLs out of extended attributes.

Source: linux/posix_acl_xattr.h: a version, then (tag, permissions, id) for each entry.
"""

from __future__ import annotations

import struct
from functools import lru_cache

from ecumen.survey import Acl, AclEntry

_TAGS = {1: "user", 2: "user", 4: "group", 8: "group", 16: "mask", 32: "other"}
_NAMED = (2, 8)


@lru_cache(maxsize=4096)
def decode(value: bytes) -> Acl | None:
    """The entries, or None for a value of a kind that is not known."""
    if len(value) < 4 or struct.unpack_from("<I", value)[0] != 2 or (len(value) - 4) % 8:
        return None
    entries = []
    for tag, perms, number in struct.iter_unpack("<HHI", value[4:]):
        if tag not in _TAGS:
            return None
        entries.append(AclEntry(_TAGS[tag], number if tag in _NAMED else None, perms & 7))
    return tuple(entries)
