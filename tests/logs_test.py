"""Lines of every form as values, and what entries add up to, against counting one by one."""

from __future__ import annotations

from collections import Counter, defaultdict
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ecumen.engines.engine import KINDS, error_entry
from ecumen.logs import TemplateError, form_of
from ecumen.logs.agents import agent_of
from ecumen.logs.entry import EntryReader, LogEntry
from ecumen.logs.errorlog import Reason
from ecumen.logs.forms import DirectiveError
from ecumen.logs.kinds import kind_of, referrer_of
from ecumen.logs.ledger import GAP, HOUR, Dim, Ledger, books_of, ledger_of
from tests.tally_test import counted

AT = 1_933_000_000


def read(form: str, *lines: bytes) -> LogEntry:
    """The last of the lines."""
    reader = EntryReader([form_of(form)])
    for line in lines[:-1]:
        with pytest.raises(DirectiveError):
            reader.read(line)
    found = reader.read(lines[-1])
    assert isinstance(found, LogEntry), found
    return found


@pytest.mark.parametrize(
    "line",
    [
        b'{"remote_addr":"h","time_iso8601":"2031-04-02T15:04:05+02:00","request":"GET /p?q HTTP/1.1",'
        b'"status":"200","body_bytes_sent":"7","http_user_agent":"a\\"b","request_time":"0.250"}',
        b'{"client_ip":"h","time":"2031-04-02T13:04:05Z","method":"GET","path":"/p?q","status":200,'
        b'"bytes":7,"agent":"a\\"b","duration_ms":250}',
        b'{"ip":"h","timestamp":1932901445.5,"method":"GET","uri":"/p","query":"q","code":200,'
        b'"size":7,"user_agent":"a\\u0022b","duration":0.25}',
    ],
)
def test_json_lines_are_known_by_what_their_keys_are_usually_called(line: bytes) -> None:
    found = read("json", line)
    assert (found.client, found.method, found.path, found.query) == (b"h", b"GET", b"/p", b"q")
    assert (found.status, found.size, found.agent, found.took) == (200, 7, b'a"b', 250)
    assert found.at == 1_932_901_445
    tally = counted([line], "json")
    assert (tally["parsed"], tally["by_status"], tally["bytes"]) == (1, {"200": 1}, 7)


def test_the_extended_form_names_its_own_columns_and_may_do_so_again() -> None:
    head = b"#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status sc-bytes cs(User-Agent)"
    found = read("w3c", b"#Version: 1.0", head, b"2031-04-02 13:04:05 h GET /p q 200 7 a+b")
    assert (found.path, found.query, found.agent, found.at) == (b"/p", b"q", b"a b", 1_932_901_445)
    found = read(
        "w3c",
        b"#Date: 2031-04-02",
        b"#Fields: time cs-uri sc-status x",
        b'13:04:05 /p?q 404 "a ""b"""',
    )
    assert (found.path, found.query, found.status) == (b"/p", b"q", 404)
    tally = counted(
        [b"1 2", head, b"2031-04-02 13:04:05 h GET /p - 200 7 -", b"2031-04-02 13"], "w3c"
    )
    assert (tally["lines"], tally["parsed"], tally["rejected"]) == (3, 1, 2)


def test_a_template_with_its_own_escapes_is_undone_by_them() -> None:
    form = 'escape=json {"a":"$http_user_agent","t":"$time_iso8601","s":$status}'
    line = b'{"a":"x\\u0001\\"\\\\u0041 \xff","t":"2031-04-02T15:04:05+02:00","s":200}'
    assert read(form, line).agent == b'x\x01"\\u0041 \xff'
    plain = form.replace("json", "none")
    assert read(plain, b'{"a":"a\\x","t":"2031-04-02T15:04:05+02:00","s":200}').agent == b"a\\x"
    with pytest.raises(TemplateError, match="odd"):
        form_of(form.replace("json", "odd"))


@given(
    st.binary(max_size=300), st.sampled_from(["json", "w3c", "combined", "$status $request_time"])
)
def test_no_bytes_of_any_form_raise(line: bytes, name: str) -> None:
    reader = EntryReader([form_of(name)])
    for each in (b"#Fields: time date sc-status", line):
        try:
            found = reader.read(each)
        except DirectiveError:
            continue
        assert isinstance(found, (LogEntry, str))
    for kind in KINDS:
        error_entry(kind, line)


