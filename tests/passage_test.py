"""The passage as a whole: verdicts, obstacles in their order, doubts with their place."""

from __future__ import annotations

import ast
import pickle
import re
from collections import Counter
from dataclasses import replace
from pathlib import Path

import pytest

from ecumen import codes
from ecumen.audit import CHECKS
from ecumen.codes import CODES, Code
from ecumen.passage import Follower, Verdict, follow, read_request, words
from ecumen.passage.front import front_pages
from ecumen.passage.gates import GATES
from ecumen.survey import Gap, Listener, NameRecord, Survey
from ecumen_demo import demo_survey
from tests import whole
from tests.builders import codes as stopped
from tests.builders import passage, replacing, server

SITE = """\
<VirtualHost 192.0.2.10:80>
ServerName choir.test
ServerAlias *.choir.test
DocumentRoot /srv/choir
CustomLog logs/choir.log common
</VirtualHost>
"""
FILES = ("0644 ines /srv/choir/index.html", "0644 ines /srv/choir/style.css")


def gate(found, name: str):  # type: ignore[no-untyped-def]
    return next(each for each in found.gates if each.gate == name)


def test_a_page_that_is_shown_passes_every_gate() -> None:
    found = passage(server(SITE, FILES), "http://choir.test/")
    assert (found.decided, found.status, found.content_type) == (True, 200, "text/html")
    assert found.file == "/srv/choir/index.html"
    assert found.log == "/etc/logs/choir.log"
    assert found.site is not None
    assert found.site.declared_at == "/etc/c:12"
    verdicts = [each.verdict.value for each in found.gates]
    assert verdicts == ["skipped", "clear", "skipped", *["clear"] * 4, "skipped", "clear", "clear"]


def test_obstacles_stand_in_the_order_in_which_they_are_met() -> None:
    closed = SITE.replace(
        "</VirtualHost>", "<Location />\nRequire all denied\n</Location>\n</VirtualHost>"
    )
    files = ("0700 ines /srv/choir/", "0600 ines /srv/choir/index.html", "0755 root /srv/")
    found = passage(server(closed, files), "http://choir.test/")
    assert stopped(found) == ["rule.denied", "ladder.shut", "ladder.unreadable"]
    assert found.status == 403
    deeper = passage(server(closed, files), "http://choir.test/style/x.css")
    assert stopped(deeper) == ["ladder.shut", "rule.denied", "serve.missing"]
    assert gate(found, "ladder").verdict is Verdict.BLOCKED


def test_every_obstacle_says_what_would_mend_it() -> None:
    found = passage(server(SITE, ("0700 ines /srv/choir/",)), "http://choir.test/")
    assert found.obstacles[0].mend == "Let www-data pass through /srv/choir."
    assert found.obstacles[0].evidence[0].owner == "ines"


@pytest.mark.parametrize(("count", "decided"), [(1, True), (101, False)])
def test_an_owner_cannot_have_endless_files_chosen_among(count: int, decided: bool) -> None:
    lines = "LoadModule negotiation_module m\n<Directory /srv/choir>\nOptions MultiViews\n"
    files = [*FILES, *(f"0644 root /srv/choir/b.{at}" for at in range(count))]
    found = passage(server(f"{lines}</Directory>\n{SITE}", files), "http://choir.test/b")
    assert (found.decided, found.status) == (decided, 404)


@pytest.mark.parametrize(
    ("line", "url", "place"),
    [
        (
            "<Directory /srv/choir>\nRewriteEngine On\nRewriteRule ^ %{TIME_YEAR}\n</Directory>",
            "http://choir.test/",
            "/etc/c:14",
        ),
        ("FancyThing 7", "http://choir.test/", "/etc/c:12"),
        (
            "<Directory /srv/choir>\nDeny from env=UNIQUE_ID\n</Directory>",
            "http://choir.test/",
            "/etc/c:13",
        ),
        ("<If \"-f '/x'\">\n</If>", "http://choir.test/", "/etc/c:12"),
        ("LoadModule odd_module m", "http://choir.test/", "/etc/c:12"),
        (
            "ProxyPass /app http://192.0.2.77/\nLoadModule proxy_module m\n"
            "LoadModule proxy_http_module m",
            "http://choir.test/app/x",
            "/etc/c:12",
        ),
        ("SetHandler proxy:fcgi://127.0.0.1:9000", "http://choir.test/style.css", "/etc/c:12"),
    ],
)
def test_what_is_not_evaluated_is_named_with_file_and_line(line: str, url: str, place: str) -> None:
    found = passage(server(f"{line}\n{SITE}", FILES), url)
    assert not found.decided
    places = [f"{p.file}:{p.line}" for doubt in found.unsure_because for p in doubt.evidence]
    assert place in places


