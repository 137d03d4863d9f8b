"""What changed between two surveys."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from ecumen.audit import audit
from ecumen.audit.scene import Scene
from ecumen.passage import Follower
from ecumen.survey import Account, FileTable, Group, Survey, parse_acl
from ecumen.views.changes import Change, Changes, changes, titles
from ecumen_demo import Moment, demo_survey
from tests.builders import around, replacing, server


def site(name: str, binding: str = "192.0.2.10:80", root: str = "/srv/a") -> str:
    return f"<VirtualHost {binding}>\nServerName {name}\nDocumentRoot {root}\n</VirtualHost>\n"


FILES = ("0755 ines /srv/a/", "0644 ines /srv/a/index.html")


def between(before: Survey, after: Survey) -> Changes:
    scenes = Scene(Follower(before)), Scene(Follower(after))
    found = [titles(audit(scene).findings) for scene in scenes]
    return changes(*scenes, (found[0], found[1]))


def test_a_survey_differs_in_nothing_from_itself() -> None:
    same = between(demo_survey(), demo_survey())
    assert all(not getattr(same, part).changes for part in Changes.__slots__)


def test_a_home_that_was_closed_is_seen_in_file_front_page_and_finding() -> None:
    config = site("a.test")
    closed = ("0700 ines /srv/a/", "0644 ines /srv/a/index.html")
    found = between(server(config, FILES), server(config, closed))
    assert [(c.subject, c.aspect, c.before, c.after) for c in found.files.changes] == [
        ("/srv/a", "mode", "0755", "0700")
    ]
    (front,) = found.passages.changes
    assert (front.before[:3], front.after[:3]) == ("200", "403")
    assert any(c.what == "new" and "/srv/a" in c.subject for c in found.findings.changes)
    back = between(server(config, closed), server(config, FILES))
    gone = {c.subject for c in back.findings.changes if c.what == "gone"}
    assert gone == {c.subject for c in found.findings.changes if c.what == "new"}


def test_a_site_that_moved_is_the_same_site() -> None:
    found = between(
        server(site("a.test") + site("b.test"), FILES),
        server(site("b.test") + site("a.test", "192.0.2.10:8090") + site("c.test"), FILES),
    )
    assert {(c.what, c.subject, c.aspect) for c in found.sites.changes} >= {
        ("changed", "a.test (httpd)", "bindings"),
        ("new", "c.test (httpd)", ""),
    }
    assert not any(c.subject.startswith("b.test") for c in found.sites.changes)
    assert ("new", "192.0.2.10:8090") in {(c.what, c.subject) for c in found.bindings.changes}


def test_every_kind_of_right_that_changed_is_told() -> None:
    before = server(site("a.test"), FILES)
    entry = before.files.get("/srv/a")
    assert entry is not None
    acl = parse_acl("user::rwx,user:1002:r-x,group::r-x,mask::r-x,other::---")
    new = replace(entry, mode=0o750, uid=1002, gid=1002, acl=acl, default_acl=acl,
                  context="u:r:var_t:s0", flags=("immutable",))  # fmt: skip
    found = between(before, replace(before, files=replacing(before.files, [new])))
    told = {change.aspect: (change.before, change.after) for change in found.files.changes}
    assert set(told) == {"mode", "owner", "group", "ACL", "default ACL", "context", "marks"}
    assert told["marks"] == ("", "immutable")
    assert told["owner"] == ("ines", "otto")


def test_of_a_subtree_that_came_only_the_top_is_told() -> None:
    more = (*FILES, "0644 ines /srv/a/x/y/z", "0644 ines /srv/a/x/w", "0644 ines /srv/a/x-other")
    found = between(server(site("a.test"), FILES), server(site("a.test"), more))
    told = {(c.what, c.subject, c.within) for c in found.files.changes}
    assert told == {("new", "/srv/a/x", 3), ("new", "/srv/a/x-other", 0)}


def test_accounts_and_groups_that_changed_are_told() -> None:
    before = server(site("a.test"), FILES)
    ines = before.account_by_name["ines"]
    after = replace(
        before,
        accounts=(
            *(a for a in before.accounts if a.name != "ines"),
            replace(ines, home="/srv/ines"),
            Account("otto2", 1009, 1009, "/home/otto2"),
        ),
        groups=(*before.groups, Group("wardens", 900, ("ines",))),
    )
    found = between(before, after).accounts.changes
    assert {(c.what, c.subject, c.aspect) for c in found} == {
        ("changed", "ines", "account"), ("new", "otto2", "account"), ("new", "wardens", "group"),
    }  # fmt: skip


def test_the_demo_tells_what_happened_in_the_week() -> None:
    found = between(demo_survey(Moment.WEEK_BEFORE), demo_survey())
    dark = [c for c in found.passages.changes if "/home/" in c.after]
    assert len(dark) == 12
    assert (
        Change("changed", "repair-cafe.example (httpd)", "bindings", "*:80", "*:8090")
        in found.sites.changes
    )


names = st.sampled_from(["a", "b", "a-", "a.b", "c"])
paths = st.lists(names, min_size=1, max_size=4).map(lambda parts: "/" + "/".join(parts))


@given(st.sets(paths, max_size=8), st.sets(paths, max_size=8))
def test_every_path_that_came_or_went_is_told_once(left: set[str], right: set[str]) -> None:
    def survey(files: set[str]) -> Survey:
        folders = (f"0755 root {path}/" for path in sorted(files))
        return replace(server(""), files=FileTable(around(folders)))

    before, after = survey(left), survey(right)
    found = between_files(before, after)
    for what, missing, table in (("gone", after, before), ("new", before, after)):
        told = [change for change in found if change.what == what]
        for path in table.files.paths:
            covering = [c for c in told if path == c.subject or path.startswith(f"{c.subject}/")]
            assert len(covering) == (path not in missing.files), path
        within = sum(change.within + 1 for change in told)
        assert within == sum(path not in missing.files for path in table.files.paths)


def between_files(before: Survey, after: Survey) -> list[Change]:
    scenes = Scene(Follower(before)), Scene(Follower(after))
    return changes(*scenes, ({}, {})).files.changes
