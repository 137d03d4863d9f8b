"""Rehearsals: what is said beforehand is what comes of it, for visitors, accounts and findings."""

from __future__ import annotations

import json
import random
import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

from ecumen.audit import audit
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Scene
from ecumen.engines.engine import renewed
from ecumen.errors import PlanError
from ecumen.operations import Operation
from ecumen.operations.acl import AclGrant
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.link import Link
from ecumen.operations.mode import Mode
from ecumen.operations.owner import Owner
from ecumen.operations.plan import Plan, PlanGround
from ecumen.operations.rename import Rename
from ecumen.operations.trial import Trial, simulated
from ecumen.passage import Follower, read_request
from ecumen.rehearsal import Fate, Meets, Rehearsal, rehearse
from ecumen.rehearsal.carrying import carried
from ecumen.survey import Survey, after, write_survey
from ecumen_cli.main import ecumen
from ecumen_machine import EngineSpec, take_survey
from tests.audit_test import httpd as surveyed
from tests.hands import PlainHands
from tests.hosters import laid_out
from tests.remedies_test import OWNERS, lay_out
from tests.worlds.live import ask, httpd
from tests.worlds.trees import ADDRESSES, PORTS

CONFIG = """\
<VirtualHost *:80>
ServerName a.test
DocumentRoot /srv/a
</VirtualHost>
<VirtualHost *:80>
ServerName b.test
DocumentRoot /srv/b
</VirtualHost>
"""
FILES = (
    "0755 root /srv/", "0700 ines /srv/a/", "0644 ines /srv/a/index.html",
    "0600 ines /srv/a/config.php", "0755 otto /srv/b/", "0644 otto /srv/b/index.html",
    "0644 otto /srv/b/more.html",
)  # fmt: skip


def of(survey: Survey, *operations: Operation) -> Rehearsal:
    return rehearse(Scene(Follower(survey)), operations)


def mode(survey: Survey, path: str, change: str) -> Mode:
    entry = survey.files.get(path)
    assert entry is not None
    return Mode.of(entry, change)


def fates(found: Rehearsal) -> dict[str, str]:
    return {each.url: each.fate.value for each in found.addresses}


def test_a_page_comes_back_and_its_finding_is_mended() -> None:
    survey = surveyed(CONFIG, *FILES)
    found = of(survey, mode(survey, "/srv/a", "o+x"))
    assert fates(found) == {"http://a.test/": "opens", "http://a.test/index.html": "opens"}
    assert [each.id for each in found.mended] == ["ladder.shut"]
    assert not found.worse
    assert found.summary == "1 front page and 1 other page come back."
    assert any(opening.gains for opening in found.openings)


def test_what_visitors_ask_is_asked_too() -> None:
    """An address that a site serves from elsewhere than its root."""
    config = f"{CONFIG.replace('DocumentRoot /srv/b', 'DocumentRoot /srv/b{n}Alias /far /srv/a')}"
    survey = surveyed(config.replace("{n}", "\n"), *[f.replace("0700", "0755") for f in FILES])
    scene = Scene(Follower(survey))
    (site,) = [each for each in scene.sites if each.name == "b.test"]
    request = scene.request_for(site, "/far/index.html")
    assert request is not None
    plan = [mode(survey, "/srv/a", "o-x")]
    url = "http://b.test/far/index.html"
    assert url not in fates(rehearse(scene, plan))
    found = rehearse(scene, plan, visited=[(site, request)])
    assert fates(found)[url] == "closes"
    assert "b.test" in found.worsened


def test_a_page_that_closes_makes_it_worse_and_stands_first() -> None:
    survey = surveyed(CONFIG, *FILES)
    found = of(survey, mode(survey, "/srv/a", "o+x"), mode(survey, "/srv/b/more.html", "go-r"))
    assert [each.fate for each in found.addresses] == [Fate.CLOSES, Fate.OPENS, Fate.OPENS]
    assert found.addresses[0].url == "http://b.test/more.html"
    assert found.worse
    assert found.summary == "1 other page closes, 1 front page and 1 other page come back."