@pytest.mark.parametrize(
    "line",
    [
        "ProxyPass /app http://127.0.0.1:9/",
        "Redirect /old http://other.test/",
        "<Directory /srv/other>\nFancyThing 7\n</Directory>",
        "<IfModule gone_module>\nFancyThing 7\n</IfModule>",
        "<VirtualHost 192.0.2.10:81>\nFancyThing 7\n</VirtualHost>",
        "RewriteEngine Off\nRewriteRule ^ /x",
        "SSLProtocol all",
        "Header set X-Note here",
    ],
)
def test_what_does_not_bear_on_a_request_leaves_it_decided(line: str) -> None:
    found = passage(server(f"{line}\n{SITE}", FILES), "http://choir.test/")
    assert (found.decided, found.status) == (True, 200)


def test_a_doubt_behind_the_deciding_obstacle_does_not_count() -> None:
    files = ("0700 ines /srv/choir/", "0644 ines /srv/choir/page.odd")
    config = "AddHandler odd-script .odd\n" + SITE
    found = passage(server(config, files), "http://choir.test/page.odd")
    assert (found.decided, found.status, stopped(found)) == (True, 403, ["ladder.shut"])


def test_an_override_file_is_in_doubt_until_it_is_read() -> None:
    config = SITE.replace("</V", "<Directory /srv>\nAllowOverride All\n</Directory>\n</V")
    plain = passage(server(config, FILES), "http://choir.test/")
    assert plain.decided
    found = passage(
        server(config, (*FILES, "0644 ines /srv/choir/.htaccess")), "http://choir.test/"
    )
    assert not found.decided
    assert found.unsure_because[0].evidence[0].path == "/srv/choir/.htaccess"


def test_what_the_survey_does_not_hold_is_unsure() -> None:
    survey = server(SITE.replace("/srv/choir", "/far/choir"))
    entry = survey.files.get("/")
    assert entry is not None
    partial = replace(survey, files=replacing(survey.files, [replace(entry, listed=False)]))
    found = passage(partial, "http://choir.test/")
    assert not found.decided
    assert "/far" in found.unsure_because[0].reason


def test_a_mistake_in_the_configuration_is_named() -> None:
    found = passage(server(f"{SITE}<Directory /x>\n", FILES), "http://choir.test/")
    assert not found.decided
    assert "not closed" in found.unsure_because[0].reason


def test_nothing_listens() -> None:
    found = passage(server(SITE, FILES, declared=False), "http://choir.test/")
    assert (found.decided, found.status, stopped(found)) == (True, None, ["door.unheard"])
    heard = (Listener("0.0.0.0", 80, "apache2", 1),)
    found = passage(server(SITE, FILES, declared=False, listeners=heard), "http://choir.test/")
    assert found.status == 200
    held = (Listener("192.0.2.10", 80, "teapot", 1),)
    found = passage(server(SITE, FILES, declared=False, listeners=held), "http://choir.test/")
    assert not found.decided
    assert gate(found, "door").verdict is Verdict.UNSURE


def test_names_lead_here_elsewhere_or_nowhere() -> None:
    names = (
        NameRecord("choir.test", ("192.0.2.10",)),
        NameRecord("www.choir.test", ()),
        NameRecord("old.choir.test", ("203.0.113.9",)),
    )
    survey = server(SITE, FILES, names=names)
    assert passage(survey, "http://choir.test/", to=None).status == 200
    assert stopped(passage(survey, "http://www.choir.test/", to=None)) == ["name.nowhere"]
    assert stopped(passage(survey, "http://old.choir.test/", to=None)) == ["name.elsewhere"]
    unknown = passage(survey, "http://x.choir.test/", to=None)
    assert not unknown.decided
    assert unknown.site is not None
    assert unknown.site.name == "choir.test"


def test_a_visitor_of_the_loopback_address_is_the_server_itself() -> None:
    config = (
        "Listen 127.0.0.1:80\n<VirtualHost *:80>\nDocumentRoot /srv/choir\n"
        "<Location />\nRequire local\n</Location>\n</VirtualHost>\n"
    )
    survey = server(config, FILES)
    assert passage(survey, "http://any.test/", to="127.0.0.1").status == 200
    assert stopped(passage(survey, "http://any.test/")) == ["rule.local-only"]
    assert passage(survey, "http://any.test/", source="127.0.0.1").status == 200


def test_a_nameless_block_may_have_the_machines_name() -> None:
    hosts = "".join(
        f"<VirtualHost *:80>\n{line}DocumentRoot /srv/{root}\n</VirtualHost>\n"
        for line, root in (("ServerName a.test\n", "choir"), ("", "other"))
    )
    survey = server(hosts, FILES)
    assert passage(survey, "http://x.test/").decided
    assert not passage(survey, "http://quay/").decided
    assert passage(replace(survey, host="elsewhere"), "http://quay/").decided


def test_an_account_that_the_survey_may_lack_is_in_doubt() -> None:
    survey = server("UserDir web\n" + SITE, FILES)
    assert passage(survey, "http://choir.test/~nobody/").decided
    partial = replace(survey, gaps=(Gap("accounts", "/etc/nsswitch.conf", "ldap"),))
    assert not passage(partial, "http://choir.test/~nobody/").decided


def test_an_enforced_policy_is_in_doubt() -> None:
    survey = server(SITE, FILES, kernel={"security.mode": "enforcing"})
    found = passage(survey, "http://choir.test/")
    assert not found.decided
    assert gate(found, "context").verdict is Verdict.UNSURE


