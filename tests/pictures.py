"""The pictures in docs/screenshots, from the demo data."""

from __future__ import annotations

import tempfile
from pathlib import Path

from playwright.sync_api import Page

from tests.application import ROOT, Application, browser, demo, logs_are_read

VIEWS = {
    "overview": "/",
    "bindings": "/bindings?name=choir.example",
    "roots": "/roots?root=/srv/sites/fen-walkers/public/eels",
    "site": "/site?at=/etc/apache2/sites-enabled/005-choir-at-the-quay.conf:1",
    "changes": "/surveys/changes",
    "users": "/users?by=home&account=ines",
    "neighbours": "/users?view=neighbours",
    "contexts": "/contexts?switch=httpd_read_user_content",
    "engines": "/engines",
    "follow-ladder": "/follow?url=http://boat-builders.example/",
    "follow-site": "/follow?url=http://choir.example/&gate=site",
    "new-site": "/new-site?owner=ines&name=kite-makers.example",
    "follow-seal": "/follow?url=https://lantern-fund.example/",
    "certificates": "/certificates",
    "logs": "/logs?from=1933444800&to=1933552800",
    "logs-site": "/logs?view=figures&site=httpd radio-estuary.example 192.0.2.11:80",
}
IN_THE_DARK = {"logs-site"}


def main() -> None:
    folder = ROOT / "docs/screenshots"
    folder.mkdir(parents=True, exist_ok=True)
    # The last ones change the server that is shown: each time it is a new one.
    with (
        tempfile.TemporaryDirectory() as home,
        demo(Path(home)) as application,
        browser() as chromium,
    ):
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        application.sign_in(page)
        logs_are_read(page)
        for name, path in VIEWS.items():
            page.emulate_media(
                color_scheme="dark" if name in IN_THE_DARK else "light", reduced_motion="reduce"
            )
            page.goto(application.address + path)
            page.wait_for_load_state("networkidle")
            if name == "new-site":
                page.get_by_role("button", name="Add to the plan").wait_for()
            if name == "logs":
                page.get_by_role("button").filter(has_text="more in /home.").click()
                page.get_by_role("article", name="Cause").wait_for()
            page.screenshot(path=folder / f"{name}.png")
        page.goto(application.address)
        page.get_by_role("link", name="choir-of-the-marsh.example and").click()
        page.get_by_role("article").wait_for()
        page.screenshot(path=folder / "finding.png")
        changes(page, application, folder)


def changes(page: Page, application: Application, folder: Path) -> None:
    """A plan that is rehearsed, and the ledger once it was done: last, as the server is another one
    then.
    """
    findings = page.request.get(f"{application.address}/api/surveys/latest/findings").json()
    shut = [group for group in findings["groups"] if group["id"] == "ladder.shut"]
    most = max(shut, key=lambda group: group["count"])
    page.goto(f"{application.address}/?finding={most['findings'][0]['key']}")
    page.get_by_role("button", name="Add all to the plan").click()
    page.get_by_role("link", name="worker may not pass").click()
    page.get_by_role("button", name="Do it").wait_for()
    page.screenshot(path=folder / "plan.png")
    for box in page.get_by_role("checkbox", name="Although").all():
        box.check()
    page.get_by_role("button", name="Do it").click()
    page.get_by_role("link", name="as it stands in the ledger").click(timeout=120_000)
    page.emulate_media(color_scheme="dark", reduced_motion="reduce")
    page.get_by_role("heading", name="As rehearsed").wait_for()
    page.screenshot(path=folder / "ledger.png")


if __name__ == "__main__":
    main()