def test_what_is_private_and_opens_to_others_makes_it_worse() -> None:
    survey = surveyed(CONFIG, *FILES)
    found = of(survey, mode(survey, "/srv/a", "o+rx"), mode(survey, "/srv/a/config.php", "o+r"))
    assert found.worse
    assert found.exposed
    assert {each.owner for each in found.exposed} == {"ines"}
    assert any(each.impact is Impact.EXPOSURE for each in found.new)
    undone = of(surveyed(CONFIG, *[line.replace("0600 ines", "0644 ines").replace("0700", "0755")
                                for line in FILES]),
                mode(surveyed(CONFIG, *[line.replace("0600 ines", "0644 ines") for line in FILES]),
                     "/srv/a/config.php", "go-r"))  # fmt: skip
    assert undone.hidden
    assert not undone.exposed


def test_what_is_renamed_goes_and_comes_by_its_addresses() -> None:
    survey = surveyed(CONFIG, *FILES, "0755 otto /srv/b/old/", "0644 otto /srv/b/old/page.html")
    found = of(survey, Rename.of(Trial(survey), "/srv/b/old", "/srv/b/new"))
    assert fates(found) == {
        "http://b.test/old": "closes", "http://b.test/old/page.html": "closes",
        "http://b.test/new": "opens", "http://b.test/new/page.html": "opens",
    }  # fmt: skip
    whole = of(survey, Rename.of(Trial(survey), "/srv/b", "/srv/c"))
    assert fates(whole)["http://b.test/"] == "closes"
    assert "root.missing" in {each.id for each in whole.new}


def test_a_stale_plan_is_not_rehearsed_and_a_done_one_changes_nothing() -> None:
    survey = surveyed(CONFIG, *FILES)
    stale = of(survey, Mode("/srv/a", "0711", "0755"))
    assert stale.stale
    assert (stale.asked, stale.addresses) == (0, [])
    assert "stale: at 1 of 1" in stale.summary
    done = of(survey, Mode("/srv/b", "0700", "0755"))
    assert (done.addresses, done.openings, done.summary) == ([], [], "All of it is done already.")


def test_a_site_that_is_enabled_needs_a_reload() -> None:
    config = f"{CONFIG}IncludeOptional /etc/more/*.conf\n"
    block = CONFIG.replace("a.test", "c.test").replace("b.test", "d.test").encode()
    files = (*FILES, "0755 root /etc/more/", "0755 root /etc/kept/", "0644 root /etc/kept/c.conf")
    survey = surveyed(config, *files)
    survey = replace(survey, texts={**survey.texts, "/etc/kept/c.conf": block})
    found = of(survey, Link("/etc/more/c.conf", "../kept/c.conf"))
    assert found.reloads == ["httpd"]


def test_the_command_says_it_and_its_status_says_whether_it_gets_worse(tmp_path: Path) -> None:
    survey = surveyed(CONFIG, *FILES)
    taken, plan = tmp_path / "s.survey", tmp_path / "p.json"
    with taken.open("wb") as stream:
        write_survey(survey, stream)

    def run(*operations: Operation, host: str = "quay") -> tuple[int, str]:
        plan.write_text(Plan("Open it", PlanGround(host, 0), operations).write())
        options = ["rehearse", "--survey", str(taken), str(plan)]
        text = CliRunner().invoke(ecumen, options, standalone_mode=False)
        whole = CliRunner().invoke(ecumen, [*options, "--json"], standalone_mode=False)
        assert text.return_value == whole.return_value, (text, whole)
        row = json.loads(whole.stdout)
        assert row["worse"] == (text.return_value == 1)
        assert row["title"] in text.output
        return text.return_value, text.output

    status, said = run(mode(survey, "/srv/a", "o+x"))
    assert status == 0
    assert "1 front page and 1 other page come back" in said
    assert "mended, outage: " in said
    assert run(mode(survey, "/srv/b", "go-x"))[0] == 1
    assert run(Mode("/srv/b", "0700", "0711"))[0] == 2
    assert "made for other" in run(mode(survey, "/srv/a", "o+x"), host="other")[1]


