"""Why requests failed: each kind is joined to its gate and finding, or said to differ, and why."""

from __future__ import annotations

from dataclasses import replace

import pytest

from ecumen.audit import audit
from ecumen.audit.scene import Scene
from ecumen.causes import Explainer, FailedRequests, SourceKind, sources
from ecumen.causes.explain import CauseStanding, DiskChange, Explanation, before, since
from ecumen.passage import Follower
from ecumen.survey import NameRecord, Survey
from tests.audit_test import CASES, block, homes, httpd, logged

TWO = logged("a.test", "/srv/all.log common") + logged("b.test", "/srv/all.log common")
CLOSED = ("0700 ines /srv/closed/", "0644 ines /srv/closed/index.html")


def told(survey: Survey, asked: FailedRequests, earlier: Survey | None = None) -> Explanation:
    scene = Scene(Follower(survey))
    findings = audit(scene).findings
    past = None if earlier is None else Scene(Follower(earlier))
    found = Explainer(scene, findings, lambda: past).explain(asked)
    assert found is not None
    return found


def asked(survey: Survey, path: str, status: int, **more: str) -> FailedRequests:
    site = Scene(Follower(survey)).hosts[0].subject
    values = {"site": site, "method": "GET", "host": "", "client": "203.0.113.9"} | more
    return FailedRequests(
        values["site"], values["method"], path, values["host"], status, values["client"]
    )


def closed() -> Survey:
    return httpd(block("a.test", "closed"), *CLOSED)


def test_a_closed_folder_is_the_cause_with_its_finding_and_when_it_changed() -> None:
    found = told(closed(), asked(closed(), "/", 403))
    assert (found.cause.standing, found.cause.gate) == (CauseStanding.EXPLAINED, "ladder")
    assert (found.place, found.cause.place) == ("/srv/closed", "/srv")
    assert len(found.cause.findings) == 1
    assert "/srv/closed" in {change.path for change in found.near}


def test_all_that_is_missing_in_a_folder_is_one_cause() -> None:
    survey = httpd(block("a.test"))
    one, two = (told(survey, asked(survey, path, 404)) for path in ("/x", "/y"))
    assert one.cause.key == two.cause.key
    assert one.place != two.place
    assert told(survey, asked(survey, "/z/x", 404)).cause.standing is CauseStanding.EXPLAINED


@pytest.mark.parametrize(
    ("path", "method", "status"),
    [("*", "OPTIONS", 200), ("", "", 400), ("/%zz", "GET", 400), ("http://b.test/x", "GET", 404),
     ("/" + "a/../" * 50 + "x", "GET", 404), ("\udcff", "GET", 400), ("/a b", "GET", 404)],
)  # fmt: skip
def test_odd_requests_are_told_or_left_out_and_never_raise(
    path: str, method: str, status: int
) -> None:
    survey = httpd(TWO)
    scene = Scene(Follower(survey))
    found = Explainer(scene, ()).explain(asked(survey, path, status, method=method))
    assert found is None or found.cause.status == status


def test_what_a_rule_does_to_one_visitor_is_asked_for_that_visitor() -> None:
    inner = "<RequireAll>\nRequire not ip 203.0.113.0/24\nRequire all granted\n</RequireAll>"
    rules = f"<Location />\n{inner}\n</Location>"
    survey = httpd(block("a.test", lines=rules))
    assert told(survey, asked(survey, "/", 403)).cause.gate == "rule"
    other = told(survey, asked(survey, "/", 403, client="198.51.100.9"))
    assert (other.cause.standing, other.cause.now) == (CauseStanding.DIFFERS, 200)


