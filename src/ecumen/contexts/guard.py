"""What the policy keeps the web servers' accounts from, whatever modes and ACLs say."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
import numpy.typing as npt

from ecumen.contexts.confinement import (
    CHANGE,
    CLASSES,
    FOLLOW,
    LIST,
    PASS,
    READ,
    Confinement,
    type_of,
)
from ecumen.contexts.policy import Policy
from ecumen.rights import READ as MAY_READ
from ecumen.rights import SEARCH, WRITE
from ecumen.survey import FileTable, Kind
from ecumen.survey.files import KINDS

_PERMS: Mapping[tuple[int, Kind], tuple[str, ...]] = {
    (MAY_READ, Kind.DIR): LIST,
    (MAY_READ, Kind.LINK): FOLLOW,
    # To write to a folder is to make names in it.
    (WRITE, Kind.DIR): ("getattr", "search", "write", "add_name"),
    (SEARCH, Kind.DIR): PASS,
}
_USUAL = {MAY_READ: READ, WRITE: CHANGE, SEARCH: ("getattr", "execute")}
_DIR = KINDS.index(Kind.DIR)
Truth = npt.NDArray[np.bool_]


class Guard:
    """accounts: those whose processes run in the engine's domain."""

    def __init__(self, policy: Policy, accounts: Iterable[str]) -> None:
        self.policy = policy
        self.accounts = frozenset(accounts)
        self._known: dict[tuple[object, ...], bool] = {}

    def lets(self, files: FileTable, turned: Mapping[str, bool]) -> dict[int, Truth]:
        """By READ, WRITE and SEARCH, for each row: whether the policy lets the domain do that there
        and look up all folders on the way. Where that is not known, it lets.

        turned: switches that stand otherwise than in the survey.
        """
        kinds = np.frombuffer(files.kind, np.uint8).astype(np.int64)
        contexts = np.frombuffer(files.context, np.uint16)
        # The policy is asked once for each kind and context, not once for each path.
        pairs, number = np.unique(kinds << 16 | contexts, return_inverse=True)
        known = [(KINDS[pair >> 16], files.context_names[pair & 0xFFFF]) for pair in pairs.tolist()]
        state = tuple(sorted(turned.items()))
        found = {
            need: np.array([self._one(*each, need, state) for each in known], bool)[number]
            for need in _USUAL
        }
        way = self._way(files, found[SEARCH])
        return {need: lets & way for need, lets in found.items()}

    @staticmethod
    def _way(files: FileTable, passes: Truth) -> Truth:
        """From the top down: behind a folder that is shut everything is."""
        way = np.ones(len(files), bool)
        if passes.all():
            return way
        parents = files.parents
        depth = np.array([path.rstrip("/").count("/") for path in files.paths], np.int64)
        for level in range(int(depth.max(initial=0)) + 1):
            here = np.flatnonzero((depth == level) & (parents >= 0))
            way[here] = way[parents[here]] & passes[parents[here]]
        return way

    def _one(
        self, kind: Kind, context: str | None, need: int, state: tuple[tuple[str, bool], ...]
    ) -> bool:
        type_ = type_of(context)
        # What is not known closes nothing here: a plan's openings are a warning, and a warning that
        # is missed is the worse fault.
        if type_ is None:
            return True
        key = (kind, type_, need, state)
        known = self._known.get(key)
        if known is None:
            perms, turned = _PERMS.get((need, kind), _USUAL[need]), dict(state)
            known = self._known[key] = all(
                self.policy.allowed(type_, CLASSES[kind], perm, turned).allowed is not False
                for perm in perms
            )
        return known


def guard_of(confinement: Confinement, accounts: Iterable[str]) -> Guard | None:
    """None where no policy is known to be enforced, or the machine's own is not known."""
    if confinement.mode != "enforcing" or confinement.shipped or confinement.policy is None:
        return None
    return Guard(confinement.policy, accounts)
