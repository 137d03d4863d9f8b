"""Reading without pauses: nothing that is made while a configuration is read is garbage."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def no_collecting() -> Iterator[None]:
    """The garbage collector rests; it would look through all that was read again and again.

    What was read is set aside afterwards, too: it holds no circles, and goes when nobody needs it.
    """
    if not gc.isenabled():
        yield
        return
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


def settle() -> None:
    """What is held now stays to the end: nothing of it needs to be looked through for garbage, and
    what is worked out from it and kept is looked through seldom.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(200_000, 20, 1000)