@pytest.mark.parametrize(
    ("line", "reason", "path", "client"),
    [
        (b"[Wed Apr 09 14:05:01.123456 2031] [core:error] [pid 7:tid 9] (13)Permission denied: "
         b"[client 192.0.2.9:5000] AH00035: access to /x denied (filesystem path '/home/ines') because "
         b"search permissions are missing on a component of the path", Reason.SHUT, "/home/ines", "192.0.2.9"),
        (b"[Wed Apr 09 14:05:01 2031] [authz_core:error] [pid 7:tid 9] [client 2001:db8::1:5000] AH01630: "
         b"client denied by server configuration: /srv/a, referer: http://b.test/", Reason.REFUSED, "/srv/a", "2001:db8::1"),
        (b"[Wed Apr 09 14:05:01.1 2031] [core:alert] [pid 7] [client 192.0.2.9:5] /srv/a/.htaccess: Options "
         b"not allowed here", Reason.OVERRIDE, "/srv/a/.htaccess", "192.0.2.9"),
        (b"[Wed Apr 09 14:05:01.1 2031] [mpm_event:notice] [pid 7:tid 9] AH00489: started", Reason.OTHER, "", ""),
        (b'2031/04/09 14:05:01 [error] 7#7: *3 open() "/srv/a b" failed (13: Permission denied), client: '
         b'192.0.2.9, server: a.test, request: "GET /a%20b?x HTTP/1.1", host: "a.test:80"', Reason.PERMISSION, "/srv/a b", "192.0.2.9"),
        (b'2031/04/09 14:05:01 [error] 7#7: *3 directory index of "/srv/" is forbidden, client: 192.0.2.9, '
         b'server: _, request: "GET / HTTP/1.1"', Reason.NO_INDEX, "/srv/", "192.0.2.9"),
    ],
)  # fmt: skip
def test_error_lines_say_which_path_and_why(
    line: bytes, reason: Reason, path: str, client: str
) -> None:
    found = error_entry("httpd" if line.startswith(b"[") else "nginx", line)
    assert found is not None
    assert (found.reason, found.path, found.client) == (reason, path, client)
    assert found.at == 1_933_509_901


def test_what_is_no_error_line_is_none() -> None:
    for line in (b"", b"[Wed Xyz 09 14:05:01 2031] [core:error] x", b"2031/02/31 14:05:01 [error] 7#7: x",
                 b"  continued", b"\xff\xfe"):  # fmt: skip
        assert all(error_entry(kind, line) is None for kind in KINDS)


def test_names_tell_kinds_origins_and_who_acts_by_itself() -> None:
    kinds = {"/": "page", "/a.b/": "page", "/x": "page", "/A.HTML": "page", "/s.css": "style",
             "/.env": "other", "/p.jpg": "picture", "/a.tar.gz": "archive", "/.": "page"}  # fmt: skip
    assert {path: kind_of(path) for path in kinds} == kinds
    own = frozenset({"a.test"})
    assert referrer_of("http://www.a.test/x?y", own) == ("inside", "http://www.a.test/x")
    assert referrer_of("http://b.test/x", own) == ("outside", "b.test")
    assert referrer_of("http://b.test/?q=tide", own)[0] == "search"
    assert referrer_of("-", own) == referrer_of("", own) == ("none", "")
    assert [agent_of(text).automatic for text in ("-", "Rake/1.0", "Skerry/1 (Desk)", "LampBot/1 (x)")] == [
        True, True, False, True]  # fmt: skip


# --- what entries add up to ---

PATHS = [b"/", b"/a.html", b"/b.html", b"/s.css", b""]
entries = st.lists(
    st.builds(
        LogEntry,
        at=st.integers(AT, AT + 4 * GAP), zone=st.just(0),
        client=st.sampled_from([b"192.0.2.1", b"192.0.2.2"]), user=st.just(b"-"),
        method=st.sampled_from([b"GET", b"POST", b"HEAD", b""]), path=st.sampled_from(PATHS),
        query=st.just(b""), protocol=st.just(b"HTTP/1.1"),
        status=st.sampled_from([200, 200, 304, 404, 500, 302]), size=st.integers(0, 1 << 40),
        referrer=st.sampled_from([b"-", b"http://b.test/", b"http://a.test/x"]),
        agent=st.sampled_from([b"Skerry/1 (Desk)", b"LampBot/1"]), site=st.sampled_from([b"", b"b.test"]),
        host=st.sampled_from([b"", b"a.test", b"odd.test"]), took=st.integers(-1, 5),
    ),
    min_size=1, max_size=60,
)  # fmt: skip
BOOKS = books_of(b"A", {b"b.test": b"B"}, {b"A": frozenset({"a.test"}), b"B": frozenset({"b.test"})},
                 lambda name: name not in ("a.test", "b.test"))  # fmt: skip


