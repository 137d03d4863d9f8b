"""One application for all: what changes its server comes behind what looks at it."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.application import Application, demo


@pytest.fixture(scope="session")
def application(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Application]:
    with demo(tmp_path_factory.mktemp("home")) as running:
        yield running
