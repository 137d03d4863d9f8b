"""All accounts against all files: the same decision as `decide`, for whole tables.

Entries that are alike (kind, owner, group, mode, ACL) are few: each such class is decided once for
all accounts, as a row of bits; what may be passed is combined level by level down the tree. Paths
are taken as they stand, without links.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable

import numpy as np
import numpy.typing as npt

from ecumen.rights.decide import SEARCH, Subject
from ecumen.survey import Acl, FileTable
from ecumen.survey.files import KINDS, Kind

Rows = npt.NDArray[np.int64]
Bits = npt.NDArray[np.uint64]
_DIR = KINDS.index(Kind.DIR)
_EVERY = ~np.uint64(0)


class Crowd:
    """Accounts as bits, in their order; found by number and by group."""

    def __init__(self, accounts: Iterable[Subject]) -> None:
        self.accounts = list(accounts)
        self.words = (len(self.accounts) + 63) // 64
        self.none = np.zeros(self.words, np.uint64)
        self.by_uid: dict[int, Bits] = {}
        self.by_gid: dict[int, Bits] = {}
        for number, account in enumerate(self.accounts):
            for known, ids in ((self.by_uid, (account.uid,)), (self.by_gid, account.groups)):
                for each in ids:
                    bits = known.setdefault(each, self.none.copy())
                    bits[number // 64] |= np.uint64(1 << number % 64)

    def named(self, names: Container[str]) -> Bits:
        """The bits of the accounts with one of these names."""
        found = self.none.copy()
        for number, account in enumerate(self.accounts):
            if account.name in names:
                found[number // 64] |= np.uint64(1 << number % 64)
        return found


class AccessTable:
    """Every answer has the shape (rows, words of 64 bits), with a bit for each account of the
    crowd in its order; `members` unpacks them.
    """

    def __init__(self, files: FileTable, crowd: Crowd) -> None:
        self.files = files
        self.crowd = crowd
        self.words, self._none = crowd.words, crowd.none
        self._kind = np.frombuffer(files.kind, np.uint8)
        self._classes, self._class_of = self._classified()
        self._parent = files.parents
        self._decided: dict[int, Bits] = {}
        self._pass = self._passable()

    def allowed(self, need: int, rows: Rows) -> Bits:
        """Which accounts may have all of `need` on the entries of these rows."""
        bits = self._of_classes(need)[self._class_of[rows]]
        bits &= self._pass[self._around(rows)]
        return bits

    def _around(self, rows: Rows) -> Rows:
        """The number of the folder around each row. Of what hangs in the air nobody knows; only
        the root has no folder around it.
        """
        parent = self._parent[rows]
        around = np.where(parent < 0, self._nowhere, self._folder_at[parent])
        around[rows == self.files.row("/")] = self._everywhere
        return around

    def whole(self, need: int) -> tuple[Bits, Rows]:
        """The whole table: the answers that differ, and for each row the number of its own.

        What lies in one folder and is of one class has one answer.
        """
        around = self._around(np.arange(len(self.files)))
        pair = around * len(self._classes) + self._class_of
        _, first, number = np.unique(pair, return_index=True, return_inverse=True)
        bits = self._of_classes(need)[self._class_of[first]]
        bits &= self._pass[around[first]]
        return bits, number.astype(np.int64)

    def members(self, bits: Bits) -> npt.NDArray[np.bool_]:
        """Rows of bits as truth values, of shape (rows, accounts)."""
        flat = np.unpackbits(bits.view(np.uint8), axis=1, bitorder="little")
        return flat[:, : len(self.crowd.accounts)].astype(np.bool_)

    # --- classes ---

    def _classified(self) -> tuple[list[tuple[bool, int, int, int, Acl | None]], Rows]:
        """The classes, and the number of its class for each row."""
        files = self.files
        uid = np.frombuffer(files.uid, np.uint32).astype(np.uint64)
        gid = np.frombuffer(files.gid, np.uint32).astype(np.uint64)
        mode = np.frombuffer(files.mode, np.uint16).astype(np.uint64) & 0o777
        acls, acl_of = files.acl_codes()
        # The ACL's number and the bits of the mode stand in one word, owner and group in another.
        low = (acl_of << np.uint64(10)) | (mode << np.uint64(1)) | (self._kind == _DIR)
        _, owner = np.unique((uid << np.uint64(32)) | gid, return_inverse=True)
        _, look = np.unique(low, return_inverse=True)
        both = owner.astype(np.int64) * (int(look.max(initial=0)) + 1) + look
        _, first, class_of = np.unique(both, return_index=True, return_inverse=True)
        classes = [
            (
                bool(self._kind[row] == _DIR),
                int(mode[row]),
                int(uid[row]),
                int(gid[row]),
                acls[int(acl_of[row])],
            )
            for row in first
        ]
        return classes, class_of.astype(np.int64)

    def _of_classes(self, need: int) -> Bits:
        """As `decide`, for every class and all accounts at once."""
        known = self._decided.get(need)
        if known is None:
            known = self._decided[need] = self._decide(need)
        return known

    def _decide(self, need: int) -> Bits:
        folder, mode, uid, gid = (
            np.array([each[column] for each in self._classes], np.int64) for column in range(4)
        )
        found = _chosen(_gathered(self._in_group, gid), mode >> 3, need, _all(mode, need))
        for number, (_, bits, _, group, acl) in enumerate(self._classes):
            if acl and bits & 0o070:
                found[number] = self._by_acl(need, bits, group, acl)
        found = _chosen(_gathered(self._owner, uid), mode >> 6, need, found)
        may = (folder == 1) | ((need & SEARCH) == 0) | ((mode & 0o111) != 0)
        root = self._owner(0)
        whole: Bits = np.where(may[:, None], found | root, found & ~root)
        return whole

    def _by_acl(self, need: int, mode: int, gid: int, acl: Acl) -> Bits:
        """The accounts that a class's ACL lets in; what its owner may is decided by the caller."""
        mask = mode >> 3 & 7
        matched, granted = self._none.copy(), self._none.copy()
        for entry in acl:
            if entry.tag == "group":
                mine = self._in_group(gid if entry.id is None else entry.id)
                matched |= mine
                if entry.perms & mask & need == need:
                    granted |= mine
        found: Bits = (matched & granted) | (~matched & _all(np.array([mode]), need)[0])
        # Backwards, so that of two entries for one account the first stands.
        for entry in reversed(acl):
            if entry.tag == "user" and entry.id is not None:
                named = self._owner(entry.id)
                found = (found | named) if entry.perms & mask & need == need else found & ~named
        return found

    def _owner(self, uid: int) -> Bits:
        """The accounts of that number: several names may have one."""
        return self.crowd.by_uid.get(uid, self._none)

    def _in_group(self, gid: int) -> Bits:
        return self.crowd.by_gid.get(gid, self._none)

    # --- the way down ---

    def _passable(self) -> Bits:
        """Which accounts may look something up in each folder, with all on the way to it."""
        folders = np.flatnonzero(self._kind == _DIR)
        # Behind the folders stand one that nobody may pass, and one that everybody may.
        self._nowhere, self._everywhere = len(folders), len(folders) + 1
        self._folder_at = np.full(len(self._kind), self._nowhere)
        self._folder_at[folders] = np.arange(len(folders))
        search = np.zeros((len(folders) + 2, self.words), np.uint64)
        search[:-2] = self._of_classes(SEARCH)[self._class_of[folders]]
        search[-1] = _EVERY
        around = self._around(folders)
        paths = self.files.paths
        depth = np.array([len(paths[row].rstrip("/").split("/")) for row in folders], np.int64)
        for level in range(int(depth.max(initial=0)) + 1):
            here = np.flatnonzero(depth == level)
            search[here] &= search[around[here]]
        return search


def _all(perms: Rows, need: int) -> Bits:
    """All accounts where the lowest three bits hold all that is needed, else none."""
    return np.where((perms & need) == need, _EVERY, np.uint64(0))[:, None]


def _chosen(these: Bits, perms: Rows, need: int, others: Bits) -> Bits:
    """For these accounts the permissions decide, for all others what is known already."""
    return (these & _all(perms, need)) | (~these & others)


def _gathered(bits_of: Callable[[int], Bits], numbers: Rows) -> Bits:
    distinct, at = np.unique(numbers, return_inverse=True)
    return np.array([bits_of(int(each)) for each in distinct], np.uint64)[at]
