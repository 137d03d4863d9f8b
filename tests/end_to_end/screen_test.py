"""The screen, used as a person would: in a browser, by words and keys."""

from __future__ import annotations

import json
import re
import shutil
import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from urllib.request import Request, urlopen

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, Route, TimeoutError, expect

from ecumen.survey import write_survey
from tests.application import ROOT, Application, browser, demo, logs_are_read
from tests.builders import server

pytestmark = pytest.mark.browser

# The demo's logs are read beside the first tests.
expect.set_options(timeout=15_000)
AXE = ROOT / "frontend/node_modules/axe-core/axe.min.js"


@pytest.fixture(scope="module")
def chromium() -> Iterator[Browser]:
    with browser() as launched:
        yield launched


@pytest.fixture(scope="module")
def signed_in(application: Application, chromium: Browser) -> Iterator[BrowserContext]:
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    application.sign_in(page)
    page.close()
    yield context
    context.close()


@pytest.fixture
def page(signed_in: BrowserContext, application: Application) -> Iterator[Page]:
    page = signed_in.new_page()
    errors: list[str] = []
    page.on(
        "console", lambda message: errors.append(message.text) if message.type == "error" else 0
    )
    page.on("pageerror", lambda error: errors.append(str(error)))
    page.goto(application.address)
    yield page
    page.close()
    # Chromium itself notes a question that the server refuses; the page shows why.
    assert [error for error in errors if "status of 400" not in error] == []


def outcome(page: Page):  # type: ignore[no-untyped-def]
    return page.get_by_role("complementary", name="Outcome")


def test_type_an_address_and_read_what_stops_it(page: Page) -> None:
    expect(page.get_by_role("heading", name="Where to start")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("tide-table.example/~ines/")
    page.keyboard.press("Enter")
    expect(outcome(page)).to_contain_text("403")
    expect(outcome(page)).to_contain_text("may not pass through /home/ines:")
    expect(outcome(page)).to_contain_text("may not pass through /home/ines/public_html:")
    expect(outcome(page)).to_contain_text("Let www-data pass through /home/ines.")
    ladder = page.get_by_role("tab", name="ladder")
    expect(ladder).to_have_attribute("aria-selected", "true")
    steps = page.get_by_role("list", name="Steps of the path")
    expect(steps.get_by_role("listitem").filter(has_text="may not")).to_have_count(2)
    expect(steps).to_contain_text("so the bits for others decide")


def test_the_gates_are_walked_with_the_arrow_keys(page: Page, application: Application) -> None:
    page.goto(f"{application.address}/follow?url=http://choir.example/&gate=site")
    expect(page.get_by_role("tab")).to_have_count(10)
    page.get_by_role("tab", name="site").focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("tab", name="way")).to_have_attribute("aria-selected", "true")
    expect(page).to_have_url(
        f"{application.address}/follow?url=http%3A%2F%2Fchoir.example%2F&gate=way"
    )
    chain = page.get_by_role("list", name="From address to path")
    expect(chain).to_contain_text("/srv/sites/choir-of-the-marsh/public/")


def test_a_shared_address_opens_the_same_evidence(page: Page, application: Application) -> None:
    page.goto(f"{application.address}/follow?url=http://choir.example/&gate=site")
    contest = page.get_by_role("list", name="Sites in the order weighed")
    rows = contest.get_by_role("listitem")
    expect(rows.filter(has_text="claims the name and answers")).to_contain_text(
        "choir-of-the-marsh"
    )
    expect(rows.filter(has_text="stands later")).to_contain_text("choir-at-the-quay")


def test_the_vantage_changes_the_answer(page: Page, application: Application) -> None:
    page.goto(f"{application.address}/follow?url=http://night-school.example/")
    expect(outcome(page)).to_contain_text("403")
    page.get_by_role("radio", name="the server itself").click()
    expect(outcome(page)).to_contain_text("200")


def test_a_mark_of_the_overview_leads_to_its_passage(page: Page) -> None:
    page.get_by_role("link", name="pottery.example: blocked").click()
    expect(outcome(page)).to_contain_text("has no index")
    expect(page.get_by_role("list", name="Index names in the order tried")).to_contain_text(
        "start.html"
    )


