"""The garbage collector of this process: whoever owns it decides. Little of what is made while a
survey is read, compiled and audited is garbage, and there is much of it to be looked through.
"""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def no_collecting() -> Iterator[None]:
    """The garbage collector rests; it would look through all that was read again and again.

    What was read is set aside afterwards, too, until somebody calls `let_go`.
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


def let_go() -> None:
    """Gives back the memory of surveys that nobody needs any more: what was set aside holds circles
    that are looked for here alone. Takes about a second for 10,000 sites that are still held.
    """
    gc.unfreeze()
    gc.collect()
    gc.freeze()


def settle() -> None:
    """What is held now stays to the end: nothing of it needs to be looked through for garbage, and
    what is worked out from it and kept is looked through seldom.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(200_000, 20, 1000)
