"""What is shown of the engines, on surveys of which it is known."""

from __future__ import annotations

from dataclasses import replace

from ecumen.audit.scene import Scene
from ecumen.passage import Follower
from ecumen.survey import FileTable, Listener, Survey
from ecumen.views.engines import EngineState, engines, may_be_done
from tests.builders import server

BLOCK = "<VirtualHost *:80>\nServerName a.test\nDocumentRoot /srv/a\n</VirtualHost>\n"
FILES = (
    "0755 root /srv/a/", "0755 root /etc/apache2/sites-enabled/",
    "0644 root /etc/apache2/sites-enabled/a.conf", "0644 root /etc/apache2/sites-enabled/b",
    "0644 root /etc/apache2/sites-enabled/.c.conf",
    "0777 root /etc/apache2/sites-enabled/d.conf -> ../gone",
)  # fmt: skip


def of(survey: Survey) -> EngineState:
    (found,) = engines(Scene(Follower(survey)))
    return found


def surveyed(**changes: object) -> Survey:
    include = "IncludeOptional /etc/apache2/sites-enabled/*.conf\n"
    found = server(include, FILES, declared=False, listeners=(Listener("::", 80, "apache2", 7),))
    texts = {**found.texts, "/etc/apache2/sites-enabled/a.conf": BLOCK.encode()}
    record = replace(found.engines[0], running=True, loaded_at=1000, **changes)  # type: ignore[arg-type]
    entries = (
        replace(e, mtime=(1500 if e.path.endswith("a.conf") else 500) * 10**9) for e in found.files
    )
    return replace(found, engines=(record,), texts=texts, files=FileTable(entries))


def test_what_runs_and_what_it_has_not_read() -> None:
    found = of(surveyed())
    assert (found.running, found.sites, found.read_at) == (True, 1, 1000)
    (changed,) = found.changed
    assert (changed.path, changed.sites) == ("/etc/apache2/sites-enabled/a.conf", ["a.test"])
    assert {each.path.rpartition("/")[2]: each.why for each in found.unread} == {
        "b": "no line names it", ".c.conf": "its name begins with a dot",
        "d.conf": "its link leads nowhere",
    }  # fmt: skip
    assert [(d.port, d.wanted, d.heard) for d in found.doors] == [(80, True, True)]


def test_what_is_wanted_and_not_heard_and_the_other_way_round() -> None:
    survey = surveyed()
    heard = (Listener("0.0.0.0", 81, "apache2", 7), Listener("0.0.0.0", 22, "sshd", 8))
    doors = of(replace(survey, listeners=heard)).doors
    assert [(d.port, d.wanted, d.heard) for d in doors] == [(80, True, False), (81, False, True)]


def test_what_an_engine_may_be_told() -> None:
    told = {}
    for running in (True, False, None):
        survey = surveyed()
        record = replace(survey.engines[0], running=running)
        (engine,) = Follower(replace(survey, engines=(record,))).engines
        told[running] = [each.what for each in may_be_done(engine)]
    assert told == {True: ["reload", "stop"], False: ["start"], None: []}
