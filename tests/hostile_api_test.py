"""Every question that the API's own description allows, and many that it does not."""

from __future__ import annotations

import io
import json
import random
import re
import time
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

import pytest
import schemathesis
from django.contrib.auth import get_user_model
from django.core.cache import cache
from django.test import Client
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import seed as seeded
from hypothesis import strategies as st
from schemathesis import APIOperation, Case, GenerationMode

from ecumen.survey import write_survey
from ecumen_demo import Moment, demo_survey
from ecumen_web import queue
from ecumen_web.store.models import SurveyRecord
from ecumen_web.surveys import loading
from tests.application import ROOT

pytestmark = pytest.mark.django_db

SLOWEST = 2.0  # seconds
# Two that are there, and what is none.
SURVEYS = st.sampled_from(
    ["latest", "latest", "latest", "1", "²", "0", "-1", "9" * 19, "%00", "x y"]
)


@pytest.fixture
def admin(settings: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Client:
    """Signed in, with the made-up server loaded."""
    settings.SURVEYS = tmp_path
    # How passwords are kept takes its time by design.
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    cache.clear()
    loading.scene_of.cache_clear()
    monkeypatch.setattr(queue.queue, "immediate", True)
    for moment in (Moment.WEEK_BEFORE, Moment.NOW):
        stream = io.BytesIO()
        write_survey(demo_survey(moment), stream)
        stream.seek(0)
        loading.load_kept(loading.keep_file(stream), lambda *step: None, SurveyRecord.Origin.DEMO)
    client = Client(raise_request_exception=False)
    client.force_login(get_user_model().objects.create_user("ines", password="x", is_staff=True))
    # What is worked out once for all is not what is timed.
    for place in (
        "sites",
        "findings",
        "bindings",
        "roots",
        "users",
        "contexts",
        "neighbours",
        "changes",
    ):
        assert client.get(f"/api/surveys/latest/{place}").status_code == 200
    return client


def operations() -> list[APIOperation]:
    schema = schemathesis.openapi.from_path(ROOT / "src/ecumen_web/api/openapi.yaml")
    return [found.ok() for found in schema.get_all_operations()]


@dataclass
class Question:
    """One question as it goes over the wire."""

    method: str
    path: str
    query: dict[str, Any]
    data: bytes
    kind: str

    def ask(self, client: Client) -> Any:
        return client.generic(
            self.method, self.path, self.data, self.kind,
            QUERY_STRING=urlencode(self.query, doseq=True, errors="replace"),
        )  # fmt: skip


def question(case: Case, survey: str) -> Question:
    """As a client would send it; a survey that is there is mostly named."""
    if "survey" in case.path_parameters:
        case.path_parameters["survey"] = survey
    query = case.query if isinstance(case.query, dict) else {}
    body, kind = case.body, case.media_type or "application/json"
    if isinstance(body, bytes):
        data = body
    elif kind.startswith("multipart/"):
        given = body.get("file", b"") if isinstance(body, dict) else b""
        content = given if isinstance(given, bytes) else str(given).encode("utf-8", "replace")
        kind = "multipart/form-data; boundary=x"
        data = b'--x\r\nContent-Disposition: form-data; name="file"; filename="x"\r\n\r\n' + content
        data += b"\r\n--x--\r\n"
    else:
        try:
            data = (
                b"" if not isinstance(body, dict | list | str | int) else json.dumps(body).encode()
            )
        except (TypeError, ValueError):
            data = repr(body).encode("utf-8", "replace")
    return Question(case.method, case.formatted_path, dict(query), data, kind)


ODD = [
    "",
    "\0",
    "²",
    "9" * 19,
    "-1",
    "1e999",
    "null",
    "../",
    "%s",
    "\udcff",
    "a" * 5000,
    "'",
    "[",
    "\n",
]


def mixed(asked: list[Question], rng: random.Random) -> Question:
    """One of what was asked, with parts of another one, and parts that nobody thought of."""
    one, other = rng.choice(asked), rng.choice(asked)
    query = dict(one.query)
    for name in set(query) | set(other.query):
        value = rng.choice([query.get(name), other.query.get(name), rng.choice(ODD), None])
        query[name] = rng.choice([value, [value, rng.choice(ODD)]]) if value is not None else ""
        if rng.random() < 0.3:
            del query[name]
    data = rng.choice([one.data, one.data, other.data])
    if data and rng.random() < 0.5:
        at = rng.randrange(len(data))
        data = data[:at] + rng.choice(ODD).encode("utf-8", "surrogateescape") + data[at + 1 :]
    path = one.path
    if rng.random() < 0.1:
        part = rng.choice([p for p in path.split("/") if p])
        path = path.replace(part, quote(rng.choice(ODD), errors="surrogateescape") or "x")
    return Question(one.method, path, query, data, rng.choice([one.kind, one.kind, other.kind]))


def test_whatever_the_description_allows_is_answered(
    admin: Client, patterns: int, cases: int, seed: int
) -> None:
    """No error of the server's, and nothing that takes longer than two seconds."""
    told: Counter[int] = Counter()
    slowest = (0.0, "")
    found = operations()
    assert len(found) > 25
    each = max(10, patterns // (3 * len(found)))
    asked: list[Question] = []

    def answered(one: Question) -> None:
        nonlocal slowest
        if one.method == "DELETE" and re.fullmatch("/api/surveys/[^/]+", one.path):
            one.path = "/api/surveys/0"
        # Of the processor: whatever else runs on the machine is not ours to judge.
        began = time.process_time()
        answer = one.ask(admin)
        took = time.process_time() - began
        told[answer.status_code] += 1
        if answer.status_code == 403:
            # It was signed out by what it asked.
            admin.force_login(get_user_model().objects.get(username="ines"))
        slowest = max(slowest, (took, str(one)[:400]))
        assert answer.status_code < 500 or answer.status_code == 507, one

    def check(operation: APIOperation) -> None:
        @settings(
            max_examples=each, deadline=None, database=None, phases=[Phase.generate],
            suppress_health_check=list(HealthCheck), derandomize=False,
        )  # fmt: skip
        @given(
            case=st.one_of(
                operation.as_strategy(generation_mode=GenerationMode.POSITIVE),
                operation.as_strategy(generation_mode=GenerationMode.NEGATIVE),
            ),
            survey=SURVEYS,
        )
        def ask(case: Case, survey: str) -> None:
            asked.append(question(case, survey))
            answered(asked[-1])

        seeded(seed)(ask)()

    for operation in found:
        check(operation)
    asked = [one for one in asked if (one.method, one.path) != ("DELETE", "/api/session")]
    rng = random.Random(seed)
    while sum(told.values()) < cases:
        answered(mixed(asked, rng))
    assert told[200] > cases / 4, told
    assert told[403] < cases / 10, told
    print(f"{sum(told.values())} questions, {dict(told)}; slowest {slowest}")
    assert slowest[0] < SLOWEST, slowest
