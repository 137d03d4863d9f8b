"""Random lines in each other's company, beside the real servers: `--companies` sites of each."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from tests.beside_test import HTTPD
from tests.worlds.company import CompanyReport, Grounds, run
from tests.worlds.plain import all_modules

pytestmark = [pytest.mark.server, pytest.mark.apart]
PORT = 18230 + int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:])
_HTTPD = HTTPD.replace("Options", "Options Indexes") + "IncludeOptional {base}/sites/*.conf\n"
_NGINX = """
user www-data; pid {base}/pid; error_log {base}/logs/error;
events {{ worker_connections 2000; }}
http {{ include /etc/nginx/mime.types; access_log off;
server_names_hash_max_size 20000; variables_hash_max_size 20000;
include {base}/sites/*.conf; }}
"""


@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_lines_in_company_mean_what_the_server_means(
    kind: str, seed: int, tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    loaded = [f"LoadModule {n}_module /usr/lib/apache2/modules/mod_{n}.so" for n in all_modules()]
    head = "\n".join([*loaded, _HTTPD]) if kind == "httpd" else _NGINX
    grounds = Grounds(kind, tmp_path, PORT, head)
    shown: list[str] = []
    report = run(grounds, seed, int(request.config.getoption("--companies")), shown.append)
    table = request.config.getoption("--coverage")
    if table:
        with Path(table).open("a") as stream:
            stream.write(_table(kind, report))
    print(
        f"{kind}: {report.asked} asked, {report.decided} decided, {len(report.wrong)} wrong sites"
    )
    for reason, count in report.unsure.most_common(20):
        print(f"{count:6} {reason}")
    assert not report.wrong, "\n".join(shown)
    assert len(report.statuses) > 5
    assert report.decided > 0.8 * report.asked


def _table(kind: str, report: CompanyReport) -> str:
    share = 100 * report.decided / report.asked
    lines = [
        f"\n## {kind}: {report.asked} asked, {share:.1f} % decided\n",
        "| directive | in | asked | decided | wrong |",
        "| --- | --- | --- | --- | --- |",
    ]
    for reason, count in report.unsure.most_common(20):
        lines.insert(1, f"{count} open: {reason}  ")
    for (name, where), each in sorted(report.directives.items()):
        lines.append(f"| {name} | {where} | {each.asked} | {each.decided} | {each.wrong} |")
    return "\n".join(lines) + "\n"
