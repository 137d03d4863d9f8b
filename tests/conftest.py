"""What tests need of the machine; what is missing skips just the tests that need it."""

from __future__ import annotations

import ast
import os
import shutil
from collections import Counter
from datetime import date
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings
from xdist.scheduler import LoadScopeScheduling

from ecumen_machine import matching
from tests import whole

whole.watch()
# How long it takes to make cases tells of the machine, not of the code.
settings.register_profile(
    "any machine", deadline=None, suppress_health_check=[HealthCheck.too_slow]
)
settings.load_profile("any machine")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--seed", type=int, default=1, help="The first seed of generated worlds.")
    parser.addoption("--worlds", type=int, default=2, help="How many worlds are generated.")
    parser.addoption("--asks", type=int, default=200, help="Requests to each world.")
    today = date.today().toordinal()
    parser.addoption("--turn", type=int, default=today, help="Whose turn it is, of the shares.")
    parser.addoption("--whole", action="store_true", help="All cases, where a share is usual.")
    parser.addoption("--directives", type=int, default=8, help="Of override files.")
    parser.addoption("--companies", type=int, default=16, help="Sites of random lines, of each.")
    parser.addoption("--coverage", default="", help="Where a table of directives is added to.")
    parser.addoption("--fronts", default=2, type=int, help="worlds whose front pages are audited")
    parser.addoption("--rules", type=int, default=8, help="Random rule sets of a packet filter.")
    parser.addoption("--plans", type=int, default=6, help="Done on worlds, for each engine.")
    parser.addoption("--kinds", type=int, default=12, help="Surveys of sites that are alike.")
    parser.addoption("--chains", type=int, default=4, help="Obstacles mended, for each engine.")
    parser.addoption("--attacks", action="store_true", help="Those that take long, too.")
    parser.addoption("--tries", type=int, default=8_000, help="At a race, each.")
    parser.addoption("--patterns", type=int, default=300, help="Hostile ones.")
    parser.addoption("--minutes", type=float, default=0.2, help="Of fuzzing.")
    parser.addoption("--kills", type=int, default=2, help="How often the reader of logs is killed.")
    parser.addoption("--cases", type=int, default=600, help="Questions to the API.")
    parser.addoption("--faults", type=int, default=3, help="Of the disk, injected while it writes.")
    parser.addoption("--table", default="", help="Where the table of agreement is written.")


def _missing_server() -> list[str]:
    missing = [] if os.geteuid() == 0 else ["root"]
    for program, package in (("apache2", "apache2"), ("setfacl", "acl"), ("useradd", "passwd")):
        if shutil.which(program, path="/usr/sbin:/usr/bin:/sbin:/bin") is None:
            missing.append(package)
    return missing


def _missing_browser() -> list[str]:
    found = shutil.which("chromium")
    return [] if found else ["chromium"]


class _TwoAtOnce(LoadScopeScheduling):
    """Whatever makes accounts or starts the real servers shares the machine, and goes one by one;
    so does what shares the browser. What has addresses and folders of its own, and makes no
    account, goes beside it, by its file, as all others do.
    """

    def _split_scope(self, nodeid: str) -> str:
        file, _, name = nodeid.partition("::")
        marks = _marks(file)
        return marks.get(name.partition("[")[0].partition("::")[0]) or marks.get("") or file


@cache
def _marks(file: str) -> dict[str, str]:
    """By the names of tests and classes of a file, "" for all of it: what they share."""
    found = {}
    for part in ast.parse((Path(__file__).parents[1] / file).read_text()).body:
        about: list[ast.expr] = []
        name = ""
        if isinstance(part, ast.FunctionDef | ast.ClassDef):
            about, name = part.decorator_list, part.name
        elif isinstance(part, ast.Assign) and ast.unparse(part.targets[0]) == "pytestmark":
            about = [part.value]
        for shared in ("server", "browser"):
            if any(f"mark.{shared}" in ast.unparse(each) for each in about):
                found[name] = shared
        if any("mark.apart" in ast.unparse(each) for each in about):
            found[name] = file
    return found


def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> _TwoAtOnce:
    return _TwoAtOnce(config, log)


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    if not config.getoption("--attacks"):
        long = [item for item in items if item.get_closest_marker("attack")]
        config.hook.pytest_deselected(items=long)
        items[:] = [item for item in items if item not in long]
    if not config.getoption("--whole"):
        left = _of_other_turns(items, config.getoption("--turn"))
        config.hook.pytest_deselected(items=left)
        items[:] = [item for item in items if item not in left]
    for marker, missing in (("server", _missing_server()), ("browser", _missing_browser())):
        for item in items:
            if missing and item.get_closest_marker(marker):
                item.add_marker(pytest.mark.skip(reason=f"needs {', '.join(missing)}"))


def _of_other_turns(items: list[pytest.Item], turn: int) -> list[pytest.Item]:
    """The cases whose turn it is not: each has its own within a few days. Those of one test, and
    tests of one file that have no cases, take turns with each other.
    """
    counted: Counter[str] = Counter()
    left = []
    for item in items:
        mark = item.get_closest_marker("share")
        if mark is None:
            continue
        of, _, cases = item.nodeid.partition("[")
        group = of if cases else of.partition("::")[0]
        if (counted[group] + turn) % int(mark.args[0]):
            left.append(item)
        counted[group] += 1
    return left


@pytest.fixture
def tries(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--tries"))


@pytest.fixture
def patterns(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--patterns"))


@pytest.fixture
def directives(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--directives"))


@pytest.fixture
def minutes(request: pytest.FixtureRequest) -> float:
    return float(request.config.getoption("--minutes"))


@pytest.fixture
def kills(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--kills"))


@pytest.fixture
def cases(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--cases"))


@pytest.fixture
def faults(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--faults"))


@pytest.fixture
def seed(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--seed"))


@pytest.fixture(autouse=True, scope="session")
def patterns_apart() -> None:
    """Costly patterns are matched in a process that can be ended, as in every command."""
    matching.start()
