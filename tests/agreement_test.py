"""Ecumen against the real server, on generated worlds: never wrong, seldom unsure."""

from __future__ import annotations

import pytest

from tests.worlds.agreement import Report, run_world

pytestmark = pytest.mark.server


def test_every_decided_answer_is_the_servers_own(request: pytest.FixtureRequest, seed: int) -> None:
    report = Report()
    count = int(request.config.getoption("--asks"))
    for number in range(int(request.config.getoption("--worlds"))):
        run_world(seed + number, count, report)
    summary = (
        f"asked {report.asked}, decided {report.decided}, wrong {len(report.wrong)}, "
        f"statuses {dict(report.statuses)}, unsure {report.unsure.most_common(5)}"
    )
    print(summary)
    assert not report.wrong, "\n".join([summary, *report.wrong[:20]])
    assert report.decided >= 0.95 * report.asked, summary
    # The worlds must be worth asking: every kind of answer occurs.
    assert {200, 301, 400, 403, 404} <= set(report.statuses), summary
