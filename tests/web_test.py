"""The API: nothing without signing in, changes only with their token, bad files named."""

from __future__ import annotations

import gzip
import io
import json
import sqlite3
import time
import weakref
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import icalendar
import pytest
from django.contrib.auth import get_user_model
from django.core.cache import cache
from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import HttpRequest, HttpResponse
from django.test import Client, RequestFactory
from rest_framework.exceptions import ValidationError
from rest_framework.renderers import JSONRenderer
from rest_framework_dataclasses.serializers import DataclassSerializer

from ecumen.audit.scene import Scene
from ecumen.passage import Follower
from ecumen.passage.request import read_request
from ecumen.survey import FileTable, write_survey
from ecumen.views.lanes import lanes
from ecumen.views.sheet import sheet
from ecumen_demo import Moment, demo_survey
from ecumen_machine.quiet import let_go
from ecumen_web import queue
from ecumen_web.api import roots, sites
from ecumen_web.api.bindings import Bindings, BindingsSerializer
from ecumen_web.api.passage import PassageSerializer
from ecumen_web.api.problems import handle
from ecumen_web.api.reply import AskedServerSerializer
from ecumen_web.api.sheet import SheetSerializer
from ecumen_web.api.values import ValueSerializer
from ecumen_web.explaining.replies import AskedServer
from ecumen_web.kept import _Answers, kept
from ecumen_web.store.models import JobRecord, SurveyRecord
from ecumen_web.store.translate import clean
from ecumen_web.surveys import loading
from ecumen_web.throttle import SignInTrial
from tests.audit_test import HOME, ONE, certified, homes, labelled
from tests.builders import server

pytestmark = pytest.mark.django_db

CONFIG = """\
<VirtualHost 192.0.2.10:80>
ServerName choir.test
DocumentRoot /srv/choir
</VirtualHost>
<VirtualHost 192.0.2.10:80>
ServerName "\udcffodd<b>.test"
DocumentRoot /srv/none
</VirtualHost>
"""


@pytest.fixture(autouse=True)
def home(settings: Any, tmp_path: Path) -> None:
    settings.SURVEYS = tmp_path
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    cache.clear()
    loading.scene_of.cache_clear()
    roots._ground_of.cache_clear()
    sites._written.cache_clear()


@pytest.fixture(autouse=True)
def at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """Jobs are worked on as they are asked for."""
    monkeypatch.setattr(queue.queue, "immediate", True)


@pytest.fixture
def visitor() -> Client:
    return Client(enforce_csrf_checks=True)


@pytest.fixture
def admin() -> Client:
    user = get_user_model().objects.create_user(username="ines", password="a long password")
    client = Client()
    client.force_login(user)
    return client


def survey_bytes(*, opened: bool = False, taken_at: int = 0) -> bytes:
    config = CONFIG.encode("utf-8", "surrogateescape").decode("utf-8", "surrogateescape")
    files = (f"{'0755' if opened else '0700'} ines /srv/choir/", "0644 ines /srv/choir/index.html")
    survey = server("", files)
    text = survey.texts["/etc/c"] + config.encode("utf-8", "surrogateescape")
    changed = replace(server("", files, texts={"/etc/c": text}), taken_at=taken_at)
    stream = io.BytesIO()
    write_survey(changed, stream)
    return stream.getvalue()


def upload(client: Client, data: bytes) -> Any:
    return client.post("/api/surveys", {"file": SimpleUploadedFile("x.survey", data)})


