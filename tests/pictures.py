"""The pictures in docs/screenshots, from the demo data."""

from __future__ import annotations

import os
from pathlib import Path

from tests.application import ROOT, browser, demo

VIEWS = {
    "overview": "/",
    "follow-ladder": "/follow?url=http://boat-builders.example/",
    "follow-site": "/follow?url=http://choir.example/&gate=site",
    "follow-rule": "/follow?url=http://town-archive.example/",
    "follow-personal-site": "/follow?url=http://tide-table.example/~ines/&gate=way",
    "follow-rewriting": "/follow?url=http://saltmarsh-news.example/issue/12&gate=way",
    "follow-locations": "/follow?url=http://regatta.example:8088/results/2031&gate=way",
    "follow-unsure": "/follow?url=https://harbour.saltmarsh.example/",
}
IN_THE_DARK = {"follow-personal-site"}


def main() -> None:
    folder = ROOT / "docs/screenshots"
    folder.mkdir(parents=True, exist_ok=True)
    home = Path(os.environ.get("ECUMEN_HOME", ROOT / ".cache/pictures"))
    with demo(home) as application, browser() as chromium:
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        application.sign_in(page)
        for name, path in VIEWS.items():
            page.emulate_media(
                color_scheme="dark" if name in IN_THE_DARK else "light", reduced_motion="reduce"
            )
            page.goto(application.address + path)
            page.wait_for_load_state("networkidle")
            page.screenshot(path=folder / f"{name}.png")


if __name__ == "__main__":
    main()