def test_the_plan_of_a_finding_is_rehearsed_as_the_audit_writes_it(tmp_path: Path) -> None:
    taken, plan = tmp_path / "s.survey", tmp_path / "p.json"
    with taken.open("wb") as stream:
        write_survey(surveyed(CONFIG, *FILES), stream)

    def run(*options: str) -> Result:
        return CliRunner().invoke(ecumen, options, standalone_mode=False)

    audit = ("audit", "--survey", str(taken))
    findings = json.loads(run(*audit, "--format", "json").stdout)["findings"]
    (shut,) = [each["key"] for each in findings if each["id"] == "ladder.shut"]
    plan.write_text(run(*audit, "--plan", shut).stdout)
    done = run("rehearse", "--survey", str(taken), str(plan))
    assert "1 front page and 1 other page come back" in done.output
    assert isinstance(run(*audit, "--plan", "none").exception, PlanError)


# --- beside a real server ---


def random_plan(survey: Survey, base: Path, rng: random.Random) -> list[Operation]:
    """A few changes of owners, modes and ACLs below a folder, each of another path."""
    paths = [path for path in survey.files.paths if path.startswith(f"{base}/www/")]
    found: list[Operation] = []
    for path in rng.sample(paths, rng.randrange(1, 7)):
        entry = survey.files.get(path)
        assert entry is not None
        match rng.randrange(4):
            case 0:
                found.append(Mode(path, f"{entry.mode:04o}", f"{rng.randrange(0o1000):04o}"))
            case 1:
                letters = rng.choice(["go-rx", "o+rx", "go+rx", "g-x", "u-r"])
                found.append(Mode.of(entry, letters))
            case 2:
                account = survey.account_by_name[rng.choice(OWNERS)]
                found.append(Owner(path, str(entry.uid), str(account.uid), None, account.name))
            case _:
                found.append(AclGrant.of(survey, entry, f"user:{rng.choice(OWNERS)}:r-x"))
    return found


def told(said: Meets) -> tuple[bool, int | None, str | None]:
    return said.decided, said.status, said.file


def asked(url: str) -> int | None:
    return ask({"url": url, "to": ADDRESSES[0]}).status


@pytest.mark.server
def test_what_is_rehearsed_is_what_comes_of_doing_it(seed: int) -> None:
    """Also what is not among the addresses that fare differently: none of those does."""
    rng = random.Random(seed)
    base = Path(f"/srv/ecumen-rehearsal-{seed}")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir(mode=0o755)
    hands, turned = PlainHands(), 0
    try:
        config = lay_out(base, rng)
        spec = [EngineSpec("httpd", str(config))]
        survey = take_survey(spec, [str(base)])
        pages = [
            f"http://s{number}.test:{PORTS[0]}/{path}"
            for number in range(24)
            for path in ("", "index.html", "other.html", "sub/")
        ]
        with httpd(config, ADDRESSES[0], PORTS[0]):
            # Some plans change no page's answer.
            for number in range(30):
                if number >= 6 and turned >= 5:
                    break
                plan = random_plan(survey, base, rng)
                found = of(survey, *plan)
                assert not found.stale
                before = {url: asked(url) for url in pages}
                for operation in plan:
                    operation.forward(hands, operation.keep(hands))
                survey = take_survey(spec, [str(base)])
                now = Follower(survey)
                said = {each.url: each for each in found.addresses}
                for url in pages:
                    status = asked(url)
                    if url in said and said[url].after.decided:
                        assert status == said[url].after.status, (url, plan)
                    elif url not in said:
                        assert status == before[url], (url, plan)
                for each in found.addresses:
                    answer = now.brief(read_request(each.url, to=ADDRESSES[0]))
                    assert told(each.after)[:2] == (answer["decided"], answer["status"]), plan
                    turned += 1
    finally:
        shutil.rmtree(base)
    assert turned >= 5


