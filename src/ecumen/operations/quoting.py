"""Words for a shell."""

from __future__ import annotations

import shlex


def quoted(text: str) -> str:
    """A word for a shell. Bytes that are no UTF-8, and what a terminal would take for a command,
    are written out.
    """
    # Letters of any script stay readable; what turns the direction of writing, or has no picture,
    # is not printable and is written out.
    if text.isprintable():
        return shlex.quote(text)
    data = text.encode("utf-8", "surrogateescape")
    return (
        "$'"
        + "".join(
            chr(byte) if 0x20 <= byte < 0x7F and byte not in b"'\\" else f"\\x{byte:02x}"
            for byte in data
        )
        + "'"
    )
