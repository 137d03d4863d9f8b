"""Changes, from the screen: a dark home comes back by keyboard alone, and goes again."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.error import HTTPError
from urllib.request import Request, urlopen

import pytest
from playwright.sync_api import Page, expect

from tests.application import Application, browser
from tests.end_to_end.screen_test import AXE

pytestmark = [pytest.mark.browser, pytest.mark.share(2)]
# Every change is followed by a survey, and by an audit of it.
expect.set_options(timeout=60_000)


@pytest.fixture
def page(application: Application) -> Iterator[Page]:
    with browser() as launched:
        context = launched.new_context(viewport={"width": 1280, "height": 800})
        page = context.new_page()
        application.sign_in(page)
        yield page
        context.close()


def home(application: Application) -> int:
    """What the stand-in answers for the front page of a home."""
    port = int(application.address.rpartition(":")[2]) + 1
    asked = Request(f"http://127.0.0.1:{port}/~arvid/", headers={"Host": "tide-table.example"})
    try:
        with urlopen(asked, timeout=20) as answer:
            return int(answer.status)
    except HTTPError as error:
        return error.code


def pressed(page: Page, name: str) -> None:
    """A button, by the keyboard alone."""
    button = page.get_by_role("button", name=name, exact=True).first
    button.focus()
    page.keyboard.press("Enter")


def test_a_dark_home_comes_back_by_keyboard_and_is_taken_back(
    page: Page, application: Application
) -> None:
    assert home(application) == 403
    findings = page.request.get(f"{application.address}/api/surveys/latest/findings").json()
    key = next(
        each["key"]
        for group in findings["groups"]
        if group["id"] == "ladder.shut"
        for each in group["findings"]
        if "~arvid" in each["title"]
    )
    page.goto(f"{application.address}/?finding={key}")
    pressed(page, "Add to the plan")
    expect(page.get_by_text("In the plan")).to_be_visible()
    page.keyboard.press("g")
    expect(page.get_by_text("1 front page and 30 other pages come back")).to_be_visible()
    expect(page.get_by_role("img", name="31 pages come back")).to_be_visible()
    page.evaluate(AXE.read_text())
    grave = page.evaluate(
        "axe.run().then(r => r.violations.filter(v => /serious|critical/.test(v.impact))"
        ".map(v => [v.id, v.nodes.map(n => n.failureSummary)]))"
    )
    assert grave == []
    do_it = page.get_by_role("button", name="Do it")
    expect(do_it).to_be_disabled()
    # What gets worse needs a yes.
    page.get_by_role("checkbox", name="Although").focus()
    page.keyboard.press("Space")
    page.get_by_role("radio", name="10 minutes").check()
    pressed(page, "Do it")
    doing = page.get_by_role("region", name="What is being done")
    expect(doing).to_contain_text("…")
    # In the middle of it: the job's number stands in the address.
    page.reload()
    expect(doing).to_contain_text("Done, and the server was surveyed anew.")
    assert home(application) == 200
    page.get_by_role("link", name="as it stands in the ledger").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="As rehearsed")).to_be_visible()
    expect(page.get_by_role("article")).to_contain_text("2031-04-15")
    kept = page.get_by_role("region", name="Keep it")
    expect(kept).to_contain_text("taken back by itself at")
    pressed(page, "Keep it")
    expect(kept).to_be_hidden()
    expect(page.get_by_role("article")).to_contain_text("It was kept")
    pressed(page, "Take it back")
    expect(doing).to_contain_text("Done, and the server was surveyed anew.")
    assert home(application) == 403
    expect(page.get_by_role("article")).to_contain_text("undone")


def test_a_change_is_given_up_half_way(page: Page, application: Application) -> None:
    before = home(application)
    findings = page.request.get(f"{application.address}/api/surveys/latest/findings").json()
    shut = [group for group in findings["groups"] if group["id"] == "ladder.shut"]
    most = max(shut, key=lambda group: group["count"])
    page.goto(f"{application.address}/?finding={most['findings'][0]['key']}")
    page.get_by_role("button", name="Add all to the plan").click()
    page.get_by_role("link", name="worker may not pass").click()
    expect(page.get_by_role("button", name="Do it")).to_be_visible()
    for box in page.get_by_role("checkbox", name="Although").all():
        box.check()
    pressed(page, "Do it")
    doing = page.get_by_role("region", name="What is being done")
    expect(doing.get_by_role("status")).to_contain_text("/home/")
    pressed(page, "Give it up")
    expect(doing).to_contain_text("Given up: what was begun of it was taken back.")
    assert home(application) == before
    page.goto(f"{application.address}/changes")
    expect(page.get_by_role("navigation", name="Plans")).to_contain_text("taken back")


def test_a_site_is_called_otherwise_and_the_rehearsal_says_so(
    page: Page, application: Application
) -> None:
    at = "/etc/apache2/sites-enabled/033-reed-cutters.conf:1"
    page.goto(f"{application.address}/site?at={at}")
    names = page.get_by_role("textbox", name="Its names")
    expect(names).to_have_value("reed-cutters.example www.reed-cutters.example")
    names.fill("choir.example")
    page.keyboard.press("Enter")
    region = page.get_by_role("region", name="Its names")
    expect(region.get_by_role("alert")).to_contain_text("is claimed by choir-of-the-marsh.example")
    names.fill("reed-harvest.example")
    page.keyboard.press("Enter")
    expect(region).to_contain_text("Redirect permanent / http://reed-harvest.example/")
    region.get_by_role("button", name="Add to the plan").click()
    expect(region.get_by_text("In the plan")).to_be_visible()
    page.keyboard.press("g")
    expect(page.get_by_text("1 front page is new")).to_be_visible()
    page.get_by_role("button", name="throw this plan away").click()
    expect(page.get_by_text("No plan is being written")).to_be_visible()


def test_a_plan_is_named_put_in_order_and_thrown_away(page: Page, application: Application) -> None:
    steps = [
        {"what": "mode", "path": f"/srv/sites/{name}/public", "was": "0755", "to": "0751"}
        for name in ("pottery", "paper-mill")
    ]
    token = page.request.get(f"{application.address}/api/session").json()["token"]
    headers = {"X-CSRFToken": token}

    def add(**what: object) -> int:
        asked = page.request.post(
            f"{application.address}/api/plans", data={"operations": [], **what}, headers=headers
        )
        return asked.status

    assert add(operations=steps, title="two folders") == 200
    # Twice is once; and what is none is refused with its reason.
    assert add(operations=steps) == 200
    assert add(operations=[{"what": "run", "path": "/x"}]) == 400
    page.goto(f"{application.address}/changes")
    listed = page.get_by_role("region", name="Steps").get_by_role("listitem")
    expect(listed).to_have_count(2)
    page.get_by_label("earlier: step 2 before").click()
    expect(listed.first).to_contain_text("paper-mill")
    page.get_by_label("leave out step 2").click()
    expect(listed).to_have_count(1)
    name = page.get_by_label("What this plan is for")
    name.fill("One folder")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="as commands").click()
    expect(listed.first).to_contain_text("chmod o-r -- /srv/sites/paper-mill/public")
    # It stays as it was left.
    page.reload()
    expect(page.get_by_label("What this plan is for")).to_have_value("One folder")
    expect(listed).to_have_count(1)
    page.get_by_role("button", name="throw this plan away").click()
    expect(page.get_by_text("No plan is being written")).to_be_visible()


def test_a_new_site_is_kept_to_the_server_by_keyboard_alone(
    page: Page, application: Application
) -> None:
    page.goto(f"{application.address}/changes")
    expect(page.get_by_role("link", name="new site")).to_be_visible()
    page.keyboard.press("n")
    page.get_by_label("Whose is it").fill("ines")
    page.keyboard.press("Tab")
    # What clashes is said while one types.
    page.keyboard.type("choir.example")
    against = page.get_by_role("list", name="What stands against it")
    expect(against).to_contain_text("choir.example is claimed by choir-of-the-marsh.example")
    expect(page.get_by_role("button", name="Add to the plan")).to_have_count(0)
    page.get_by_label("By which name is it asked for").fill("kite-makers.example")
    outside = page.get_by_role("figure").first
    expect(outside).to_contain_text("403")
    expect(page.get_by_role("figure").nth(1)).to_contain_text("200")
    expect(page.get_by_label("its folder")).to_have_value("/srv/sites/kite-makers/public")
    page.evaluate(AXE.read_text())
    grave = page.evaluate(
        "axe.run().then(r => r.violations.filter(v => /serious|critical/.test(v.impact))"
        ".map(v => [v.id, v.nodes.map(n => n.failureSummary)]))"
    )
    assert grave == []
    pressed(page, "Add to the plan")
    expect(page.get_by_text("In the plan")).to_be_visible()
    page.keyboard.press("g")
    expect(page.get_by_text("1 front page is new")).to_be_visible()
    pressed(page, "Do it")
    doing = page.get_by_role("region", name="What is being done")
    expect(doing).to_contain_text("Done, and the server was surveyed anew.")
    address = f"{application.address}/follow?url=http://kite-makers.example/&to=192.0.2.10"
    for source, status in (("127.0.0.1", "200"), ("198.51.100.7", "403")):
        page.goto(f"{address}&from={source}")
        expect(page.get_by_role("complementary", name="Outcome")).to_contain_text(status)
    # From its page it is opened, step by step, or goes out of service.
    page.keyboard.press("Control+k")
    page.keyboard.type("kite-mak")
    page.keyboard.press("Enter")
    sight = page.get_by_role("region", name="Who can see it")
    expect(sight.get_by_role("button", name="Out of service: add to the plan")).to_be_visible()
    sight.get_by_role("radio", name="everyone").click()
    pressed(page, "Add to the plan")
    expect(sight).to_contain_text("kite-makers.example is seen by everyone, 2 steps so far.")


def test_an_engine_is_stopped_by_keyboard(page: Page, application: Application) -> None:
    """Last, as the sites of the server that is shown are dark then."""
    page.keyboard.press("e")
    engine = page.get_by_role("article", name="nginx")
    expect(engine).to_be_visible()
    button = engine.get_by_role("button", name="Plan to stop it")
    button.focus()
    page.keyboard.press("Enter")
    expect(engine.get_by_text("In the plan")).to_be_visible()
    page.keyboard.press("g")
    closing = re.compile(r"11 front pages (and \d+ other pages )?close")
    expect(page.get_by_text(closing)).to_be_visible()
    for box in page.get_by_role("checkbox", name="Although").all():
        box.check()
    pressed(page, "Do it")
    expect(page.get_by_text("Done, and the server was surveyed anew.")).to_be_visible()
    page.keyboard.press("e")
    expect(engine.get_by_text("does not run", exact=True)).to_be_visible()
    expect(engine.get_by_role("button", name="Plan to start it")).to_be_visible()
