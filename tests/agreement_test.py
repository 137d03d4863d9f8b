"""Ecumen against the real servers, on generated worlds: never wrong, seldom unsure."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.worlds.agreement import ENGINES, Report, run_world

pytestmark = pytest.mark.server
HEAD = """# Agreement with the real servers

Generated worlds are laid out on disk, the real server is started on loopback, and both are asked
the same. What is compared: status, site, Location, content type, and how many lines each log got.
Written by `make agreement`.

"""


def test_every_decided_answer_is_the_servers_own(request: pytest.FixtureRequest, seed: int) -> None:
    report = Report()
    count = int(request.config.getoption("--asks"))
    for number in range(int(request.config.getoption("--worlds"))):
        for kind in ENGINES:
            run_world(kind, seed + number, count, report)
    summary = (
        f"asked {report.asked}, decided {report.decided}, short {report.short}, "
        f"wrong {len(report.wrong)}, "
        f"statuses {dict(report.statuses)}, unsure {report.unsure.most_common(5)}"
    )
    print(summary)
    path = request.config.getoption("--table")
    if path:
        print(report.table())
        about = f"{report.worlds} worlds from seed {seed}.\n\n"
        # What others measured stands behind, and stays.
        _, mark, behind = Path(path).read_text().partition("\n## ")
        Path(path).write_text(HEAD + about + report.table() + "\n" + mark + behind)
    assert not report.wrong, "\n".join([summary, *report.wrong[:20]])
    assert report.decided >= 0.95 * report.asked, summary
    assert report.short >= 0.1 * report.asked, summary
    # The worlds must be worth asking: every kind of answer occurs.
    assert {200, 301, 302, 400, 403, 404, 405, 500} <= set(report.statuses), summary
