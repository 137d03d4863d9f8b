"""Lists of sites: what is, what shall be, and the plan from one to the other."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner, Result

from ecumen.audit.scene import Scene
from ecumen.founding.roster import ListError, listed, read_list, sought
from ecumen.operations import read_plan
from ecumen.operations.reload import Reload
from ecumen.operations.trial import done
from ecumen.passage import Follower
from ecumen.rehearsal import Fate, rehearse
from ecumen.survey import (
    Account,
    EngineRecord,
    Entry,
    FileTable,
    Kind,
    Survey,
    write_survey,
)
from ecumen_cli.main import ecumen
from ecumen_demo import demo_survey


@pytest.fixture(scope="module")
def survey() -> Survey:
    return demo_survey()


@pytest.fixture(scope="module")
def scene(survey: Survey) -> Scene:
    return Scene(Follower(survey))


@pytest.fixture(scope="module")
def file(survey: Survey, tmp_path_factory: pytest.TempPathFactory) -> str:
    path = tmp_path_factory.mktemp("survey") / "quay.survey"
    with path.open("wb") as stream:
        write_survey(survey, stream)
    return str(path)


def run(*words: str) -> Result:
    return CliRunner().invoke(ecumen, ["sites", *words], standalone_mode=False)


def test_a_server_is_as_its_own_list_has_it(scene: Scene) -> None:
    found = sought(scene, read_list(listed(scene)))
    assert found.operations == ()
    assert (*found.refused, *found.otherwise, *found.unlisted) == ()


def test_what_the_list_has_more_is_made_and_then_nothing_is_left(
    scene: Scene, survey: Survey, seed: int
) -> None:
    rng = random.Random(seed)
    people = [each.name for each in survey.accounts if 1000 < each.uid < 60000]
    kinds = [{"engine": "nginx"}, {"engine": "httpd"}, {}]
    sights = [{"seen_by": ["local"]}, {"seen_by": ["everyone"]}, {}, {"seen_by": ["192.0.2.0/24"]}]
    rows: list[dict[str, Any]] = [
        {"name": f"new-{number}.example", "owner": rng.choice(people)}
        | rng.choice(kinds)
        | rng.choice(sights)
        for number in range(30)
    ]
    found = sought(scene, read_list({"format": 1, "sites": rows}))
    assert found.refused == ()
    assert found.made == tuple(row["name"] for row in rows)
    # However many there are, each engine reads its configuration once.
    assert len([each for each in found.operations if isinstance(each, Reload)]) == 2
    assert set(found.unlisted) == {site.summary.asked_as.lower() for site in scene.hosts}
    then = Scene(Follower(done(survey, found.operations)))
    again = sought(then, read_list({"format": 1, "sites": rows}))
    assert again.operations == ()
    assert again.otherwise == again.refused == ()
    # Nobody else fares otherwise.
    told = rehearse(scene, found.operations)
    assert {each.fate for each in told.addresses} == {Fate.NEW}
    assert sorted(told.founded) == sorted(found.made)
    assert told.worsened == {}
    # To all of them others are let in, and to those alone that were made here.
    wider = [{**row, "seen_by": ["local", "198.51.100.0/24"]} for row in rows]
    wider.append({"name": "pottery.example", "seen_by": ["local"]})
    opened = sought(then, read_list({"format": 1, "sites": wider}))
    assert len(opened.opened) == 30
    assert [name for name, _ in opened.otherwise] == ["pottery.example"]
    last = Scene(Follower(done(then.survey, opened.operations)))
    assert sought(last, read_list({"format": 1, "sites": wider[:-1]})).operations == ()


def test_sites_of_one_list_do_not_clash_with_each_other(scene: Scene) -> None:
    rows = [
        {"name": "one.example", "owner": "ines", "names": ["shared.example"]},
        {"name": "two.example", "owner": "ines", "names": ["shared.example"]},
        {"name": "three.example", "owner": "ines", "root": "/srv/sites/one/public/inner"},
        {"name": "four.example", "owner": "ines", "root": "/srv/sites/one/public"},
        {"name": "one.test", "owner": "ines"},
    ]
    found = sought(scene, read_list({"format": 1, "sites": rows}))
    assert found.made == ("one.example",)
    assert [name for name, _ in found.refused] == [
        "two.example", "three.example", "four.example", "one.test",
    ]  # fmt: skip


def test_a_list_says_which_site_would_answer_what_nobody_claims() -> None:
    texts = {
        "/etc/nginx/nginx.conf": b"events {}\nhttp {\ninclude /etc/nginx/sites/*.conf;\n}\n",
        "/etc/nginx/sites/reed.conf": b"server {\nlisten 80;\nserver_name reed.example;\n"
        b"root /srv/reed;\n}\n",
    }
    record = EngineRecord("nginx", "/etc/nginx/nginx.conf", "1.22.1", "/usr/share/nginx", (), ())
    folders = ("/", "/etc", "/etc/nginx", "/etc/nginx/sites", "/srv", "/srv/reed")
    entries = [Entry(path, Kind.DIR, 0o755, 0, 0, listed=True) for path in folders]
    entries += [Entry(path, Kind.FILE, 0o644, 0, 0) for path in texts]
    people = (Account("maren", 1500, 1500, "/home/maren", ""),)
    survey = Survey("", 0, "", (record,), FileTable(entries), people, texts=texts)
    scene = Scene(Follower(survey))
    for name, moves in (("alder.example", True), ("tern.example", False)):
        rows = [{"name": name, "owner": "maren"}]
        found = sought(scene, read_list({"format": 1, "sites": rows}))
        assert found.made == (name,), found.refused
        assert bool(found.otherwise) is moves


@pytest.mark.parametrize(
    "data",
    [
        [], {}, {"format": 2, "sites": []}, {"format": 1}, {"format": 1, "sites": [{}]},
        {"format": 1, "sites": [{"name": "a.example", "shell": "reboot"}]},
        {"format": 1, "sites": [{"name": "a.example", "bindings": ["*:80; reboot"]}]},
        {"format": 1, "sites": [{"name": "a.example", "seen_by": []}]},
        {"format": 1, "sites": [{"name": "a.example"}, {"name": "A.EXAMPLE"}]},
    ],
)  # fmt: skip
def test_what_is_no_list_is_refused(data: object) -> None:
    with pytest.raises(ListError):
        read_list(data)


def test_all_forms_of_a_list_say_the_same(file: str, tmp_path: Path) -> None:
    row = {"name": "kite.example", "owner": "ines", "seen_by": ["local", "192.0.2.0/24"]}
    texts = {
        "a.json": json.dumps({"format": 1, "sites": [row]}),
        "a.jsonl": f"{json.dumps(row)}\n\n{json.dumps({'name': 'oar.example', 'owner': 'otto'})}\n",
        "a.yaml": "format: 1\nsites:\n- name: kite.example\n  owner: ines\n"
        "  seen_by: [local, 192.0.2.0/24]\n",
        "a.csv": "name,owner,seen_by\nkite.example,ines,local 192.0.2.0/24\n",
    }
    plans = []
    for name, text in texts.items():
        (tmp_path / name).write_text(text)
        found = run("--survey", file, "--plan", str(tmp_path / name))
        assert found.return_value == 0, found.output
        plans.append([o.describe() for o in read_plan(found.stdout).operations])
    assert plans[0] == plans[2] == plans[3]
    assert len(plans[1]) > len(plans[0])


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("a.yaml", "a: &a [x]\nb: *a\n"), ("a.yaml", "a: ["), ("a.yaml", "!!python/name:os.system"),
        ("a.json", "[" * 100_000), ("a.json", "{"), ("a.csv", 'name\n"a'), ("a.csv", "nam\nx\n"),
        ("a.json", "\udcff"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_one_line(file: str, tmp_path: Path, name: str, text: str) -> None:
    (tmp_path / name).write_text(text, errors="surrogateescape")
    found = run("--survey", file, "--plan", str(tmp_path / name))
    assert found.exception is not None
    assert type(found.exception).__name__ in ("ListError", "EcumenError")
    assert "\n" not in str(found.exception)


def test_what_is_here_comes_in_both_forms(file: str) -> None:
    rows = json.loads(run("--survey", file, "--json").stdout)["sites"]
    assert rows[0]["name"] == "tide-table.example"
    assert "name: tide-table.example" in run("--survey", file).stdout
