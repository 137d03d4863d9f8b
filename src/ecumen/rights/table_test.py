"""Whole tables say what the single decision says."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from ecumen.rights import READ, SEARCH, WRITE, Subject, decide
from ecumen.rights.table import AccessTable, Crowd
from ecumen.survey import Acl, AclEntry, Entry, FileTable, Kind

IDS = st.integers(0, 4)
PERMS = st.integers(0, 7)


def acl(entries: list[tuple[str, int, int]], group: int) -> Acl:
    named = tuple(AclEntry(tag, number, perms) for tag, number, perms in entries)
    return (*named, AclEntry("group", None, group))


ACLS = st.none() | st.builds(
    acl, st.lists(st.tuples(st.sampled_from(["user", "group"]), IDS, PERMS), max_size=3), PERMS
)
LOOKS = st.tuples(st.integers(0, 0o777), IDS, IDS, ACLS)
SUBJECTS = st.lists(
    st.builds(lambda uid, groups: Subject(f"u{uid}", uid, groups), IDS, st.frozensets(IDS)),
    min_size=1,
    max_size=70,
)


@given(st.lists(LOOKS, min_size=3, max_size=3), st.lists(LOOKS, max_size=3), SUBJECTS)
def test_a_table_says_what_each_decision_says(
    folders: list[tuple[int, int, int, Acl | None]],
    files: list[tuple[int, int, int, Acl | None]],
    subjects: list[Subject],
) -> None:
    paths = ["/", "/a", "/a/b"]
    entries = [
        Entry(path, Kind.DIR, mode, uid, gid, acl=acl)
        for path, (mode, uid, gid, acl) in zip(paths, folders, strict=True)
    ]
    entries += [
        Entry(f"/a/b/f{number}", Kind.FILE, mode, uid, gid, acl=acl)
        for number, (mode, uid, gid, acl) in enumerate(files)
    ]
    table = FileTable(reversed(entries))
    access = AccessTable(table, Crowd(subjects))
    for need in (READ, WRITE, SEARCH, READ | WRITE):
        distinct, number = access.whole(need)
        truth = access.members(distinct)[number]
        rows = np.arange(len(table))
        assert np.array_equal(truth, access.members(access.allowed(need, rows)))
        for row, answers in zip(rows, truth, strict=True):
            entry = table.entry(int(row))
            around = [e for e in entries[:3] if entry.path.startswith(f"{e.path.rstrip('/')}/")]
            around = [e for e in around if e.path != entry.path]
            expected = [
                all(decide(folder, subject, SEARCH).allowed for folder in around)
                and decide(entry, subject, need).allowed
                for subject in subjects
            ]
            assert answers.tolist() == expected, entry


def test_what_hangs_in_the_air_is_nobodys() -> None:
    table = FileTable([Entry("/a/b", Kind.FILE, 0o777, 0, 0)])
    access = AccessTable(table, Crowd([Subject("root", 0, frozenset({0}))]))
    assert not access.members(access.allowed(READ, np.array([0]))).any()