@pytest.mark.parametrize(
    ("method", "path"),
    [
        ("get", "/api/surveys"),
        ("post", "/api/surveys"),
        ("get", "/api/jobs/1"),
        ("delete", "/api/jobs/1"),
        ("get", "/api/surveys/latest/sites"),
        ("get", "/api/surveys/latest/passage?url=http://x/"),
        ("post", "/api/surveys/latest/reply"),
        ("get", "/api/surveys/latest/findings"),
        ("get", "/api/surveys/latest/findings/0"),
        ("get", "/api/surveys/latest/bindings"),
        ("get", "/api/surveys/latest/seals"),
        ("get", "/api/surveys/latest/seals.ics"),
        ("get", "/api/surveys/latest/seals.ics?key=x:y"),
        ("get", "/api/session/calendar"),
        ("get", "/api/surveys/latest/changes"),
        ("get", "/api/surveys/latest/mending?url=http://x/"),
        ("get", "/api/surveys/latest/users"),
        ("post", "/api/surveys/latest/users"),
        ("get", "/api/surveys/latest/contexts"),
        ("get", "/api/surveys/latest/neighbours"),
        ("get", "/api/surveys/latest/who?path=/"),
        ("get", "/api/surveys/latest/roots"),
        ("get", "/api/surveys/latest/site?at=x"),
        ("put", "/api/surveys/latest/findings/0/acceptance"),
    ],
)
def test_nothing_is_told_without_signing_in(visitor: Client, method: str, path: str) -> None:
    assert getattr(visitor, method)(path).status_code == 403


def test_the_calendar_of_ends_is_read_with_its_key_and_nothing_else_is(
    admin: Client, visitor: Client
) -> None:
    stream = io.BytesIO()
    write_survey(certified(day=75), stream)
    upload(admin, stream.getvalue())
    seals = admin.get("/api/surveys/latest/seals").json()
    assert [(e["sites"], e["state"], e["issuer"]) for e in seals["ends"]] == [
        (["a.test"], "soon", "Middle")
    ]
    assert seals["weeks"][:3] == [0, 0, 1]
    path = admin.get("/api/session/calendar").json()["path"]
    found = visitor.get(path)
    assert found["Content-Type"].startswith("text/calendar")
    (event,) = icalendar.Calendar.from_ical(found.content).walk("VEVENT")
    assert event.decoded("dtstart") == date(1970, 4, 1)
    assert "a.test" in event["summary"]
    key = path.partition("?")[2]
    assert visitor.get(f"/api/surveys/latest/seals?{key}").status_code == 403
    assert visitor.post(path).status_code == 403
    assert visitor.get(path[:-2]).status_code == 403
    person = get_user_model().objects.get(username="ines")
    for change in (lambda: person.set_password("another"), lambda: setattr(person, "is_active", 0)):
        path = admin.get("/api/session/calendar").json()["path"]
        assert visitor.get(path).status_code == 200
        change()
        person.save()
        assert visitor.get(path).status_code == 403
        admin.force_login(person)


def test_signing_in_needs_the_token_and_the_right_password(visitor: Client) -> None:
    get_user_model().objects.create_user(username="ines", password="a long password")
    given = {"name": "ines", "password": "a long password"}
    bare = visitor.post("/api/session", given, content_type="application/json")
    assert bare.status_code == 403
    token = visitor.get("/api/session").json()["token"]

    def sign_in(password: str) -> Any:
        body = {"name": "ines", "password": password}
        return visitor.post(
            "/api/session", body, content_type="application/json", headers={"X-CSRFToken": token}
        )

    assert sign_in("wrong").status_code == 400
    assert sign_in("a long password").json()["signed_in"] is True
    cookie = visitor.cookies["sessionid"]
    assert cookie["httponly"]
    assert cookie["samesite"] == "Strict"
    assert visitor.get("/api/surveys").json() == []
    # A change without the token of the new session is refused.
    assert visitor.delete("/api/session").status_code == 403