def summed(ledger: Ledger, dim: Dim) -> dict[Any, int]:
    found: Counter[Any] = Counter()
    for row in ledger.sums:
        if row.dim == dim:
            found[row.site, row.hour, row.key, row.status, row.automatic] += row.requests
    return dict(found)


def site_of(entry: LogEntry) -> bytes:
    return b"B" if entry.site == b"b.test" else b"A"


def is_page(entry: LogEntry) -> bool:
    good = 200 <= entry.status < 300 or entry.status == 304
    return good and entry.path != b"/s.css" and entry.method in (b"GET", b"POST")


@given(entries)
def test_sums_are_what_counting_one_by_one_gives(rows: list[LogEntry]) -> None:
    ledger = ledger_of(rows, BOOKS)
    whole: Counter[Any] = Counter()
    clients: Counter[Any] = Counter()
    failed: Counter[Any] = Counter()
    for e in rows:
        bot = e.agent == b"LampBot/1"
        for site in (site_of(e), b""):
            whole[site, e.at // HOUR, b"", e.status, bot] += 1
        clients[site_of(e), e.at // HOUR, e.client, e.status // 100 * 100, bot] += 1
        if e.status >= 400 or e.host == b"odd.test":
            failed[site_of(e), e.at // HOUR, e.method, e.path, e.host, e.status, e.client] += 1
    assert summed(ledger, Dim.ALL) == dict(whole)
    assert summed(ledger, Dim.CLIENT) == dict(clients)
    assert {tuple(f[:7]): f.requests for f in ledger.failures} == dict(failed)
    assert sum(r.size for r in ledger.sums if r.dim == Dim.ALL and not r.site) == sum(
        e.size for e in rows
    )
    assert ledger.entries == len(rows)


@given(entries)
def test_what_is_not_there_is_told_with_the_page_that_led_there(rows: list[LogEntry]) -> None:
    truth: Counter[Any] = Counter()
    for e in rows:
        if e.status == 404 and e.path and e.referrer != b"-":
            truth[site_of(e), e.path + b"\0" + e.referrer] += 1
    found: Counter[Any] = Counter()
    for row in ledger_of(rows, BOOKS).sums:
        if row.dim == Dim.ASTRAY:
            found[row.site, row.key] += row.requests
    assert found == truth


def test_a_line_is_whose_it_says_or_whose_name_was_asked_for() -> None:
    whose = books_of(b"log", {b"a.test": b"A", b"b.test": b"B"}, {}, lambda name: True).site
    asked = {(b"a.test", b""): b"A", (b"", b"b.test:8080"): b"B", (b"", b"B.test."): b"log",
             (b"", b"b.test."): b"B", (b"", b""): b"log", (b"odd", b"a.test"): b"A"}  # fmt: skip
    assert {names: whose(*names) for names in asked} == asked


@given(entries)
def test_visits_end_with_a_long_pause_and_steps_go_from_page_to_page(rows: list[LogEntry]) -> None:
    visitors: dict[Any, list[LogEntry]] = defaultdict(list)
    for e in sorted(rows, key=lambda each: each.at):
        visitors[site_of(e), e.client, e.agent].append(e)
    visits, steps = [], Counter[Any]()
    for who, came in visitors.items():
        groups = [[came[0]]]
        for one, two in pairwise(came):
            if two.at - one.at >= GAP:
                groups.append([])
            groups[-1].append(two)
        for group in groups:
            pages = [e for e in group if is_page(e)]
            visits.append((*who, group[0].at, group[-1].at, len(group), len(pages)))
            for one, two in pairwise(pages):
                if one.at == two.at:
                    return  # which of them came first is not known
                if one.path != two.path:
                    steps[one.path + b"\0" + two.path] += 1
    ledger = ledger_of(rows, BOOKS)
    found = [
        (v.site, v.client, v.agent, v.begin, v.end, v.requests, v.pages) for v in ledger.visits
    ]
    assert sorted(found) == sorted(visits)
    told: Counter[Any] = Counter()
    for row in ledger.sums:
        if row.dim == Dim.STEP:
            told[row.key] += row.requests
    assert told == steps
