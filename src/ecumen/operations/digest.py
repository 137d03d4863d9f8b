"""Digests by which a plan tells contents apart."""

from __future__ import annotations

import hashlib


def digest(content: bytes) -> str:
    """As `sha256:…`."""
    return f"sha256:{hashlib.sha256(content).hexdigest()}"
