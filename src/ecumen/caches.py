"""What is worked out once and kept, within bounds. Each holder has its own, and a survey's go with
the survey.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

_K = TypeVar("_K")
_V = TypeVar("_V")


class Bounded(dict[_K, _V]):
    """A mapping that begins anew rather than hold more than `most`: what is asked again and again
    is soon back.
    """

    __slots__ = ("most",)

    def __init__(self, most: int) -> None:
        super().__init__()
        self.most = most

    def __setitem__(self, key: _K, value: _V) -> None:
        if len(self) >= self.most and key not in self:
            self.clear()
        super().__setitem__(key, value)


class WorkedOut(Bounded[_K, _V]):
    """One that works out what it does not hold."""

    __slots__ = ("work_out",)

    def __init__(self, most: int, work_out: Callable[[_K], _V]) -> None:
        super().__init__(most)
        self.work_out = work_out

    def __missing__(self, key: _K) -> _V:
        found = self[key] = self.work_out(key)
        return found


class ByIdentity(Generic[_K, _V]):
    """What belongs to this very object, whatever it is equal to. Holds the object, so that no other
    gets its place in memory meanwhile.
    """

    __slots__ = ("_held",)

    def __init__(self, most: int) -> None:
        self._held: Bounded[int, tuple[_K, _V]] = Bounded(most)

    def __len__(self) -> int:
        return len(self._held)

    def get(self, key: _K) -> _V | None:
        known = self._held.get(id(key))
        return None if known is None else known[1]

    def put(self, key: _K, value: _V) -> _V:
        self._held[id(key)] = (key, value)
        return value