def test_sites_are_found_by_words(page: Page) -> None:
    expect(page.get_by_role("region", name="Sites").get_by_role("status")).to_have_text("212 sites")
    page.get_by_label("Only with").fill("choir")
    expect(page.get_by_role("region", name="Sites", exact=True).get_by_role("link")).to_have_count(
        3
    )
    expect(page).to_have_url(re.compile("q=choir"))
    page.get_by_label("Only with").fill("")
    page.get_by_role("radio", name="owner").click()
    expect(page.get_by_role("heading", name=re.compile("^ines"))).to_be_visible()


def test_keys_are_explained(page: Page) -> None:
    expect(page.get_by_role("heading", name="Where to start")).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog", name="Keys")).to_be_hidden()


def test_every_place_site_and_account_is_reached_by_typing(page: Page) -> None:
    """However late the answers come: Enter waits for the answer to what is typed."""

    def late(route: Route) -> None:
        page.wait_for_timeout(60)
        route.continue_()

    page.route("**/lookup?*", late)
    expect(page.get_by_role("heading", name="Where to start")).to_be_visible()
    for typed, there in (
        ("neigh", "view=neighbours"),
        ("a new", "/new-site"),
        ("potter", "site?at="),
        ("arvid", "account=arvid"),
    ):
        page.keyboard.press("Control+k")
        page.keyboard.type(typed[:1])
        expect(page.get_by_role("listbox", name="What it may mean")).to_be_visible()
        page.keyboard.type(typed[1:])
        page.keyboard.press("Enter")
        page.wait_for_url(lambda url, there=there: there in url)  # type: ignore[misc]


def test_what_cannot_be_followed_says_so(page: Page, application: Application) -> None:
    page.goto(f"{application.address}/follow?url=ftp://x/")
    expect(page.get_by_role("alert")).to_contain_text("only http and https")


@pytest.mark.parametrize(
    "path",
    [
        "/",
        "/follow",
        "/surveys",
        "/surveys/changes",
        "/users?account=ines",
        "/users?view=neighbours",
        "/contexts?switch=httpd_read_user_content",
        "/who?path=/home/ines&as=otto",
        "/follow?url=http://lime-kiln.example/&gate=context",
        "/bindings?name=choir.example",
        "/roots?root=/srv/sites/pottery/public",
        "/site?at=/etc/apache2/sites-enabled/005-choir-at-the-quay.conf:1",
        "/follow?url=http://night-school.example/&beside=http://ferry.example/",
        "/follow?url=http://boat-builders.example/",
        "/follow?url=http://choir.example/&gate=site",
        "/follow?url=http://town-archive.example/",
        "/follow?url=https://harbour.saltmarsh.example/",
        "/follow?url=http://tide-table.example/&gate=serve",
        "/follow?url=http://tide-table.example/~otto/&gate=way",
    ],
)
def test_nothing_is_hard_to_reach_or_to_read(
    page: Page, application: Application, path: str
) -> None:
    page.emulate_media(color_scheme="light", reduced_motion="reduce")
    page.goto(application.address + path)
    page.wait_for_load_state("networkidle")
    page.evaluate(AXE.read_text())
    found = page.evaluate("axe.run().then(r => r.violations)")
    # In the dark only the colours are others.
    light = page.evaluate("getComputedStyle(document.body).backgroundColor")
    page.emulate_media(color_scheme="dark", reduced_motion="reduce")
    dark = page.evaluate("getComputedStyle(document.body).backgroundColor")
    assert dark != light
    found += page.evaluate("axe.run({ runOnly: ['color-contrast'] }).then(r => r.violations)")
    grave = [
        (each["id"], node["target"], node.get("failureSummary"))
        for each in found
        if each["impact"] in ("serious", "critical")
        for node in each["nodes"]
    ]
    assert grave == []


def test_signing_in_with_a_wrong_password_says_so(
    chromium: Browser, application: Application
) -> None:
    page = chromium.new_page()
    page.goto(application.address)
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("do not belong together")
    page.close()


def test_the_stand_in_answers_as_predicted(application: Application) -> None:
    port = int(application.address.rpartition(":")[2]) + 1
    asked = Request(f"http://127.0.0.1:{port}/", headers={"Host": "ferry.example"})
    with urlopen(asked, timeout=5) as answer:
        assert answer.status == 200
        assert answer.headers["X-Predicted-Type"] == "text/html"