def test_a_rule_that_lets_the_visitor_in_is_not_the_cause() -> None:
    rules = "<Location />\nRequire ip 203.0.113.0/24\n</Location>"
    survey = httpd(block("a.test", "closed", rules), *CLOSED)
    inside = told(survey, asked(survey, "/", 403))
    assert (inside.cause.standing, inside.cause.gate) == (CauseStanding.EXPLAINED, "ladder")
    outside = told(survey, asked(survey, "/", 403, client="198.51.100.9"))
    assert (outside.cause.gate, outside.cause.why) == ("rule", "The rules keep the visitor out.")
    unknown = told(survey, asked(survey, "/", 403, client="somebody.test"))
    assert unknown.cause.gate == "rule"


def test_a_name_that_nobody_claims_leads_to_its_finding() -> None:
    survey = replace(httpd(TWO), names=(NameRecord("odd.test", ("192.0.2.10",)),))
    for status in (200, 304):
        found = told(survey, asked(survey, "/", status, host="odd.test:80"))
        assert (found.cause.standing, found.cause.gate) == (CauseStanding.EXPLAINED, "site")
        assert found.cause.why.startswith("No site claims odd.test")
        assert len(found.cause.findings) == 1


def test_what_differs_says_what_was_before_and_what_the_engine_has_not_read() -> None:
    opened = httpd(block("a.test", "closed"), "0755 ines /srv/closed/", CLOSED[1])
    found = told(opened, asked(opened, "/", 403), closed())
    assert (found.cause.standing, found.cause.now) == (CauseStanding.DIFFERS, 200)
    assert "may not pass through /srv/closed" in found.cause.before
    assert found.cause.findings == ()
    alike = told(opened, asked(opened, "/", 500), closed())
    assert (alike.cause.standing, alike.cause.before) == (CauseStanding.DIFFERS, "")


def test_what_the_engine_has_not_read_since_it_changed_leads_to_that_finding() -> None:
    survey = CASES["state.not-reloaded"][0]()
    found = told(survey, asked(survey, "/", 500))
    ids = {f.key: f.id for f in audit(Scene(Follower(survey))).findings}
    assert [ids[key] for key in found.cause.findings] == ["state.not-reloaded"]


def test_lines_of_a_shared_log_are_tried_with_each_site_that_writes_it() -> None:
    survey = httpd(TWO.replace("DocumentRoot /srv/a", "DocumentRoot /srv/none", 1))
    found = sources(Scene(Follower(survey)))
    (shared,) = [source for source in found if source.kind is SourceKind.ACCESS]
    assert (shared.path, len(shared.sites), shared.trouble) == ("/srv/all.log", 2, "")
    assert shared.books is not None
    key = shared.books.site(b"", b"").decode()
    assert key == "log /srv/all.log"
    assert (
        told(survey, asked(survey, "/nothing", 404, site=key)).cause.standing
        is CauseStanding.EXPLAINED
    )


def test_logs_that_cannot_be_read_say_why() -> None:
    lines = logged("a.test", '"|/bin/rotate" common') + logged("b.test", '/srv/b.log "%h % x"')
    found = {
        s.path: s.trouble
        for s in sources(Scene(Follower(httpd(lines))))
        if s.kind is SourceKind.ACCESS
    }
    assert "its lines go to a program" in found.values()
    assert "cannot be understood" in found["/srv/b.log"]


def test_a_personal_site_is_explained_by_its_home() -> None:
    survey = homes("0700 ines /home/ines/", "0755 ines /home/ines/public_html/",
                   "0644 ines /home/ines/public_html/index.html")  # fmt: skip
    found = told(survey, asked(survey, "/~ines/", 403))
    assert (found.cause.gate, found.place, found.cause.place) == ("ladder", "/home/ines", "/home")
    assert len(found.cause.findings) == 1


def test_the_change_nearest_before_and_those_since() -> None:
    changes = [DiskChange("x", f"/{at}", at) for at in (900, 100, 500)]
    assert before(changes, 450) == changes[2]  # clocks may differ by a minute
    assert before(changes, 400) == changes[1]
    assert before(changes, 10) is None
    assert [change.at for change in since(changes, 400)] == [500, 900]
