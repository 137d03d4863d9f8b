"""The audit beside the real servers, on generated worlds."""

from __future__ import annotations

import pytest

from ecumen.audit import audit
from ecumen.audit.scene import Scene, Site
from ecumen.passage import Follower
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.agreement import ENGINES, world_on_disk
from tests.worlds.live import Seen, ask
from tests.worlds.trees import ADDRESSES, PORTS

pytestmark = pytest.mark.server
# Findings that say that a visitor of the front page fails.
FAILING = ("door.unheard", "root.missing", "index.none", "index.gone", "rule.", "ladder.", "way.",
           "site.", "seal.", "claim.default-twice", "state.")  # fmt: skip


def asked(scene: Scene, site: Site) -> Seen | None:
    """What the real server says to a visitor of the front page; None where nobody can ask so."""
    request = scene.front(site).request
    if request.to is None or request.source is not None or "{" in request.url:
        return None
    row: dict[str, object] = {"url": request.url, "to": request.to, "host": request.host_header}
    if f":{request.port}" not in request.url:
        row["url"] = request.url.replace(request.name, f"{request.name}:{request.port}", 1)
    return ask(row)


@pytest.mark.parametrize("kind", ENGINES)
def test_no_front_page_fails_without_a_finding_that_says_why(
    kind: str, seed: int, request: pytest.FixtureRequest
) -> None:
    failed = 0
    for number in range(int(request.config.getoption("--fronts"))):
        with world_on_disk(kind, seed + number) as world:
            follower = Follower(
                take_survey([EngineSpec(kind, str(world.config))], [str(world.base)])
            )
            scene = Scene(follower)
            found = audit(follower)
            assert found.failed_checks == []
            named = {
                (name, finding.id)
                for finding in found.findings
                for name in finding.sites
                if finding.id.startswith(FAILING)
            }
            with ENGINES[kind][1](world.config, ADDRESSES[0], PORTS[0]):
                for site in scene.sites:
                    seen = asked(scene, site)
                    front = scene.front(site)
                    # Another site's answer is told by the claims; signing in is no failure.
                    own = front.answered_by == site.summary.place and front.decided
                    if seen is None or not own or seen.status in (200, 301, 302, 303, 307, 401):
                        continue
                    failed += 1
                    assert any(name == site.name for name, _ in named), (
                        number, site.name, front.request.url, seen.status, front.status,
                        front.block and front.block.code,
                    )  # fmt: skip
    assert failed > 10