def test_the_second_start_loads_nothing_again(application: Application, tmp_path: Path) -> None:
    """Its records are those of a start before, copied as they stand."""
    home = tmp_path / "again"
    shutil.copytree(application.home, home)
    # It may be written to meanwhile.
    with (
        closing(sqlite3.connect(application.home / "ecumen.sqlite3")) as records,
        closing(sqlite3.connect(home / "ecumen.sqlite3")) as copy,
    ):
        records.backup(copy)
    loaded = _loaded(home)
    assert loaded
    with demo(home) as second:
        assert second.password == application.password
        assert _loaded(home) == loaded
        with urlopen(f"{second.address}/api/session") as answer:
            assert json.load(answer)["signed_in"] is False


def _loaded(home: Path) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(home / "ecumen.sqlite3")) as records:
        return records.execute("select id, loaded_at, digest from store_surveyrecord").fetchall()


def test_the_server_is_asked_and_what_it_has_not_read_yet_shows(
    page: Page, application: Application
) -> None:
    page.goto(f"{application.address}/follow?url=http://boat-builders.example/")
    page.get_by_role("button", name="Ask the server").click()
    answer = page.get_by_role("region", name="Ask the server")
    expect(answer).to_contain_text("As predicted.")
    expect(answer.get_by_role("row", name="status")).to_contain_text("403")
    # Opened on the disk, but the engine holds what it read before.
    page.goto(f"{application.address}/follow?url=http://reed-cutters.example/")
    expect(outcome(page)).to_contain_text("200")
    answer.get_by_role("button", name="Ask the server").click()
    expect(answer).to_contain_text("answers otherwise than predicted")
    row = answer.get_by_role("row", name="status")
    expect(row).to_contain_text("200")
    expect(row).to_contain_text("403, which is not as predicted")
    expect(answer).to_contain_text("033-reed-cutters.conf")


def test_an_account_is_found_by_its_name_before_sites_that_hold_the_letters(page: Page) -> None:
    line = page.get_by_role("combobox", name="Address")
    expect(line).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("ferry.")
    hits = page.get_by_role("listbox", name="What it may mean").get_by_role("option")
    expect(hits.first).to_contain_text("ferry.example")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/site[?]at="))
    page.keyboard.press("/")
    page.keyboard.press("ControlOrMeta+a")
    page.keyboard.type("ines")
    expect(hits.first).to_contain_text("account")
    page.keyboard.press("Enter")
    expect(page.get_by_role("article", name="Account")).to_contain_text("ines")


def test_two_vantages_are_compared_and_part_at_a_gate(page: Page, application: Application) -> None:
    page.goto(f"{application.address}/follow?url=http://night-school.example/")
    page.get_by_role("button", name="compare").click()
    form = page.get_by_role("form", name="Compare")
    expect(form.get_by_label("beside")).to_have_value("http://night-school.example/")
    form.get_by_role("radio", name="the server itself").click()
    form.get_by_role("button", name="Compare").click()
    table = page.get_by_role("table", name="Compared")
    expect(table.get_by_role("row", name=re.compile("here they part"))).to_contain_text(
        "Only the server itself may see this"
    )
    expect(table.get_by_role("columnheader").nth(0)).to_contain_text("403")
    expect(table.get_by_role("columnheader").nth(1)).to_contain_text("200")
    # What was compared has an address of its own.
    page.goto(page.url)
    expect(table).to_contain_text("here they part")
    page.get_by_role("button", name="Leave").click()
    expect(outcome(page)).to_contain_text("403")


def test_a_finding_is_read_followed_and_lived_with(page: Page) -> None:
    queue = page.get_by_role("complementary", name="Findings")
    double = queue.get_by_role("region", name=re.compile("two sites claim one name", re.IGNORECASE))
    double.get_by_role("link").click()
    finding = page.get_by_role("article", name="Finding")
    expect(finding).to_contain_text("choir-at-the-quay.example both claim choir.example")
    expect(finding.get_by_role("region", name="Evidence")).to_contain_text("005-choir-at-the-quay")
    expect(finding.get_by_role("region", name="What this means")).to_contain_text("never seen")
    # What was chosen has an address of its own.
    page.goto(page.url)
    finding.get_by_label("Live with it, because").fill("the quay choir is away")
    finding.get_by_role("button", name="Live with it").click()
    expect(finding).to_contain_text("Lived with by demo")
    finding.get_by_role("link", name="all that is found").click()
    expect(double).to_have_count(0)
    queue.get_by_role("link", name="1 finding lived with").click()
    double.get_by_role("link").click()
    finding.get_by_role("button", name="Take it up again").click()
    expect(finding.get_by_role("form", name="Live with it")).to_be_visible()


