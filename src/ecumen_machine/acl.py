"""POSIX ACLs out of extended attributes, and into them.

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


_NUMBERS = {("user", False): 1, ("user", True): 2, ("group", False): 4, ("group", True): 8,
            ("mask", False): 16, ("other", False): 32}  # fmt: skip
_NOBODY = 0xFFFFFFFF


def encode(acl: Acl) -> bytes:
    """The attribute. Raises ValueError for entries that stand there twice, which the kernel would
    take.
    """
    rows = sorted(
        (
            _NUMBERS[each.tag, each.id is not None],
            _NOBODY if each.id is None else each.id,
            each.perms,
        )
        for each in acl
    )
    if len({row[:2] for row in rows}) < len(rows):
        raise ValueError("an entry of an ACL stands there twice")
    return struct.pack("<I", 2) + b"".join(struct.pack("<HHI", t, p, n) for t, n, p in rows)