def test_guessing_passwords_is_slowed_down(
    visitor: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    token = visitor.get("/api/session").json()["token"]

    def guess(name: str, password: str, address: str = "192.0.2.1") -> int:
        answer = visitor.post(
            "/api/session",
            {"name": name, "password": password},
            content_type="application/json",
            headers={"X-CSRFToken": token},
            REMOTE_ADDR=address,
        )
        return int(answer.status_code)

    assert [guess("ines", str(number)) for number in range(8)] == [400] * 6 + [429] * 2
    # By account and address: neither others nor the same one from elsewhere have to wait.
    assert guess("otto", "x") == 400
    assert guess("ines", "x", "192.0.2.2") == 400
    assert visitor.get("/api/session").status_code == 200
    now = time.time()
    monkeypatch.setattr("ecumen_web.throttle.time.time", lambda: now + 3)
    assert [guess("ines", "y"), guess("ines", "z")] == [400, 429]


def test_who_signed_in_before_is_not_locked_out_by_who_guesses(visitor: Client) -> None:
    """From the same address, as behind a proxy that does not say who asks."""
    get_user_model().objects.create_user(username="ines", password="a long password")
    right = {"name": "ines", "password": "a long password"}

    def sign_in(client: Client, given: dict[str, str]) -> int:
        headers = {"X-CSRFToken": client.get("/api/session").json()["token"]}
        answer = client.post(
            "/api/session", given, content_type="application/json", headers=headers
        )
        return int(answer.status_code)

    assert sign_in(visitor, right) == 200
    guesser = Client(enforce_csrf_checks=True)
    assert [sign_in(guesser, right | {"password": "x"}) for _ in range(8)][-1] == 429
    visitor.cookies.pop("sessionid")
    assert sign_in(visitor, right) == 200


def test_every_answer_carries_the_security_headers(visitor: Client) -> None:
    policy = visitor.get("/api/session").headers["Content-Security-Policy"]
    assert "default-src 'none'" in policy
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    assert visitor.get("/follow").headers["X-Frame-Options"] == "DENY"


def test_a_survey_is_loaded_and_asked(admin: Client) -> None:
    job = upload(admin, survey_bytes())
    assert job.status_code == 202
    done = admin.get(f"/api/jobs/{job.json()['id']}").json()
    assert (done["state"], done["error"]) == ("done", "")
    answer = admin.get("/api/surveys/latest/sites")
    packed = admin.get("/api/surveys/latest/sites", headers={"Accept-Encoding": "br, gzip"})
    assert ("Content-Encoding" in answer, packed["Content-Encoding"]) == (False, "gzip")
    assert gzip.decompress(packed.content) == answer.content
    assert "Accept-Encoding" in answer["Vary"]
    overview = answer.json()
    assert overview["survey"]["host"] == "quay"
    rows = [(site["name"], site["state"], site["gate"]) for site in overview["sites"]]
    assert rows[0] == ("choir.test", "blocked", "ladder")
    assert rows[1][0] == "\\udcffodd<b>.test"
    number = overview["survey"]["id"]
    question = {"url": "http://choir.test/", "to": "192.0.2.10"}
    passage = admin.get(f"/api/surveys/{number}/passage", question).json()
    assert passage["status"] == 403
    assert passage["gates"][0]["gate"] == "name"
    assert passage["obstacles"][0]["mend"] == "Let www-data pass through /srv/choir."
    # The same file again is the same survey.
    upload(admin, survey_bytes())
    assert SurveyRecord.objects.count() == 1


def test_what_was_made_to_load_a_survey_leaves_memory(
    admin: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    made: list[weakref.ref[FileTable]] = []

    class Watched(Scene):
        def __init__(self, follower: Follower) -> None:
            super().__init__(follower)
            made.append(weakref.ref(self.survey.files))

    monkeypatch.setattr(loading, "Scene", Watched)
    for number in range(7):
        upload(admin, survey_bytes(taken_at=number))
        assert admin.get("/api/surveys/latest/bindings").status_code == 200
    assert SurveyRecord.objects.count() == 7
    # Each was made to be loaded and to be looked at; the last few that were looked at stay.
    assert len(made) == 14
    let_go()
    assert sum(ref() is not None for ref in made) == 2


def test_what_is_no_survey_is_named_and_nothing_is_kept(admin: Client, tmp_path: Path) -> None:
    job = upload(admin, b"no zip").json()
    done = admin.get(f"/api/jobs/{job['id']}").json()
    assert done["state"] == "failed"
    assert "not a survey file" in done["error"]
    assert list(tmp_path.iterdir()) == []


def test_a_cancelled_job_keeps_nothing(admin: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    def cancelled(*_: object) -> None:
        JobRecord.objects.update(cancel=True)

    original = queue._progress
    monkeypatch.setattr(queue, "_progress", lambda job, *step: (cancelled(), original(job, *step)))
    job = upload(admin, survey_bytes()).json()
    assert admin.get(f"/api/jobs/{job['id']}").json()["state"] == "cancelled"
    assert SurveyRecord.objects.count() == 0


@pytest.mark.parametrize(
    ("path", "status", "says"),
    [
        ("/api/surveys/latest/sites", 404, "No survey is loaded yet"),
        ("/api/surveys/9/sites", 404, "No survey has this number"),
        ("/api/jobs/9", 404, "No work has this number"),
        ("/api/plans/9", 404, "No plan has this number"),
        ("/api/surveys/x/sites", 404, "no such survey"),
        ("/api/surveys/latest/passage", 400, "url"),
        ("/api/surveys/latest/passage?url=ftp://x/", 400, "only http"),
        ("/api/surveys/latest/passage?url=http://x/&to=zz", 400, "is no address"),
    ],
)
def test_bad_questions_get_one_line(admin: Client, path: str, status: int, says: str) -> None:
    answer = admin.get(path)
    assert answer.status_code == status
    assert says in answer.json()["detail"]


@pytest.mark.parametrize(
    ("told", "line"),
    [
        ({"names": "one of them"}, "names: one of them"),
        ({"names": ["one", "two"]}, "names: one two"),
        ({"detail": "Nothing of it."}, "Nothing of it."),
        ("Not that.", "Not that."),
    ],
)
def test_what_is_refused_is_said_in_one_line(told: Any, line: str) -> None:
    answer = handle(ValidationError(told), {})
    assert answer is not None
    assert answer.data == {"detail": line}


def test_findings_are_grouped_lived_with_and_compared_with_the_survey_before(
    admin: Client,
) -> None:
    upload(admin, survey_bytes())
    groups = admin.get("/api/surveys/latest/findings").json()["groups"]
    shut = next(group for group in groups if group["id"] == "ladder.shut")
    assert shut["impact"] == "outage"
    assert shut["findings"][0]["news"] == "first"
    key = shut["findings"][0]["key"]
    whole = admin.get(f"/api/surveys/latest/findings/{key}").json()
    assert whole["evidence"][0]["path"] == "/srv/choir"
    assert whole["page"][0]["title"] == "What it means"
    # Living with it takes it out of the queue, and needs a reason.
    address = f"/api/surveys/latest/findings/{key}/acceptance"
    json_type = {"content_type": "application/json"}
    assert admin.put(address, {"reason": ""}, **json_type).status_code == 400
    day_gone = {"reason": "later", "until": "2020-01-01"}
    assert admin.put(address, day_gone, **json_type).status_code == 200
    assert admin.get("/api/surveys/latest/findings").json()["accepted"] == 0
    assert admin.put(address, {"reason": "meant so"}, **json_type).json()["by"] == "ines"
    after = admin.get("/api/surveys/latest/findings").json()
    assert after["accepted"] == 1
    assert key not in str(after["groups"])
    assert key in str(admin.get("/api/surveys/latest/findings?accepted=true").json()["groups"])
    assert admin.delete(address).status_code == 204
    assert key in str(admin.get("/api/surveys/latest/findings").json()["groups"])
    # A later survey of the same server: what is still there, new, and gone.
    later = survey_bytes(opened=True, taken_at=86400)
    upload(admin, later)
    found = admin.get("/api/surveys/latest/findings").json()
    assert [gone["key"] for gone in found["gone"]] == [key]
    news = {each["id"]: each["news"] for group in found["groups"] for each in group["findings"]}
    # Once the folder is open it shows that its index has nothing in it.
    assert news.pop("index.empty") == "new"
    assert set(news.values()) == {"still"}


def test_a_word_means_the_account_of_this_name_before_sites_that_hold_it(admin: Client) -> None:
    upload(admin, survey_bytes())

    def hits(word: str) -> list[tuple[str, str]]:
        found = admin.get("/api/surveys/latest/lookup", {"q": word}).json()
        return [(hit["kind"], hit["name"]) for hit in found]

    assert hits("ines") == [("account", "ines")]
    assert hits("OTTO")[0] == ("account", "otto")
    assert ("site", "choir.test") in hits("choir")
    assert hits("r")[0][0] == "account"
    assert hits("nobody-has-this") == hits(" ") == []
    assert admin.get("/api/surveys/latest/lookup", {"q": "x" * 300}).status_code == 400


def test_what_is_under_way_is_told_until_it_ends(admin: Client) -> None:
    assert admin.get("/api/jobs").json() == []
    waits = JobRecord.objects.create(file="x", doing="waiting")
    runs = JobRecord.objects.create(
        file="x", kind=JobRecord.Kind.LOGS, state=JobRecord.State.RUNNING, done=3, total=9
    )
    JobRecord.objects.create(file="x", state=JobRecord.State.DONE)
    found = admin.get("/api/jobs").json()
    assert [(job["id"], job["kind"], job["done"]) for job in found] == [
        (runs.pk, "logs", 3), (waits.pk, "survey", 0),
    ]  # fmt: skip


def test_a_session_ends_though_the_screen_goes_on_asking_by_itself(
    admin: Client, settings: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    monkeypatch.setattr("ecumen_web.sessions.time.time", lambda: now)
    assert admin.get("/api/surveys").status_code == 200
    for _ in range(4):
        now += 0.4 * settings.IDLE
        assert admin.get("/api/surveys").status_code == 200
    for _ in range(3):
        now += 0.4 * settings.IDLE
        last = admin.get("/api/jobs").status_code
    assert last == 403
    assert admin.get("/api/surveys").status_code == 403


def test_findings_of_one_cause_are_mended_by_one_plan(admin: Client) -> None:
    hosts = "".join(
        f"<VirtualHost 192.0.2.10:80>\nServerName h{n}.test\nDocumentRoot /srv/h{n}\n"
        "</VirtualHost>\n"
        for n in range(5)
    )
    files = [f"{mode} ines /srv/h{n}{name}" for n in range(5)
             for mode, name in (("0700", "/"), ("0644", "/index.html"))]  # fmt: skip
    allowed = "<Directory /srv>\nRequire all granted\n</Directory>\n"
    stream = io.BytesIO()
    write_survey(server(hosts + allowed, tuple(files)), stream)
    upload(admin, stream.getvalue())
    groups = admin.get("/api/surveys/latest/findings").json()["groups"]
    (shut,) = (group for group in groups if group["id"] == "ladder.shut")
    assert (shut["about"], shut["count"]) == ("/srv", 5)
    assert sorted(each["brief"] for each in shut["findings"]) == [f"h{n}.test" for n in range(5)]
    address = "/api/surveys/latest/findings/" + shut["findings"][0]["key"]
    plan = admin.get(address).json()["together"]
    assert plan["title"] == "All 5 of this cause at once"
    assert sorted(line.split()[-1] for line in plan["shell"]) == [f"/srv/h{n}" for n in range(5)]
    # What is lived with is not mended.
    admin.put(f"{address}/acceptance", {"reason": "x"}, "application/json")
    plan = admin.get(address).json()["together"]
    assert len(plan["shell"]) == 4


def test_lanes_ground_and_sites_are_told(admin: Client) -> None:
    upload(admin, survey_bytes())
    bindings = admin.get("/api/surveys/latest/bindings").json()
    lane = next(lane for lane in bindings["lanes"] if lane["address"] == "192.0.2.10")
    assert {name["name"]: name["wins"] for name in lane["names"]}["choir.test"]
    assert admin.get("/api/surveys/latest/bindings?q=nobody.has").json()["lanes"] == []
    blocked = {site["name"] for site in admin.get("/api/surveys/latest/sites").json()["sites"]
               if site["state"] == "blocked"}  # fmt: skip
    names = [name for lane in bindings["lanes"] for name in lane["names"]]
    assert {clean(name["site"]) for name in names if name["fails"]} == blocked != set()
    roots = admin.get("/api/surveys/latest/roots?within=/srv").json()
    plots = {plot["path"]: plot for plot in roots["plots"]}
    assert plots["/srv/choir"]["root"]["owner"] == "ines"
    assert plots["/srv/none"]["root"]["problem"] == "missing"
    assert plots["/srv/none"]["worst"] == "outage"
    at = admin.get("/api/surveys/latest/sites").json()["sites"][0]["declared_at"]
    whole = admin.get("/api/surveys/latest/site", {"at": at}).json()
    assert whole["sheet"]["name"] == "choir.test"
    assert whole["sheet"]["lines"][0]["text"].startswith("<VirtualHost")
    assert whole["findings"][0]["id"] == "ladder.shut"
    assert admin.get("/api/surveys/latest/site", {"at": "/x:1"}).status_code == 404


def test_changes_are_told_since_the_survey_before_or_another(admin: Client) -> None:
    upload(admin, survey_bytes())
    address = "/api/surveys/latest/changes"
    assert admin.get(address).status_code == 404
    upload(admin, survey_bytes(opened=True, taken_at=86400))
    found = admin.get(address).json()
    assert found["before"]["taken_at"] < found["after"]["taken_at"]
    (front,) = found["changes"]["passages"]["changes"]
    assert front["subject"] == "choir.test (httpd)"
    assert front["before"].startswith("403")
    assert [c["subject"] for c in found["changes"]["files"]["changes"]] == ["/srv/choir"]
    same = admin.get(address, {"since": found["after"]["id"]}).json()["changes"]
    assert not any(part["changes"] for part in same.values())
    for wrong, status in (("x", 400), ("999", 404), ("-1", 400)):
        assert admin.get(address, {"since": wrong}).status_code == status


def test_of_many_roots_some_are_drawn_what_is_wrong_first(
    admin: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(roots, "MOST_DRAWN", 1)
    upload(admin, survey_bytes())
    found = admin.get("/api/surveys/latest/roots?within=/srv").json()
    drawn = [plot for plot in found["plots"] if plot["root"]]
    assert (found["roots"], len(drawn), found["plots"][0]["more"]) == (2, 1, 1)
    assert drawn[0]["worst"] == "outage"
    only = admin.get("/api/surveys/latest/roots?within=/srv&q=CHOIR ines").json()
    assert [plot["path"] for plot in only["plots"] if plot["root"]] == ["/srv/choir"]
    assert admin.get("/api/surveys/latest/roots?q=nothing-of-it").json()["roots"] == 0


def test_what_mends_a_request_is_told_with_what_it_opens(admin: Client) -> None:
    upload(admin, survey_bytes())
    address = "/api/surveys/latest/mending"
    found = admin.get(address, {"url": "http://choir.test/", "to": "192.0.2.10"}).json()
    assert (found["mends"], found["of"]) == (1, 1)
    first, *_, last = found["ways"]
    assert first["shell"] == ["setfacl -m user:www-data:--x -- /srv/choir"]
    assert first["opened"] < last["opened"]
    assert any("otto" in words for words in last["opens"])
    assert not any("otto" in words for words in first["opens"])
    assert admin.get(address, {"url": "ftp://x/"}).status_code == 400
    assert admin.get(address).status_code == 400


def test_who_may_is_told_for_any_path(admin: Client) -> None:
    upload(admin, survey_bytes())
    address = "/api/surveys/latest/who"
    found = admin.get(address, {"path": "/srv/choir/index.html", "as": "otto"}).json()
    reading = {name: answer["allowed"] for answer in found["may"][0]["answers"]
               for name in answer["accounts"]}  # fmt: skip
    assert reading == {"root": True, "ines": True, "otto": False, "www-data": False}
    assert [rung["allowed"] for rung in found["rungs"]] == [True, True, False, True]
    assert admin.get(address, {"path": "relative"}).status_code == 400
    unknown = admin.get(address, {"path": "/<b>\n/..", "as": "nobody-here"}).json()
    assert unknown["kind"] is None
    assert unknown["rungs"] == []


def test_users_contexts_and_neighbours_are_told(admin: Client) -> None:
    stream = io.BytesIO()
    write_survey(homes(*HOME, "0644 ines /home/ines/.env"), stream)
    upload(admin, stream.getvalue())
    users = admin.get("/api/surveys/latest/users").json()
    by_name = {user["account"]: user for user in users["users"]}
    assert by_name["ines"]["first"] == ""
    assert by_name["otto"]["first"] == "home"
    assert [each["name"] for each in users["conditions"]][:3] == ["offered", "home", "folder"]
    assert users["template"]["lacks"] == []
    plan = admin.post("/api/surveys/latest/users", {"accounts": ["ines"]}, "application/json")
    assert plan.json()["ways"] == []
    bad = admin.post("/api/surveys/latest/users", {"accounts": "ines"}, "application/json")
    assert bad.status_code == 400
    cells = admin.get("/api/surveys/latest/neighbours").json()["cells"]
    assert [(c["owner"], c["other"], c["worst"], c["worker"]) for c in cells] == [
        ("ines", "otto", "/home/ines/.env", False), ("ines", "www-data", "/home/ines/.env", True),
    ]  # fmt: skip
    contexts = admin.get("/api/surveys/latest/contexts").json()
    assert (contexts["mode"], contexts["switches"], contexts["trees"]) == ("disabled", [], [])
    stream = io.BytesIO()
    write_survey(replace(labelled(ONE, "user_home_t"), taken_at=9), stream)
    upload(admin, stream.getvalue())
    contexts = admin.get("/api/surveys/latest/contexts").json()
    (tree,) = contexts["trees"]
    assert (tree["path"], tree["readable"]) == ("/srv/a", False)
    first = contexts["switches"][0]
    assert first["name"] == "httpd_read_user_content"
    assert first["sites"] == ["a.test"]
    assert {effect["what"] for effect in first["effects"]} == {"read files", "pass folders"}
    assert {port["port"]: port["allowed"] for port in contexts["ports"]} == {80: True}


def test_a_session_that_nobody_uses_ends(admin: Client, monkeypatch: pytest.MonkeyPatch) -> None:
    moment = time.time()
    monkeypatch.setattr("ecumen_web.sessions.time", SimpleNamespace(time=lambda: moment))

    def after(minutes: int) -> int:
        nonlocal moment
        moment += minutes * 60
        return admin.get("/api/surveys").status_code

    # Each use counts, whether it is written down or not.
    assert [after(minutes) for minutes in (0, 1, 29, 29, 14, 29, 31)] == [200] * 6 + [403]
    # A server that starts anew knows what was written down last.
    user = get_user_model().objects.get()
    for minutes, status in ((10, 200), (40, 403)):
        admin.force_login(user)
        assert after(0) == 200
        cache.clear()
        assert after(minutes) == status


def test_values_are_written_as_their_description_says() -> None:
    """What is written as it stands is what the fields that describe it would write."""
    scene = Scene(Follower(demo_survey(Moment.NOW)))
    follower = scene.follower
    urls = ["http://choir.example/", "http://tide-table.example/~ines/", "http://nobody.example/"]
    values: list[tuple[type[ValueSerializer[Any]], Any]] = [
        (PassageSerializer, follower.follow(read_request(url))) for url in urls
    ]
    values += [(SheetSerializer, sheet(scene, site)) for site in scene.sites[:6]]
    values += [(BindingsSerializer, Bindings(3, lanes(scene)))]
    at = datetime(2031, 4, 5, 6, 7, tzinfo=UTC)
    reply = AskedServer("192.0.2.1", 80, at, "192.0.2.9", True, "", None, [], ["/etc/x"])
    values += [(AskedServerSerializer, reply)]
    for kind, value in values:
        described = DataclassSerializer.to_representation(kind(value), value)
        assert json.loads(JSONRenderer().render(kind(value).data)) == json.loads(
            JSONRenderer().render(described)
        )


def test_what_is_kept_is_nobodys_response(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is added to an answer on its way out, as a session's cookie, stays with that answer; and
    nothing is kept longer than what it was made of.
    """
    count = 0

    def view(request: HttpRequest) -> HttpResponse:
        nonlocal count
        count += 1
        return HttpResponse(b"{}", headers={"X-View": "1"})

    records = sqlite3.connect(tmp_path / "records")
    where = {"default": {"NAME": tmp_path / "records"}}
    monkeypatch.setattr("ecumen_web.kept.settings", SimpleNamespace(DATABASES=where))
    monkeypatch.setattr("ecumen_web.kept._answers", _Answers())
    # Within a transaction, as a test is, nothing is kept.
    monkeypatch.setattr("ecumen_web.kept.connection", SimpleNamespace(in_atomic_block=False))
    ask = kept(view)
    request = RequestFactory().get("/api/surveys/latest/sites")
    request.user = get_user_model().objects.create_user("ines")
    first = ask(request)
    first.set_cookie("sessionid", "of the first")
    first["X-Outer"] = "1"
    request.user = get_user_model().objects.create_user("otto")
    second = ask(request)
    assert (count, second.content, second["X-View"]) == (1, b"{}", "1")
    assert not second.cookies
    assert "X-Outer" not in second
    # Who administers may see more.
    request.user = get_user_model().objects.create_user("ida", is_staff=True)
    ask(request)
    assert count == 2
    with records:
        records.execute("CREATE TABLE what_is_new (it)")
    ask(request)
    assert count == 3
    records.close()


def test_guesses_with_many_names_push_out_no_count() -> None:
    trial = SignInTrial.of("ines", "2001:db8::1", None)
    for _ in range(9):
        trial.failed()
    for number in range(2000):
        SignInTrial.of(f"x{number}", "192.0.2.1", None).failed()
    assert trial.wait() > 0
    # Neighbours within one network of the newer kind are one asker.
    assert SignInTrial.of("ines", "2001:db8::ffff", None).wait() > 0
    assert SignInTrial.of("ines", "2001:db8:0:1::1", None).wait() == 0


def test_folders_that_are_sites_are_counted_and_found_by_their_names(admin: Client) -> None:
    stream = io.BytesIO()
    write_survey(demo_survey(), stream)
    upload(admin, stream.getvalue())
    (lane, *_) = admin.get("/api/surveys/latest/bindings").json()["lanes"]
    assert [(one["site"], one["folders"]) for one in lane["by_pattern"]] == [
        ("gardens.example", 38)
    ]
    shown = {name["name"] for name in lane["names"] if name["in_folder"]}
    assert shown == {"leek-trench.gardens.example"}
    (lane,) = admin.get("/api/surveys/latest/bindings?q=kale-yard").json()["lanes"]
    assert [name["name"] for name in lane["names"]] == ["kale-yard.gardens.example"]