def test_the_evidence_of_a_finding_leads_to_its_passage(page: Page) -> None:
    queue = page.get_by_role("complementary", name="Findings")
    queue.get_by_role("link", name=re.compile("No site claims www.seed-library.example")).click()
    page.get_by_role("article").get_by_role("link", name=re.compile("www.seed-library")).click()
    expect(page.get_by_role("tab", name="site")).to_be_visible()
    expect(outcome(page)).to_contain_text("tide-table.example")


def test_the_double_claim_is_found_in_bindings(page: Page) -> None:
    page.get_by_role("link", name="Bindings").click()
    lane = page.get_by_role("region", name="*:80", exact=True)
    expect(lane).to_contain_text("tide-table.example")
    expect(page.get_by_role("region", name="*:8090")).to_contain_text("nobody listens")
    lane.get_by_role("button", name=re.compile("choir.example choir-of-the-marsh")).click()
    answer = page.get_by_role("complementary", name="Who answers")
    expect(answer).to_contain_text("choir-of-the-marsh.example answers")
    close = answer.get_by_role("list", name="Who came close").get_by_role("listitem")
    expect(close).to_have_count(2)
    # A name that nobody claims comes to whoever stands for it.
    page.get_by_role("textbox", name="Who answers").fill("lost.example:8088")
    page.get_by_role("button", name="Ask", exact=True).click()
    expect(answer).to_contain_text("berth-plan.example")
    page.goto(page.url)
    expect(answer).to_contain_text("berth-plan.example")