def test_a_protected_link_is_not_followed() -> None:
    files = (
        "1777 root /srv/choir/",
        "0777 otto /srv/choir/index.html -> /srv/page.html",
        "0644 ines /srv/page.html",
    )
    kernel = {"fs.protected_symlinks": "1"}
    assert passage(server(SITE, files), "http://choir.test/").status == 200
    found = passage(server(SITE, files, kernel=kernel), "http://choir.test/")
    assert "ladder.link-protected" in stopped(found)


def test_a_hundred_sites_claim_one_name() -> None:
    hosts = "".join(
        f"<VirtualHost 192.0.2.10:80>\nServerName s{n}.test\nServerAlias same.test\n"
        f"DocumentRoot /srv/choir\n</VirtualHost>\n"
        for n in range(100)
    )
    found = passage(server(hosts, FILES), "http://same.test/")
    claims = gate(found, "site").claims
    assert claims[0].outcome == "won"
    assert claims[1].outcome == "matched-later"
    assert len(claims) < 60


# --- words ---


def _used() -> set[str]:
    """The names of all codes that stand in the product outside their table."""
    root = Path(__file__).parents[1] / "src"
    paths = [path for path in root.rglob("*.py") if not path.name.endswith("_test.py")]
    return {
        node.attr
        for path in paths
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Attribute)
        and isinstance(node.value, ast.Name)
        and node.value.id == "codes"
        and node.attr.isupper()
    }


def test_every_code_is_declared_and_every_declared_code_is_used() -> None:
    declared = {name: code for name, code in vars(codes).items() if isinstance(code, Code)}
    assert set(declared) == _used()
    assert {str(code) for code in declared.values()} == set(CODES)
    gates = {gate.name for gate in GATES} | {""}
    for name, code in declared.items():
        assert name == re.sub("[.-]", "_", code).upper()
        assert code.gate in gates, code
        assert code.reason.endswith((".", "}")), code
        assert not code.mend or code.mend.endswith("."), code
        assert bool(code.mend) == (code.verdict is Verdict.BLOCKED), code
        assert set(code.findings) <= set(CHECKS), code
        assert pickle.loads(pickle.dumps(code)) is code


def test_a_fact_that_is_missing_is_told_plainly_and_logged(
    monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    monkeypatch.setattr(words._Facts, "__missing__", whole.MISSING)
    assert words.say(codes.SERVE_MISSING, {}) == "There is no (not known: path)."
    assert "path" in caplog.text


def test_no_sentence_lacks_a_fact() -> None:
    survey: Survey = demo_survey()
    follower = Follower(survey)
    # Of personal sites, which are much alike, some.
    for front in list(front_pages(follower))[::3]:
        for path in ("", "style", "no/such", "style/main.css/x", "%zz", "a%2fb", "../x"):
            for source in (None, "127.0.0.1"):
                follower.follow(read_request(front.url + path, to=front.to, source=source))
    for url in ("https://choir.example/", "http://nowhere.test/", "http://[2001:db8::10]/"):
        follower.follow(read_request(url))


def test_the_demo_is_the_same_every_time_and_a_third_of_its_members_are_in_trouble() -> None:
    assert list(demo_survey().files) == list(demo_survey().files)
    fronts = list(front_pages(Follower(demo_survey())))
    hosted = [front for front in fronts if front.site.personal is None]
    members = [front for front in fronts if front.site.personal is not None]
    assert len(hosted) >= 40
    assert len(members) >= 15
    dark = [front for front in members if front.state == "blocked"]
    assert len(dark) >= len(members) / 3
    in_trouble = {front.gate for front in fronts if front.state == "blocked"}
    assert in_trouble == {"door", "rule", "ladder", "context", "serve"}


def test_short_answers_are_those_of_the_whole_evaluation() -> None:
    follower = Follower(demo_survey())
    short = Counter[int]()
    for front in front_pages(follower):
        for path in ("", "style/main.css", "style", "no/such", "none.html?x=1"):
            method = "HEAD" if (len(front.url) + len(path)) % 2 else "GET"
            request = read_request(front.url + path, to=front.to, method=method)
            known = follower.short.answer(request)
            if known is not None:
                short[known.status] += 1
            assert follower.brief(request) == follower.at_length(request)
    # The demo's policy is enforced: short answers need its leave for every step.
    assert short[200] > 100
    assert min(short[301], short[404], short[403]) > 20


def test_a_short_answer_takes_an_alias_without_its_slash_for_no_folder() -> None:
    site = SITE.replace("DocumentRoot", "Alias /boat/ /srv/choir\nDocumentRoot")
    follower = Follower(server(site, FILES))
    request = read_request("http://choir.test/boat/", to="192.0.2.10")
    assert follower.short.answer(request) is None
    assert follower.brief(request) == follower.at_length(request)


def test_following_once_and_following_many_agree() -> None:
    survey = server(SITE, FILES)
    request = read_request("http://choir.test/style.css", to="192.0.2.10")
    assert follow(survey, request) == Follower(survey).follow(request)
