"""Sites that are written: the readers read what was meant, and so do the real servers."""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path

import pytest

from ecumen.engines.draft import SiteDraft, is_host_name
from ecumen.engines.engine import all_sites
from ecumen.engines.httpd import writing as httpd
from ecumen.engines.nginx import writing as nginx
from ecumen.passage import Follower
from ecumen_agent.lines import Places, check_lines
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.agreement import ENGINES
from tests.worlds.live import ask
from tests.worlds.plain import MODULES, open_way

WRITE: dict[str, Callable[[SiteDraft], str]] = {"httpd": httpd.site_text, "nginx": nginx.site_text}
ADDRESS, PORT = "127.0.0.1", 18490 + int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:])
# Every byte that a name may have, and the letters that languages mean something by.
_BYTES = [bytes([number]) for number in range(1, 256) if number != ord("/")]
_ODD = [bytes([letter]) for letter in b" \"'\\${}%#;[]*?<>|~`!^&()=+-.\t\n"]


def names(rng: random.Random, count: int) -> list[str]:
    found = [b"a" + each for each in _BYTES]
    found += [each + b"a" for each in _ODD]
    found += [b"".join(rng.choices(_ODD + _BYTES, k=rng.randint(2, 9))) for _ in range(count)]
    return [os.fsdecode(each) for each in dict.fromkeys(found) if each not in (b".", b"..")]


@pytest.mark.server
@pytest.mark.apart
@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_folders_of_any_name_are_served_as_they_were_meant(
    tmp_path: Path, seed: int, kind: str
) -> None:
    open_way(tmp_path)
    base = tmp_path / "base"
    for folder in ("sites", "logs", "root"):
        (base / folder).mkdir(parents=True)
        (base / folder).chmod(0o755)
    base.chmod(0o755)
    refused, meant = [], {}
    places = Places(lambda path: path.startswith(f"{base}/"), (f"{base}/logs",), ())
    for number, name in enumerate(names(random.Random(seed), 250)):
        root = base / "root" / name
        try:
            text = WRITE[kind](SiteDraft((f"s{number}.test",), str(root), ((ADDRESS, PORT),)))
        except ValueError:
            refused.append(name)
            continue
        root.mkdir()
        (root / "index.html").write_text(str(number))
        (base / "sites" / f"{number:05}.conf").write_text(text, errors="surrogateescape")
        meant[number] = str(root)
        # The agent reads it alike. What is odd beyond that it will not write.
        if name.isascii() and name.isprintable() and "\\" not in name:
            check_lines(kind, os.fsencode(text), places)
    # What cannot be written is known beforehand: a line end, or a variable.
    assert all("\n" in each or "\r" in each or "$" in each for each in refused)
    assert len(meant) > 400
    config = base / "server.conf"
    if kind == "httpd":
        loaded = "\n".join(
            f"LoadModule {n}_module /usr/lib/apache2/modules/mod_{n}.so" for n in MODULES
        )
        config.write_text(
            f"{loaded}\nServerRoot {base}\nPidFile {base}/pid\nErrorLog {base}/logs/error\n"
            f"Listen {ADDRESS}:{PORT}\nUser www-data\nGroup www-data\nServerName main.test\n"
            "TypesConfig /etc/mime.types\nDirectoryIndex index.html\n"
            "<Directory />\nRequire all denied\n</Directory>\nInclude sites/*.conf\n"
        )
    else:
        config.write_text(
            f"user www-data; pid {base}/pid; error_log {base}/logs/error;\nevents {{}}\n"
            "http { server_names_hash_bucket_size 128; server_names_hash_max_size 4096;\n"
            f"access_log off; include {base}/sites/*.conf; }}\n"
        )
    follower = Follower(take_survey([EngineSpec(kind, str(config))]))
    read = {site.name: site.root for each in follower.engines for site in all_sites(each)}
    assert {number: read[f"s{number}.test"] for number in meant} == meant
    with ENGINES[kind][1](config, ADDRESS, PORT):
        for number, root in meant.items():
            row = {"url": f"http://s{number}.test:{PORT}/", "to": ADDRESS}
            assert ask(row).status == 200, root


def test_what_is_no_name_no_port_and_no_path_is_refused() -> None:
    good = SiteDraft(("a.test", "*.b.test"), "/srv/a", (("*", 80), ("2001:db8::1", 443)))
    assert "[2001:db8::1]:443" in httpd.site_text(good)
    assert "listen [2001:db8::1]:443;" in nginx.site_text(good)
    for wrong in (
        lambda: SiteDraft((), "/srv/a"), lambda: SiteDraft(("a b",), "/srv/a"),
        lambda: SiteDraft(("a;b",), "/srv/a"), lambda: SiteDraft(("~a",), "/srv/a"),
        lambda: SiteDraft(("a.test\nUser root",), "/srv/a"), lambda: SiteDraft(("a",), "srv"),
        lambda: SiteDraft(("a",), "/srv", (("*", 0),)),
        lambda: SiteDraft(("a",), "/srv", (("x", 1),)),
        lambda: SiteDraft(("a",), "/srv", note="x\nUser root"),
        lambda: SiteDraft(("a",), "/srv", indent="User"),
        lambda: httpd.site_text(SiteDraft(("a",), "/srv", log="|id")),
        lambda: nginx.site_text(SiteDraft(("a",), "/srv", log="syslog:x")),
    ):  # fmt: skip
        with pytest.raises(ValueError, match=r"."):
            wrong()
    assert not any(map(is_host_name, ("", "-a", "a-", "a..b", "a" * 64, "a.*", "é.test")))