def test_a_certificate_of_another_name_is_read_and_the_next_ends_are_seen(page: Page) -> None:
    expect(page.get_by_role("heading", name="Where to start")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("https://lantern-fund.example/")
    page.keyboard.press("Enter")
    expect(outcome(page)).to_contain_text("200")
    expect(page.get_by_role("tab", name="seal")).to_have_attribute("aria-selected", "true")
    picture = page.get_by_role("region", name="The certificate", exact=True)
    expect(picture).to_contain_text("is not held by")
    expect(picture.get_by_role("img", name="the survey was taken on 2031-04-15")).to_be_visible()
    expect(picture.get_by_role("region", name="Who vouches for it")).to_contain_text(
        "trusted by this system"
    )
    outcome(page).get_by_role("button", name="they refuse the certificate").click()
    page.get_by_role("link", name="Bindings").click()
    page.get_by_role("link", name="certificates").click()
    rows = page.get_by_role("row")
    expect(rows.nth(1)).to_contain_text("ferry-tickets.example")
    expect(rows.nth(1)).to_contain_text("in 9 days")
    expect(rows.filter(has_text="kiln-studio")).to_contain_text("its chain is not whole")
    rows.nth(1).get_by_role("link").click()
    expect(picture).to_contain_text("9 days left")


def test_the_nested_root_is_found_in_roots(page: Page) -> None:
    page.get_by_role("link", name="Roots").click()
    page.get_by_role("button", name=re.compile("eels.*exposure")).click()
    root = page.get_by_role("article", name="Document root")
    expect(root.get_by_role("region", name="Wrong here")).to_contain_text("lies inside that of")
    expect(root.get_by_role("region", name="Sites")).to_contain_text("eel-watch.example")
    root.get_by_role("link", name=re.compile("lies inside that of")).click()
    expect(page.get_by_role("article", name="Finding")).to_contain_text("root.nested")
    page.go_back()
    expect(root).to_contain_text("eel-watch.example")
    # A folder can be gone into, and left again.
    page.get_by_role("link", name="sites", exact=True).click()
    ground = page.get_by_role("region", name="Ground")
    expect(ground.get_by_role("status")).to_contain_text("126 roots")
    page.get_by_role("link", name="one folder up").click()
    expect(page.get_by_role("button", name=re.compile("ines.public_html"))).to_have_count(0)


def test_a_site_is_read_whole(page: Page, application: Application) -> None:
    page.goto(f"{application.address}/follow?url=http://choir-at-the-quay.example/")
    outcome(page).get_by_role("link", name="choir-at-the-quay.example").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("choir-at-the-quay.example")
    reached = page.get_by_role("region", name="How it is reached")
    expect(reached).to_contain_text("never leads here: choir-of-the-marsh.example answers")
    made_of = page.get_by_role("region", name="What it is made of")
    expect(made_of.get_by_role("listitem").first).to_contain_text("<VirtualHost *:80>")
    expect(made_of.get_by_role("listitem").last).to_contain_text("</VirtualHost>")
    about = page.get_by_role("complementary", name="About the site")
    expect(about).to_contain_text("/srv/sites/choir-at-the-quay/public")
    about.get_by_role("link", name=re.compile("both claim choir.example")).click()
    expect(page.get_by_role("article", name="Finding")).to_contain_text("claim.double")


def test_what_changed_in_a_week_is_read_beside_each_other(page: Page) -> None:
    page.get_by_role("link", name="all that changed since").click()
    fronts = page.get_by_role("region", name="Front pages")
    expect(fronts).to_contain_text("17 changed")
    page.get_by_label("Only with").fill("/home/ines 0700")
    expect(fronts.get_by_role("listitem")).to_have_count(1)
    expect(fronts.get_by_role("listitem")).to_contain_text("~ines")
    expect(page.get_by_role("region", name="Files").get_by_role("listitem")).to_contain_text("0755")
    page.goto(page.url)
    expect(fronts.get_by_role("listitem")).to_have_count(1)
    page.get_by_role("link", name="Choose other surveys").click()
    page.get_by_role("link", name="what changed").first.click()
    expect(page.get_by_role("region", name="Bindings")).to_contain_text("*:8090")


def test_eleven_dark_homes_are_mended_as_one_plan(page: Page) -> None:
    page.get_by_role("link", name="User sites").click()
    page.get_by_role("button", name="home can be passed").click()
    page.get_by_label("Only with").fill("0700 others")
    rows = page.get_by_role("region", name="Accounts", exact=True).get_by_role("listitem")
    expect(rows).to_have_count(12)
    page.get_by_role("checkbox", name="Pick all that do not answer").check()
    page.get_by_role("checkbox", name="Pick ines").uncheck()
    plan = page.get_by_role("region", name="One plan")
    expect(plan).to_contain_text("11 accounts picked")
    plan.get_by_role("button", name="One plan for all").click()
    first = plan.get_by_role("listitem").first
    expect(first).to_contain_text("Let www-data alone through, by ACL")
    expect(first).to_contain_text("setfacl -m user:www-data:--x -- /home/juno")
    expect(first).to_contain_text("5 commands more")
    expect(first).to_contain_text("www-data may then read")
    # What was picked stands in the address.
    page.goto(page.url)
    expect(plan).to_contain_text("11 accounts picked")
    rows.get_by_role("button", name="ines:").click()
    account = page.get_by_role("article", name="Account")
    expect(account).to_contain_text("with mode 0750")
    expect(account.get_by_role("region", name="To mend it")).to_contain_text("all 2 at once")


def test_what_depends_on_a_switch_is_shown(page: Page) -> None:
    page.get_by_role("link", name="Contexts").click()
    differs = page.get_by_role("region", name="Not as the rules say")
    expect(differs.get_by_role("listitem")).to_have_count(7)
    page.get_by_role("button", name="httpd_can_network_connect").click()
    switch = page.get_by_role("article", name="Switch")
    expect(switch).to_contain_text("foghorn-players.example")
    expect(switch).to_contain_text("setsebool -P httpd_can_network_connect on")
    page.get_by_role("button", name="httpd_read_user_content").click()
    expect(switch).to_contain_text("opens: read files of type user_home_t")
    page.goto(page.url)
    expect(switch).to_contain_text("~alma")


def test_a_neighbours_readable_secret_is_found_and_who_may(page: Page) -> None:
    page.get_by_role("link", name="User sites").click()
    page.get_by_role("radio", name="neighbours").click()
    row = page.get_by_role("row", name=re.compile("^otto"))
    expect(row).to_contain_text("3 files")
    page.get_by_role("link", name="/srv/sites/radio-estuary/public/settings.yaml").click()
    read = page.get_by_role("region", name="read", exact=True)
    expect(read).to_contain_text("4 accounts may")
    read.get_by_role("button", name="otto").click()
    down = page.get_by_role("region", name="The way down for otto")
    expect(down.get_by_role("listitem").last).to_contain_text("is in the group")


def test_a_path_in_the_address_line_asks_who_may(page: Page) -> None:
    line = page.get_by_role("combobox", name="Address")
    line.fill("/home/rosa/public_html")
    line.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("/home/rosa/public_html")
    expect(page.get_by_role("region", name="write")).to_contain_text("what others may (rwx)")


# --- the logs: behind all others, as the demo's are read while those run ---


@pytest.fixture(scope="module")
def logs_read(application: Application, signed_in: BrowserContext) -> None:
    page = signed_in.new_page()
    page.goto(application.address)
    logs_are_read(page)
    page.close()


# Read anew when the logs are, all would be put in another order on the way.
@pytest.mark.usefixtures("logs_read")
@pytest.mark.share(2)
@pytest.mark.parametrize("width", [1024, 1280])
def test_thousands_of_marks_keep_their_places(
    page: Page, application: Application, width: int
) -> None:
    """What is drawn as it comes into sight must stand where it was reckoned to."""

    def forty_times(route: Route) -> None:
        answer = route.fetch()
        overview = answer.json()
        overview["sites"] = [
            site | {"id": 1000 * turn + at, "requests_a_day": (turn * at) ** 2 or None}
            for turn in range(40)
            for at, site in enumerate(overview["sites"])
        ]
        route.fulfill(response=answer, json=overview)

    page.route("**/latest/sites", forty_times)
    page.set_viewport_size({"width": width, "height": 800})
    page.goto(f"{application.address}/?by=owner&all=true")
    field = page.get_by_role("region", name="Sites", exact=True)
    expect(field.get_by_role("status")).to_have_text("8480 sites")
    expect(field.get_by_role("link").first).to_be_visible()
    seen, wrong = page.evaluate(MARKS_IN_PLACE)
    assert wrong == []
    assert seen == 8480
    field.get_by_role("link", name=re.compile(": blocked")).last.click()
    expect(outcome(page)).to_contain_text(re.compile("403|404|503"))


# Marks seen from top to bottom, and what of them lies outside its piece or over the next one.
MARKS_IN_PLACE = """async () => {
  const field = document.querySelector("section[aria-label=Sites] > div.overflow-auto");
  const seen = new Map(), wrong = [];
  const inner = field.firstElementChild;
  const covered = () => {
    const sight = field.getBoundingClientRect(), whole = inner.getBoundingClientRect();
    const boxes = [...field.querySelectorAll("section")].map((one) => one.getBoundingClientRect());
    return boxes.length > 0
      && boxes[0].top <= Math.max(sight.top, whole.top) + 1
      && boxes.at(-1).bottom >= Math.min(sight.bottom, whole.bottom) - 1;
  };
  for (let last = -1; field.scrollTop !== last; field.scrollTop += 300) {
    last = field.scrollTop;
    // A browser that nobody looks at may draw no frame, and so tell nobody that it scrolled.
    field.dispatchEvent(new Event("scroll"));
    // On a busy machine what came into sight is drawn late.
    const until = performance.now() + 20000;
    do {
      await new Promise((done) => setTimeout(done, 20));
    } while (!covered() && performance.now() < until);
    const pieces = [...field.querySelectorAll("section")].map((piece) => ({
      box: piece.getBoundingClientRect(),
      marks: [...piece.querySelectorAll("a")].map((mark) => mark.getBoundingClientRect()),
    }));
    pieces.forEach(({ box, marks }, at) => {
      const end = pieces[at + 1]?.box.top ?? box.bottom;
      if (Math.abs(box.bottom - end) > 0.5) wrong.push(`a piece ends at ${box.bottom}, not ${end}`);
      for (const mark of marks) {
        const inside = mark.top >= box.top && mark.bottom <= box.bottom && mark.right <= box.right;
        if (!inside) wrong.push(`a mark at ${mark.left}, ${mark.top + field.scrollTop}`);
        seen.set(`${mark.left} ${Math.round(mark.top + field.scrollTop)}`, 1);
      }
    });
  }
  return [seen.size, wrong];
}"""


@pytest.mark.usefixtures("logs_read")
def test_follow_begins_with_what_fails_at_a_key_and_says_what_mends_it_first(
    page: Page, application: Application
) -> None:
    page.goto(f"{application.address}/follow")
    worst = page.get_by_role("region", name="What fails most").get_by_role("link").first
    expect(worst).to_contain_text("~")
    page.keyboard.press("1")
    expect(outcome(page)).to_contain_text("403")
    sections = outcome(page).get_by_role("region")
    expect(sections.nth(0)).to_have_accessible_name("To mend it")
    expect(sections.nth(1)).to_have_accessible_name("Obstacles")
    page.goto(f"{application.address}/follow?url=http://a-typed-name.example/")
    expect(outcome(page)).to_contain_text("if the name leads here")
    expect(page.get_by_role("tab", name="site")).to_have_attribute("aria-selected", "true")
    page.goto(f"{application.address}/follow")
    last = page.get_by_role("region", name="Followed last").get_by_role("link")
    expect(last.first).to_contain_text("a-typed-name.example")


@pytest.mark.usefixtures("logs_read")
def test_brush_the_afternoon_and_arrive_at_the_closed_homes(
    page: Page, application: Application
) -> None:
    page.get_by_role("link", name="Logs").click()
    why = page.get_by_role("region", name="Why requests failed")
    expect(why).to_contain_text("are explained")
    chart = page.get_by_role("img", name=re.compile("Requests over time"))
    box = chart.bounding_box()
    assert box is not None
    # From the ninth of April, when the homes were closed, to the day after.
    left, width = box["x"] + 52, box["width"] - 62  # between the axes
    page.mouse.move(left + width * 0.585, box["y"] + 40)
    expect(page.locator("figure output")).to_contain_text("answered")
    page.mouse.down()
    page.mouse.move(left + width * 0.66, box["y"] + 40, steps=4)
    page.mouse.up()
    expect(page).to_have_url(re.compile("from=19335"))
    homes = why.get_by_role("button").filter(has_text="more in /home.")
    homes.click()
    cause = page.get_by_role("article", name="Cause")
    expect(cause).to_contain_text("Since 2031-04-09 14:0")
    expect(cause).to_contain_text("2031-04-09 14:02, /home/")
    expect(cause).to_contain_text("its mode or owner was changed")
    expect(cause).to_contain_text("The error log says")
    # What is seen has an address of its own.
    page.reload()
    expect(cause).to_contain_text("Since 2031-04-09 14:0")
    cause.get_by_role("link", name=re.compile("accounts in User sites")).click()
    expect(page.get_by_role("button", name=re.compile("^ines")).first).to_be_visible()


CAUSES = {
    "claim.nobody": "No site claims www.seed-library.example",
    "ladder.shut": "may not pass through /home/",
    "rule.still-closed": "Only the server itself may see this",
    "index.none": "glass-hut/public has no index",
    "root.missing": "There is no /srv/sites/ice-house/public",
    "context.differs": "backup_store_t",
    "state.not-reloaded": "reed-cutters",
}


@pytest.mark.usefixtures("logs_read")
def test_nearly_all_that_failed_is_explained_and_each_story_is_told(page: Page) -> None:
    path = "/api/surveys/latest/logs/failures?begin=1932000000&end=1935000000"
    found = page.evaluate(f"fetch('{path}').then((r) => r.json())")
    assert found["failed"] > 20_000
    assert found["explained"] >= 0.95 * found["failed"]
    for check, words in CAUSES.items():
        groups = [g for g in found["groups"] if words in f"{g['why']} {g['site']}"]
        assert groups, words
        ids = {finding["id"] for group in groups for finding in group["findings"]}
        assert check in ids, (words, ids)
    findings = page.evaluate("fetch('/api/surveys/latest/findings').then((r) => r.json())")
    first = findings["groups"][0]
    assert (first["id"], first["requests_a_day"] > 300) == ("ladder.shut", True)


def looked_through(page: Page) -> None:
    """Goes on until the whole range was looked through: on a slow machine that takes a few goes."""
    nothing = page.get_by_text("No line of this range holds that.")
    further = page.get_by_role("button", name=re.compile("^Go on before"))
    for _ in range(50):
        expect(nothing.or_(further)).to_be_visible()
        if nothing.is_visible():
            return
        with suppress(TimeoutError):
            # What was asked before may still stand there, and go while it is pressed.
            further.click(timeout=3_000)
    expect(nothing).to_be_visible()


@pytest.mark.usefixtures("logs_read")
def test_of_hundreds_of_sites_one_is_found_by_typing(page: Page, application: Application) -> None:
    def more(route: Route) -> None:
        answer = route.fetch()
        state = answer.json()
        state["logs"]["owners"] += [{"key": f"k{n}", "name": f"more-{n}.test"} for n in range(300)]
        route.fulfill(response=answer, json=state)

    page.route("**/latest/logs", more)
    page.goto(f"{application.address}/logs?view=figures")
    site = page.get_by_label("Site", exact=True)
    site.fill("tide-table.exam")
    expect(page).not_to_have_url(re.compile("site="))
    site.fill("tide-table.example")
    expect(page).to_have_url(re.compile("site=.*tide-table"))
    expect(page.get_by_role("region", name="Pages", exact=True)).to_be_visible()
    site.fill("")
    expect(page).not_to_have_url(re.compile("site="))


@pytest.mark.usefixtures("logs_read")
def test_a_site_is_seen_in_figures_ways_and_lines_and_new_lines_come(
    page: Page, application: Application
) -> None:
    page.goto(f"{application.address}/logs")
    page.get_by_label("Site").select_option(label="radio-estuary.example")
    page.get_by_role("radio", name="figures").click()
    figures = page.get_by_role("region", name="Figures")
    expect(figures).to_contain_text("programs that act by themselves")
    # Robots make half of the radio's traffic, or near it.
    expect(figures).to_contain_text(re.compile(r"[345]\d\s%\s+of the requests come from programs"))
    expect(figures.get_by_role("region", name="Programs")).to_contain_text("LampBot")
    page.get_by_role("radio", name="ways", exact=True).click()
    expect(page.get_by_role("region", name="enter on")).to_contain_text("/")
    page.get_by_role("radio", name="lines").click()
    page.get_by_label("Only with").fill("lantern-probe")
    looked_through(page)
    page.get_by_label("live").check()
    port = int(application.address.rpartition(":")[2]) + 1
    request = Request(f"http://127.0.0.1:{port}/lantern-probe", headers={"Host": "192.0.2.11"})
    with pytest.raises(OSError, match="404"):
        urlopen(request, timeout=5)
    page.get_by_label("Site").select_option(label="the whole server")
    line = page.get_by_role("button").filter(has_text="/lantern-probe")
    expect(line).to_be_visible(timeout=60_000)
    line.click()
    shown = page.get_by_role("article", name="Line")
    expect(shown).to_contain_text("not there")
    expect(shown).to_contain_text("198.51.100.0/24")
    page.get_by_role("radio", name="whole", exact=True).click()
    expect(shown).to_contain_text("198.51.100.7")
    # The line has an address of its own.
    page.goto(page.url)
    expect(shown).to_contain_text("/lantern-probe")
    shown.get_by_role("link", name="follow this request").click()
    expect(outcome(page)).to_contain_text("404")


def test_a_survey_file_is_loaded_on_the_screen(
    page: Page, application: Application, tmp_path: Path
) -> None:
    # One job after the other: by now the logs are read, or nearly.
    logs_are_read(page)
    page.goto(f"{application.address}/surveys")
    loading = page.get_by_role("region", name="Load a survey").get_by_role("status")
    bad = tmp_path / "bad.survey"
    bad.write_text("no zip")
    page.get_by_label("Load a survey file").set_input_files(bad)
    expect(loading).to_contain_text("not a survey file")
    good = tmp_path / "good.survey"
    with good.open("wb") as stream:
        write_survey(server("<VirtualHost *:80>\nDocumentRoot /srv\n</VirtualHost>\n"), stream)
    page.get_by_label("Load a survey file").set_input_files(good)
    expect(loading).to_contain_text("done")
    last = page.get_by_role("main").get_by_role("listitem").last
    expect(last).to_contain_text("1970-01-01 00:00 UTC")
    # The job's number stands in the address: it is found again after a reload.
    page.reload()
    expect(loading).to_contain_text("done")
