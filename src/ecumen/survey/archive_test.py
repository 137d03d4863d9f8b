"""The survey file: what is written reads back, and what is broken is named."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Callable, Iterable
from itertools import combinations

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from ecumen.errors import SurveyError
from ecumen.survey import (
    Account,
    AclEntry,
    Certificate,
    EngineRecord,
    Entry,
    FileTable,
    Gap,
    Group,
    Kind,
    Labels,
    Listener,
    Mount,
    NameRecord,
    PacketFilter,
    PolicyTexts,
    SealFile,
    Survey,
    acl_text,
    archive,
    read_survey,
    write_survey,
)

_NAMES = st.text(st.characters(exclude_characters="/\0", exclude_categories=["Cs"]), min_size=1)
_BYTES = (
    st.binary(min_size=1, max_size=8)
    .filter(lambda b: b"\0" not in b)
    .map(lambda b: b.decode("utf-8", "surrogateescape"))
)
_PATHS = st.lists(st.one_of(_NAMES, _BYTES), max_size=4).map(lambda parts: "/" + "/".join(parts))
_IDS = st.integers(0, 2**32 - 1)
_ACLS = st.lists(
    st.builds(AclEntry, st.sampled_from(["user", "group"]), st.none() | _IDS, st.integers(0, 7)),
    min_size=1,
    max_size=4,
).map(tuple)
_ENTRIES = st.builds(
    Entry,
    path=_PATHS,
    kind=st.sampled_from(list(Kind)),
    mode=st.integers(0, 0o7777),
    uid=_IDS,
    gid=_IDS,
    size=st.integers(0, 2**60),
    mtime=st.integers(-(2**62), 2**62),
    ctime=st.integers(-(2**62), 2**62),
    target=st.none() | _BYTES,
    acl=st.none() | _ACLS,
    default_acl=st.none() | _ACLS,
    context=st.none() | st.just("system_u:object_r:httpd_sys_content_t:s0"),
    listed=st.booleans(),
    flags=st.sampled_from([(), ("immutable",), ("immutable", "append-only")]),
)


def survey(entries: list[Entry]) -> Survey:
    return Survey(
        host="quay",
        taken_at=1_900_000_000,
        taken_by="test",
        engines=(
            EngineRecord(
                "httpd",
                "/etc/c",
                environment={"A": "b"},
                running=True,
                domain="d_t",
                own_view=("/tmp",),
            ),
        ),
        files=FileTable(entries),
        accounts=(Account("ines", 1001, 1001, "/home/ines", "/bin/sh"),),
        groups=(Group("crew", 50, ("ines",)),),
        listeners=(Listener("::", 80, "apache2", 7),),
        names=(
            NameRecord("a.test", None),
            NameRecord("b.test", ("192.0.2.1",), "hosts"),
            NameRecord("c.test", (), published=("192.0.2.9",), aliases=("d.test",)),
        ),
        seals=(
            SealFile(
                "/etc/a",
                (
                    Certificate(
                        ("a.test",),
                        ("::1",),
                        "CN=a",
                        "CN=b",
                        1,
                        2,
                        "RSA 2048",
                        "a" * 64,
                        "b" * 64,
                        ("c" * 64,),
                        True,
                        True,
                        True,
                    ),
                ),
            ),
            SealFile("/etc/b", (), "it is not there", "", "it is not there"),
        ),
        filter=PacketFilter(({"table": {"name": "t"}},), {"lo": ("::1",)}, False, True, ("nat",)),
        addresses=("192.0.2.1",),
        gaps=(Gap("text", "/etc/x", "Permission denied"),),
        texts={"/etc/c": b"\xff\0Listen 80\n"},
        kernel={"security.mode": "disabled"},
        mounts=(
            Mount("/", "ext4"),
            Mount("/srv", "tmpfs", read_only=True, no_exec=True, labels=False),
        ),
        labels=Labels(
            {"file_contexts": "/.*\ta:b:c\n"}, PolicyTexts("d_t", "r", "t", "s", active={"x": True})
        ),
    )


def archived(taken: Survey) -> io.BytesIO:
    stream = io.BytesIO()
    write_survey(taken, stream)
    stream.seek(0)
    return stream


@given(st.lists(_ENTRIES, max_size=6, unique_by=lambda entry: entry.path))
@settings(max_examples=60, deadline=None)
def test_what_is_written_reads_back(entries: list[Entry]) -> None:
    taken = survey(entries)
    assert list(read_survey(in_first_format(taken)).files) == entries
    back = read_survey(archived(taken))
    assert list(back.files) == entries
    assert [back.files.get(entry.path) for entry in entries] == entries
    # Written again, the same bytes: in whatever form the table lies in memory.
    assert archived(back).getvalue() == archived(taken).getvalue()
    for part in ("engines", "accounts", "groups", "listeners", "names", "addresses", "gaps",
                 "texts", "kernel", "mounts", "labels", "host", "taken_at"):  # fmt: skip
        assert getattr(back, part) == getattr(taken, part)


def test_the_same_survey_gives_the_same_bytes() -> None:
    entries = [Entry("/", Kind.DIR, 0o755, 0, 0)]
    assert archived(survey(entries)).getvalue() == archived(survey(entries)).getvalue()


def lines_of(entries: Iterable[Entry]) -> list[str]:
    """As the first format has the table."""
    found = []
    for entry in entries:
        row = {
            "path": entry.path, "kind": entry.kind, "mode": f"{entry.mode:04o}", "uid": entry.uid,
            "gid": entry.gid, "size": entry.size, "mtime": entry.mtime, "ctime": entry.ctime,
            "target": entry.target, "acl": entry.acl and acl_text(entry.acl),
            "default_acl": entry.default_acl and acl_text(entry.default_acl),
            "context": entry.context, "listed": entry.listed or None, "flags": entry.flags or None,
        }  # fmt: skip
        said = {key: value for key, value in row.items() if value is not None}
        found.append(json.dumps(said, separators=(",", ":")))
    return found


def in_first_format(taken: Survey) -> io.BytesIO:
    stream = io.BytesIO()
    with zipfile.ZipFile(archived(taken)) as old, zipfile.ZipFile(stream, "w") as new:
        for name in old.namelist():
            if name == "survey.json":
                new.writestr(name, json.dumps(json.loads(old.read(name)) | {"format": 1}))
            elif not name.startswith("files/"):
                new.writestr(name, old.read(name))
        new.writestr("files.jsonl", "\n".join([*lines_of(taken.files), ""]))
    stream.seek(0)
    return stream


def altered(part: str, content: bytes | None) -> io.BytesIO:
    """A survey file in which one part is another, or missing."""
    stream = io.BytesIO()
    taken = survey(
        [Entry("/a", Kind.FILE, 0o644, 0, 0), Entry("/b", Kind.LINK, 0o777, 0, 0, target="a")]
    )
    good = in_first_format(taken) if part == "files.jsonl" else archived(taken)
    with zipfile.ZipFile(good) as old, zipfile.ZipFile(stream, "w") as new:
        for name in old.namelist():
            if name != part:
                new.writestr(name, old.read(name))
            elif content is not None:
                new.writestr(name, content)
    return stream


def column(*numbers: int, kind: str = "B") -> bytes:
    stream = io.BytesIO()
    np.save(stream, np.array(numbers, kind))
    return stream.getvalue()


_TOLD = {"rows": 2, "folders": [""], "contexts": [None], "extras": []}
_ROW = {"path": "/a", "kind": "file", "mode": "0644", "uid": 0, "gid": 0}


@pytest.mark.parametrize(
    ("part", "content", "says"),
    [
        ("survey.json", None, "survey.json is missing"),
        ("survey.json", b"[", "survey.json: not JSON"),
        ("survey.json", b"{}", "survey.json: data must contain"),
        ("accounts.json", b"[]", "accounts.json"),
        ("files.jsonl", b"{}\n", "files.jsonl:1"),
        ("files.jsonl", json.dumps(_ROW).encode() + b"\n" + b"nonsense\n", "files.jsonl:2"),
        ("files.jsonl", json.dumps(_ROW | {"mode": "9999"}).encode(), "files.jsonl:1: data.mode"),
        ("files.jsonl", json.dumps(_ROW | {"path": "a"}).encode(), "files.jsonl:1: data.path"),
        ("files.jsonl", json.dumps(_ROW | {"uid": -1}).encode(), "files.jsonl:1: data.uid"),
        ("files.jsonl", json.dumps(_ROW | {"acl": "x"}).encode(), "files.jsonl:1: data.acl"),
        ("files/columns.json", None, "files/columns.json is missing"),
        ("files/columns.json", b"{}", "files/columns.json: data must contain"),
        ("files/columns.json", json.dumps(_TOLD | {"rows": 3}).encode(), "2 numbers for 3 paths"),
        ("files/columns.json", json.dumps(_TOLD | {"folders": []}).encode(), "no folder of such"),
        ("files/columns.json", json.dumps(_TOLD | {"folders": ["a"]}).encode(), "data.folders[0]"),
        ("files/columns.json", json.dumps(_TOLD | {"folders": ["", ""]}).encode(), "twice"),
        ("files/columns.json", json.dumps(_TOLD | {"contexts": ["a"]}).encode(), "not null"),
        ("files/mode.npy", None, "files/mode.npy is missing"),
        ("files/mode.npy", b"nonsense", "files/mode.npy: not an array"),
        ("files/mode.npy", column(1, 2), "files/mode.npy: not a column of <u2"),
        ("files/mode.npy", column(1, 0o10000, kind="H"), "files/mode.npy: there is no mode"),
        ("files/mode.npy", column(1, kind="H"), "1 numbers for 2 paths"),
        ("files/mode.npy", column(1, 2, kind="H")[:-1], "not a column"),
        ("files/mode.npy", column(1, kind="H").replace(b"(1,)", b"(9**9,)"), "not an array"),
        ("files/kind.npy", column(0, 7), "files/kind.npy: there is no kind"),
        ("files/listed.npy", column(0, 2), "files/listed.npy: there is no listed"),
        ("files/context.npy", column(0, 1, kind="H"), "files/context.npy: there is no context"),
        ("files/size.npy", column(0, -1, kind="q"), "files/size.npy: a size"),
        ("files/names", b"a", "files/names: not 2 names"),
        ("files/names", b"a\0b/c", "files/names: not 2 names"),
        ("files/names", b"a\0a", "files/names: a path in / stands there twice"),
        ("files/extra.npy", column(0, kind="I"), "not as many"),
        ("files/extra_row.npy", column(0, kind="I"), "not as many"),
        ("files/targets", b"a\0b", "not as many"),
        ("files/target_row.npy", column(2, kind="I"), "no such row"),
    ],
)
def test_what_is_broken_is_named(part: str, content: bytes | None, says: str) -> None:
    with pytest.raises(SurveyError) as caught:
        read_survey(altered(part, content))
    assert says in str(caught.value)


@given(st.binary(max_size=200))
def test_no_bytes_are_mistaken_for_a_survey(data: bytes) -> None:
    with pytest.raises(SurveyError):
        read_survey(io.BytesIO(data))


_LINE = (
    '{"path":"/srv/a","kind":"dir","mode":"0755","uid":1001,"gid":0,"size":4096,"mtime":-17,'
    '"ctime":1900000000000000000,"context":"a:b:c:s0","listed":true}\n'
)


@settings(max_examples=400)
@example(at=_LINE.index("4096"), cut=4, put="1E2")
@example(at=_LINE.index("4096"), cut=4, put="1E999")
@example(at=_LINE.index("4096"), cut=4, put="1E99")
@given(
    at=st.integers(0, len(_LINE) - 1),
    cut=st.integers(0, 3),
    put=st.text('09-"\\{},:/ \n\x1f\x7f\u00e9\u0661aeE.', max_size=4),
)
def test_short_and_whole_reading_of_a_line_agree(at: int, cut: int, put: str) -> None:
    """A line that is nearly as most are is taken, or refused, as the schema has it."""
    line = _LINE[:at] + put + _LINE[at + cut :]

    def read(add: Callable[[FileTable, Iterable[str]], None]) -> object:
        table = FileTable()
        try:
            add(table, [line])
        except (ValueError, OverflowError) as error:
            return str(error)
        return list(table)

    assert read(archive._add_lines) == read(lambda table, _: archive._add_checked(table, line))


def test_of_two_lines_of_one_path_the_first_stands_wherever_they_are() -> None:
    entries = [Entry(f"/srv/{n}", Kind.FILE, n, 0, 0) for n in range(6)]
    lines = lines_of(entries)
    for first, second in combinations(range(6), 2):
        table = FileTable([entries[0]])
        again = lines[second].replace(f"/srv/{second}", f"/srv/{first}")
        archive._add_lines(table, [*lines[1:second], again, *lines[second:]])
        assert list(table) == entries


def test_lines_of_today_are_read_the_short_way() -> None:
    """It takes a quarter of the time, and nothing but time would tell that it is not taken."""
    now = 1_796_048_732_384_898_609
    taken = survey([Entry("/srv/a", Kind.FILE, 0o644, 0, 0, 221, now, now)])
    assert all(map(archive.PLAIN.fullmatch, lines_of(taken.files)))