@pytest.mark.server
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_what_a_plan_cannot_touch_need_not_be_evaluated_again(kind: str, seed: int) -> None:
    """Sites as hosters write them, their override files, links and rules; plans of all kinds."""
    rng = random.Random(seed)
    base = Path(f"/srv/ecumen-carried-{kind}-{seed}")
    shutil.rmtree(base, ignore_errors=True)
    base.mkdir(mode=0o755)
    carried_parts = rehearsed = 0
    try:
        ground = laid_out(base, kind, 60)
        (base / "www" / "elsewhere").symlink_to(base / "www" / "s1")
        # An override file that lies elsewhere: what changes there changes these sites.
        (base / "rules").write_text("Options -Indexes\n")
        for number in (1, 2, 5):
            (base / "www" / f"s{number}" / "public" / ".htaccess").symlink_to(base / "rules")
        survey = take_survey([EngineSpec(kind, str(ground.config))], [str(base)])
        before = Scene(Follower(survey))
        known = audit(before)
        for _ in range(12):
            plan = [*random_plan(survey, base, rng), *random_texts(survey, base, rng)]
            whole = rehearse(before, plan, known=known, anew=True)
            found = rehearse(before, plan, known=known)
            assert found == whole, plan
            # Two changes of one path may not go together.
            rehearsed += not found.stale
            if found.stale:
                continue
            delta = simulated(survey, plan)
            then = after(survey, delta)
            scene = Scene(Follower(then, renewed(before.engines, then)))
            carried_parts += len(carried(before, scene, delta))
    finally:
        shutil.rmtree(base)
    assert carried_parts > 60
    assert rehearsed >= 6


def random_texts(survey: Survey, base: Path, rng: random.Random) -> list[Operation]:
    """Now and then another text of a site, one more in front of all or behind them, an override
    file, a folder, a link.
    """
    trial = Trial(survey)
    number, other = rng.sample(range(60), 2)
    site = f"{base}/sites/{number:06d}.conf"
    root = f"{base}/www/s{number % 50}"
    text = survey.texts[site]
    there = rng.choice([f"{root}/public", f"{root}/public/pages", root])
    rules = rng.choice([b"Require all denied\n", b"Options -Indexes\n", b"Nonsense\n", b"# ok\n"])
    ways: list[Callable[[], Operation]] = [
        lambda: File.of(trial, site, text.replace(b"ServerAlias", b"ServerAlias also.test")),
        lambda: File.of(trial, site, text.replace(b"public", b"scripts", 1)),
        lambda: File.of(trial, site, text.replace(b"www.s", b"s%d.test s" % other)),
        lambda: File.of(trial, f"{base}/sites/{rng.choice('09')}.conf", text),
        lambda: File.of(trial, f"{base}/sites/1.conf", text.replace(b"8087", b"8088")),
        lambda: File.of(trial, f"{there}/.htaccess", rules),
        lambda: File.of(trial, f"{there}/index.php", b"page"),
        lambda: Folder(f"{there}/more", "0755", 0, 0),
        lambda: Link(f"{there}/index.htm", "about.html"),
    ]
    # One engine alone reads override files.
    rules_of_three = f"{base}/rules"
    if rules_of_three in survey.texts:
        ways += [
            lambda: File.of(trial, rules_of_three, b"Require all denied\n"),
            lambda: mode(survey, rules_of_three, rng.choice(["o-r", "go-rwx"])),
        ]
    return [way() for way in rng.sample(ways, rng.choice([0, 1, 1, 2]))]
