"""Reading without pauses: nothing that is made while a configuration is read is garbage."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def no_collecting() -> Iterator[None]:
    """The garbage collector rests; it would look through all that was read again and again."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()
