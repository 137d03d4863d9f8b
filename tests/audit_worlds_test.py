"""The audit beside the real servers, on generated worlds."""

from __future__ import annotations

import shutil
import tempfile
from collections import defaultdict
from dataclasses import replace
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from ecumen.audit import Finding, audit
from ecumen.audit.scene import Scene, Site, front_of
from ecumen.passage import Follower
from ecumen.passage.front import page_of
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.agreement import ENGINES, world_on_disk
from tests.worlds.live import Seen, ask
from tests.worlds.plain import plain_head
from tests.worlds.trees import ADDRESSES, PORTS

pytestmark = pytest.mark.server
NO_FAILURE = (200, 301, 302, 303, 307, 308, 401)
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


def assert_the_same_at_length(scene: Scene, site: Site) -> None:
    """A front page that is answered shortly is the same as one that is followed."""
    front, page = scene.front(site), scene.page(site)
    ran = scene.follower.run(front.request)
    whole = front_of(front.request, ran)
    assert replace(front, answer=None) == replace(whole, answer=None)
    if front.answer is not None and whole.answer is not None:
        assert front.answer.content_type == whole.answer.content_type
    assert page == page_of(scene.follower, site.engine, site.summary, front.request, ran)


@pytest.mark.share(2)
@pytest.mark.parametrize("kind", ENGINES)
def test_no_front_page_fails_without_a_finding_that_says_why(
    kind: str, seed: int, request: pytest.FixtureRequest
) -> None:
    failed = confirmed = 0
    for number in range(int(request.config.getoption("--fronts"))):
        with world_on_disk(kind, seed + number) as world:
            follower = Follower(
                take_survey([EngineSpec(kind, str(world.config))], [str(world.base)])
            )
            scene = Scene(follower)
            for site in scene.sites:
                assert_the_same_at_length(scene, site)
            found = audit(follower)
            assert found.failed_checks == []
            named = {
                (name, finding.id)
                for finding in found.findings
                for name in finding.sites
                if finding.id.startswith(FAILING)
            }
            with ENGINES[kind][1](world.config, ADDRESSES[0], PORTS[0]):
                confirmed += proofs_hold(scene, found.findings)
                for site in scene.sites:
                    seen = asked(scene, site)
                    front = scene.front(site)
                    # Another site's answer is told by the claims; signing in is no failure.
                    own = front.answered_by == site.summary.place and front.decided
                    if seen is None or not own or seen.status in NO_FAILURE:
                        continue
                    failed += 1
                    assert any(name == site.name for name, _ in named), (
                        number, site.name, front.request.url, seen.status, front.status,
                        front.block and front.block.code,
                    )  # fmt: skip
    assert failed > 10
    assert confirmed > 10


def proofs_hold(scene: Scene, findings: list[Finding]) -> int:
    """How many requests that stand as evidence the real server answered, each as it is said."""
    asked_for = 0
    # Evidence names no address: a request goes to that of the site for which it is meant, where
    # there is no other site that could be meant.
    addresses: dict[tuple[str, int | None], set[str]] = defaultdict(set)
    for site in scene.sites:
        addresses[site.summary.asked_as, site.summary.port].add(site.summary.address)
    for finding in findings:
        for proof in finding.evidence:
            if proof.request is None or proof.outcome is None or not finding.sites:
                continue
            status = proof.outcome.partition(":")[0]
            # What is not sure is said so; visitors from elsewhere are not to be had here.
            if status.endswith("?") or "{" in proof.request or "::1 out" in proof.outcome:
                continue
            url = with_port(proof.request)
            parts = urlsplit(url)
            to = addresses[parts.netloc.rpartition(":")[0], parts.port]
            if len(to) != 1:
                continue
            seen = ask({"url": url, "to": min(to)})
            told = "no answer" if seen.status is None else str(seen.status)
            assert told == status, (finding.id, proof.request, proof.outcome, to, seen)
            asked_for += 1
    return asked_for


def with_port(url: str) -> str:
    parts = urlsplit(url)
    if parts.port is not None:
        return url
    return parts._replace(
        netloc=f"{parts.netloc}:{443 if parts.scheme == 'https' else 80}"
    ).geturl()


def test_a_hand_made_server_with_a_double_claim_a_nested_root_and_a_served_dump() -> None:
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-audit-"))
    base.chmod(0o755)
    try:
        for path in ("a/index.html", "a/in/index.html", "a/members.sql", "c/index.html"):
            (base / "www" / path).parent.mkdir(parents=True, exist_ok=True)
            (base / "www" / path).write_text("here")
        blocks = "".join(
            f"<VirtualHost *>\nServerName {name}.test\nServerAlias {alias}.test\n"
            f"DocumentRoot {base}/www/{root}\n</VirtualHost>\n"
            for name, alias, root in (("a", "x", "a"), ("b", "b2", "a/in"), ("c", "x", "c"))
        )
        config = base / "main.conf"
        config.write_text(plain_head(base, ADDRESSES[0], PORTS[0]) + blocks)
        follower = Follower(take_survey([EngineSpec("httpd", str(config))]))
        found = {finding.id: finding for finding in audit(follower).findings}
        assert {"claim.double", "root.nested", "root.served-secret"} <= set(found)
        with ENGINES["httpd"][1](config, ADDRESSES[0], PORTS[0]):
            for finding in found.values():
                for proof in finding.evidence:
                    if proof.request is None or proof.outcome is None:
                        continue
                    seen = ask({"url": proof.request, "to": ADDRESSES[0]})
                    assert proof.outcome.startswith(str(seen.status)), proof
            # The claim that is lost is lost: the first one's page comes.
            lost = ask({"url": f"http://x.test:{PORTS[0]}/members.sql", "to": ADDRESSES[0]})
            assert lost.status == 200
    finally:
        shutil.rmtree(base)
