"""Plans over the API: what is added, what is asked before something is done, what is told after."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth import get_user_model
from django.core.cache import cache
from django.test import Client

from ecumen.operations import done, read_plan
from ecumen.survey import FileTable, read_survey, write_survey
from ecumen_web import queue
from ecumen_web.store.models import JobRecord, PlanRecord, SurveyRecord
from ecumen_web.surveys import loading
from tests.builders import server

pytestmark = pytest.mark.django_db
CONFIG = """\
<VirtualHost *:80>
ServerName a.test
DocumentRoot /srv/a
<Directory /srv/a>
Require all granted
</Directory>
</VirtualHost>
"""
FILES = ("0755 root /srv/", "0700 ines /srv/a/", "0644 ines /srv/a/index.html")
OPEN = {"what": "mode", "path": "/srv/a", "was": "0700", "to": "0701"}
SHUT = {"what": "mode", "path": "/srv/a/index.html", "was": "0644", "to": "0600"}


def agent(folder: Path, method: str, params: dict[str, Any], progress: Callable[..., None]) -> Any:
    """Stands in for one: it does a plan on the survey, or what the test has written down."""
    said = folder / "said.json"
    if method == "ledger":
        return json.loads((folder / "ledger.json").read_text())
    if method == "survey":
        return {"path": str(folder / "now.survey")}
    if said.exists():
        return json.loads(said.read_text())
    progress("a step", 0, 1)
    plan = read_plan(params["plan"])
    with (folder / "now.survey").open("rb") as stream:
        survey = read_survey(stream)
    keep(folder, done(survey, plan.operations), survey.taken_at + 1)
    entry = {"id": 1, "at": 7, "who": params["who"], "title": plan.title, "state": "done"}
    told = {**entry, "said": "Done.", "steps": ["a step"], "why": []}
    (folder / "ledger.json").write_text(json.dumps([told]))
    return {"entry": 1, "state": "done", "said": "Done."}


def keep(folder: Path, survey: Any, taken_at: int) -> bytes:
    from dataclasses import replace

    stream = io.BytesIO()
    write_survey(replace(survey, files=FileTable(iter(survey.files)), taken_at=taken_at), stream)
    (folder / "now.survey").write_bytes(stream.getvalue())
    return stream.getvalue()


@pytest.fixture(autouse=True)
def home(settings: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    settings.SURVEYS = tmp_path
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    cache.clear()
    loading.scene_of.cache_clear()
    monkeypatch.setattr(queue.queue, "immediate", True)
    state = tmp_path / "state"
    state.mkdir()
    settings.REACHED = {
        "demo": {"logs": "", "changed_by": "tests.plans_test.agent", "state": str(state)}
    }
    survey = server("", FILES)
    whole = survey.texts["/etc/c"] + CONFIG.encode()
    data = keep(state, server("", FILES, texts={"/etc/c": whole}), 1_000)
    name = loading.keep_file(io.BytesIO(data))
    loading.load_kept(name, lambda *step: None, SurveyRecord.Origin.DEMO)
    return state


@pytest.fixture
def client() -> Client:
    user = get_user_model().objects.create_user(username="ines", password="a long password")
    client = Client()
    client.force_login(user)
    return client


def yes(client: Client, number: int) -> list[str]:
    """The names of all that a plan makes worse."""
    found = client.get(f"/api/surveys/latest/rehearsal/{number}").json()
    return [each["name"] for each in found["worse"]]


def post(client: Client, path: str, **body: Any) -> Any:
    return client.post(path, json.dumps(body), content_type="application/json")


def test_a_plan_is_rehearsed_done_and_stands_in_the_ledger(client: Client) -> None:
    key = SurveyRecord.objects.get().findings.get(check_id="ladder.shut").key
    plan = post(client, "/api/plans", finding=key, remedy=0).json()
    assert plan["steps"][0]["at"] == "/srv/a"
    # Twice is once.
    again = post(client, "/api/plans", finding=key, remedy=0).json()
    assert (again["id"], len(again["steps"])) == (plan["id"], len(plan["steps"]))
    found = client.get(f"/api/surveys/latest/rehearsal/{plan['id']}").json()
    assert found["counts"] == {"opens": 2}
    assert found["mended"]
    # The page that comes back is an empty one, and that is told.
    assert [each["kind"] for each in found["worse"]] == ["index.empty"]
    path = f"/api/plans/{plan['id']}/apply"
    # Whoever has only got hold of a session changes nothing.
    assert post(client, path).status_code == 403
    assert post(client, path, password="wrong").status_code == 403
    assert not JobRecord.objects.exists()
    names = yes(client, plan["id"])
    job = post(client, path, password="a long password", although=names)
    assert job.status_code == 202
    assert client.get(f"/api/jobs/{job.json()['id']}").json()["error"] == ""
    assert SurveyRecord.objects.count() == 2
    assert client.get("/api/surveys/latest/sites").json()
    assert not SurveyRecord.objects.first().findings.filter(check_id="ladder.shut").exists()
    (entry,) = client.get("/api/ledger").json()["entries"]
    assert (entry["who"], entry["state"]) == ("ines", "done")
    # What was done is not done once more, nor rewritten.
    assert post(client, path).status_code == 404
    assert client.delete(f"/api/plans/{plan['id']}").status_code == 404


def test_what_gets_worse_is_done_only_when_it_is_named(client: Client) -> None:
    post(client, "/api/plans", operations=[OPEN], title="open")
    number = PlanRecord.objects.get().pk
    opened = {"although": yes(client, number), "password": "a long password"}
    post(client, f"/api/plans/{number}/apply", **opened)
    shut = post(client, "/api/plans", operations=[SHUT], title="shut").json()["id"]
    assert shut != number
    names = yes(client, shut)
    assert "a.test" in names
    path = f"/api/plans/{shut}/apply"
    job = post(client, path).json()
    said = client.get(f"/api/jobs/{job['id']}").json()
    assert (said["state"], "a.test" in said["error"]) == ("failed", True)
    job = post(client, path, although=names).json()
    assert client.get(f"/api/jobs/{job['id']}").json()["state"] == "done"


def test_what_the_agent_refuses_is_said_as_it_says_it(client: Client, home: Path) -> None:
    number = post(client, "/api/plans", operations=[OPEN], title="open").json()["id"]
    (home / "said.json").write_text(
        json.dumps({"entry": 3, "state": "taken back", "said": "Somebody else was there before."})
    )
    opened = {"although": yes(client, number), "password": "a long password"}
    job = post(client, f"/api/plans/{number}/apply", **opened).json()
    said = client.get(f"/api/jobs/{job['id']}").json()
    assert said["error"] == "Somebody else was there before."
    # The plan stands in the ledger, as what became of it.
    assert PlanRecord.objects.get().entry == 3


def test_only_the_server_of_the_survey_is_changed(client: Client, settings: Any) -> None:
    settings.REACHED = {}
    number = post(client, "/api/plans", operations=[OPEN], title="open").json()["id"]
    assert "only the server is changed" in client.get("/api/ledger").json()["trouble"]
    opened = {"although": yes(client, number), "password": "a long password"}
    job = post(client, f"/api/plans/{number}/apply", **opened).json()
    assert "only the server" in client.get(f"/api/jobs/{job['id']}").json()["error"]


def test_nonsense_is_refused_with_its_reason(client: Client) -> None:
    for wrong in (
        {"operations": [{"what": "run", "path": "/x"}]}, {"operations": [7]}, {"operations": 7},
        {"operations": [{**OPEN, "to": "0755; rm"}]}, {}, {"finding": "none"},
    ):  # fmt: skip
        assert post(client, "/api/plans", **wrong).status_code in (400, 404), wrong
    assert not PlanRecord.objects.exists()
    number = post(client, "/api/plans", operations=[OPEN]).json()["id"]
    for order in ([1], [0, 0], ["x"], [-1]):
        asked = client.patch(
            f"/api/plans/{number}", json.dumps({"order": order}), content_type="application/json"
        )
        assert asked.status_code == 400, order
    assert client.get("/api/surveys/latest/rehearsal/999").status_code == 404
