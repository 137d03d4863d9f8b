"""An overlaid table says what a table made anew says, whatever is asked."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from ecumen.survey import (
    Account,
    AclEntry,
    Delta,
    Entry,
    FileTable,
    Group,
    Kind,
    Labels,
    Listener,
    NameRecord,
    PolicyTexts,
    Survey,
    after,
)
from ecumen.survey.overlay import OverlaidTable

PATHS = ["/", "/a", "/a/b", "/a/b/c", "/a/d", "/e", "/e/f", "/e/ü"]
ACL = (AclEntry("user", None, 7), AclEntry("group", None, 5), AclEntry("other", None, 0))
entries = st.builds(
    lambda path, kind, mode, uid, acl, context, listed: Entry(
        path, kind, mode, uid, uid, acl=acl, context=context, listed=listed,
        target="b" if kind is Kind.LINK else None,
    ),
    st.sampled_from(PATHS), st.sampled_from([Kind.DIR, Kind.FILE, Kind.LINK]),
    st.integers(0, 0o7777), st.integers(0, 2**32 - 1), st.sampled_from([None, ACL]),
    st.sampled_from([None, "u:r:a_t:s0", "u:r:b_t:s0"]), st.booleans(),
)  # fmt: skip
changes = st.dictionaries(
    st.sampled_from(PATHS), st.none() | entries, max_size=6
).map(lambda found: {p: e and replace(e, path=p) for p, e in found.items()})  # fmt: skip


@given(st.lists(entries, max_size=8), changes, changes)
def test_an_overlaid_table_is_the_table_made_anew(
    first: list[Entry], changed: dict[str, Entry | None], again: dict[str, Entry | None]
) -> None:
    base = FileTable(first)
    before = list(base)
    table = OverlaidTable(OverlaidTable(base, changed), again)
    wanted = {entry.path: entry for entry in base}
    for path, entry in {**changed, **again}.items():
        wanted.pop(path, None) if entry is None else wanted.update({path: entry})
    fresh = FileTable(wanted.values())
    assert sorted(table.paths) == sorted(fresh.paths)
    assert len(table) == len(fresh) == len(table.paths)
    assert {entry.path: entry for entry in table} == wanted
    assert list(base) == before
    for path in [*PATHS, "/nothing"]:
        assert table.get(path) == fresh.get(path)
        assert (path in table) == (path in fresh)
        assert table.children(path) == fresh.children(path)
        row = table.row(path)
        assert (row >= 0) == (path in fresh)
        if row < 0:
            continue
        assert table.paths[row] == path
        entry = table.entry(row)
        assert entry == fresh.get(path)
        assert (table.mode[row], table.uid[row]) == (entry.mode, entry.uid)
        assert table.context_names[table.context[row]] == entry.context
        around = table.parents[row]
        above = path.rpartition("/")[0] or "/"
        assert around == (-1 if path == "/" else table.row(above))
        names, codes = table.acl_codes()
        assert names[int(codes[row])] == entry.acl


def test_everything_that_a_survey_holds_can_be_different() -> None:
    labels = Labels({"file_contexts": "a", "local": "b"}, PolicyTexts("d", "", "", ""))
    survey = Survey(
        "quay", 0, "test", (), FileTable(), labels=labels, texts={"/c": b"1", "/d": b"2"},
        accounts=(Account("ines", 1000, 1000, "/home/ines"), Account("otto", 1001, 1001, "/o")),
        groups=(Group("ines", 1000),), listeners=(Listener("*", 80), Listener("*", 443)),
        names=(NameRecord("Choir.test", ("192.0.2.1",)),),
    )  # fmt: skip
    moved = Account("ines", 1000, 1000, "/srv/ines")
    delta = Delta(
        {"/a": Entry("/a", Kind.FILE, 0o644, 0, 0)}, {"/c": b"3", "/d": None},
        {"ines": moved, "otto": None}, {"web": Group("web", 7)}, {"choir.test": None},
        {("*", 80): None, ("*", 8080): Listener("*", 8080)}, {"local": "c"}, {"reads": True},
    )  # fmt: skip
    for found in (after(survey, delta), after(after(survey, Delta()), Delta().then(delta))):
        assert found.files.get("/a") is not None
        assert found.texts == {"/c": b"3"}
        assert found.accounts == (moved,)
        assert [group.name for group in found.groups] == ["ines", "web"]
        assert found.names == ()
        assert [each.port for each in found.listeners] == [443, 8080]
        assert found.labels.files == {"file_contexts": "a", "local": "c"}
        assert found.labels.policy is not None
        assert found.labels.policy.active == {"reads": True}
    assert after(survey, Delta()) is survey
