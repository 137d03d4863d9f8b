"""What lets browsers ask whether their copy still holds, beside what the real servers send."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from ecumen.passage import Follower, read_request
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.live import ask, httpd, nginx
from tests.worlds.plain import plain_head

ADDRESS, PORT = "127.0.0.50", 8092
PLACES = {
    "httpd": {
        "plain": "",
        "none": "FileETag None",
        "some": "FileETag MTime",
        "bare": "FileETag None\nHeader unset Last-Modified",
        "always": "Header always unset ETag",
        "unset": "Header unset ETag",
        "week": 'ExpiresActive On\nExpiresDefault "access plus 1 week"',
        "store": "Header set Cache-Control no-store",
    },
    "nginx": {
        "plain": "",
        "none": "etag off;",
        "week": "expires 1w;",
        "store": "add_header Cache-Control no-store;",
    },
}


@pytest.fixture(scope="module", params=["httpd", "nginx"])
def kind(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture(scope="module")
def follower(kind: str) -> Iterator[Follower]:
    base = Path(tempfile.mkdtemp(dir="/srv", prefix="ecumen-lifetimes-"))
    base.chmod(0o755)
    try:
        for name in PLACES[kind]:
            folder = base / "www" / name
            folder.mkdir(parents=True)
            (folder / "page.html").write_text("page")
        (base / "logs").mkdir()
        config = base / "main.conf"
        config.write_text(_httpd(base) if kind == "httpd" else _nginx(base))
        follower = Follower(take_survey([EngineSpec(kind, str(config))]))
        with {"httpd": httpd, "nginx": nginx}[kind](config, ADDRESS, PORT):
            yield follower
    finally:
        shutil.rmtree(base)


def _httpd(base: Path) -> str:
    lines = [plain_head(base, ADDRESS, PORT), f"DocumentRoot {base}/www"]
    lines += [
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so"
        for name in ("headers", "expires")
    ]
    for name, said in PLACES["httpd"].items():
        lines += [f"<Directory {base}/www/{name}>", said, "</Directory>"]
    return "\n".join([*lines, ""])


def _nginx(base: Path) -> str:
    places = "".join(f"location /{n}/ {{ {said} }}\n" for n, said in PLACES["nginx"].items())
    return (
        f"user www-data;\npid {base}/pid;\nerror_log {base}/log;\nevents {{}}\n"
        f"http {{\ninclude /etc/nginx/mime.types;\naccess_log {base}/access;\n"
        f"server {{\nlisten {ADDRESS}:{PORT};\nroot {base}/www;\n{places}}}\n}}\n"
    )


@pytest.mark.server
@pytest.mark.apart
def test_what_is_said_of_copies_is_what_is_sent(kind: str, follower: Follower) -> None:
    for name in PLACES[kind]:
        url = f"http://{ADDRESS}:{PORT}/{name}/page.html"
        sent = ask({"url": url, "to": ADDRESS}).headers
        kept = follower.follow(read_request(url, to=ADDRESS)).kept
        assert kept is not None
        means = [header for header in ("Last-Modified", "ETag") if header.lower() in sent]
        if kept.kind == "never":
            assert "no-store" in sent["cache-control"]
        elif means:
            assert kept.words.endswith(f"by {' and '.join(means)}"), name
        else:
            assert "nothing lets them ask" in kept.words
        stated = sent.get("cache-control", "").removeprefix("max-age=")
        assert (kept.kind == "stated") == stated.isdigit(), name
        if stated.isdigit():
            assert kept.seconds == int(stated)
