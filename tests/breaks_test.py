"""Configurations that the real engines refuse: where and why, and which sites stand behind."""

from __future__ import annotations

from pathlib import Path

import pytest

from ecumen.engines import engine
from ecumen.engines.breaks import Break
from ecumen.engines.engine import all_sites
from ecumen_machine import EngineSpec, take_survey
from tests.worlds.plain import plain_head

pytestmark = [pytest.mark.server, pytest.mark.apart]
ADDRESS, PORT = "127.0.0.48", 8089
WELL = {
    "httpd": "<VirtualHost *>\nServerName {name}\nDocumentRoot {base}/www\n</VirtualHost>\n",
    "nginx": "server {{\nlisten 127.0.0.48:8090;\nserver_name {name};\nroot {base}/www;\n}}\n",
}


def breaks(kind: str, base: Path, middle: str) -> tuple[list[Break], dict[str, bool]]:
    """What stops an engine whose middle site is written like this; which sites are behind."""
    base.chmod(0o755)
    (base / "www").mkdir()
    (base / "sites").mkdir()
    for number, name in enumerate(("first.test", "middle.test", "last.test")):
        text = middle if number == 1 else WELL[kind].format(name=name, base=base)
        (base / f"sites/{number}.conf").write_text(text)
    config = base / "main.conf"
    if kind == "httpd":
        config.write_text(f"{plain_head(base, ADDRESS, PORT)}Include sites/*.conf\n")
    else:
        config.write_text(
            f"user www-data;\npid {base}/pid;\nerror_log {base}/log;\nevents {{}}\n"
            f"http {{\naccess_log {base}/access;\ninclude sites/*.conf;\n}}\n"
        )
    (found,) = engine.engines_of(take_survey([EngineSpec(kind, str(config))]))
    return list(found.breaks), {site.name: site.behind for site in all_sites(found)}


@pytest.mark.parametrize(
    ("kind", "middle", "line", "said"),
    [
        ("httpd", "<VirtualHost *>\nServerName middle.test\nOpenSesame\n</VirtualHost>\n", 3, "Op"),
        ("httpd", "<VirtualHost *>\nServerName middle.test\nOptions Al\n</VirtualHost>\n", 3, "Al"),
        ("httpd", "<VirtualHost *>\nServerName middle.test\n", 1, "not closed"),
        ("httpd", "<VirtualHost *>\nServerName middle.test\n</Directory>\n</VirtualHost>\n", 3,
         "</Directory>"),
        ("httpd", "<VirtualHost *>\nServerName middle.test\nInclude gone.conf\n</VirtualHost>\n", 3,
         "gone.conf"),
        ("nginx", "server {\nserver_name middle.test;\nopen_sesame on;\n}\n", 3, "open_sesame"),
        ("nginx", "server {\nserver_name middle.test;\nroot /a\n}\n", 4, "}"),
        ("nginx", "server {\nserver_name middle.test;\nlocation / {\n", 4, "end of file"),
        ("nginx", "server {\nserver_name middle.test;\ninclude gone.conf;\n}\n", 3, "gone.conf"),
    ],
)  # fmt: skip
def test_a_break_is_named_and_what_is_behind_it(
    kind: str, middle: str, line: int, said: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    base = tmp_path_factory.mktemp("breaks")
    found, behind = breaks(kind, base, middle)
    assert found[0].engine_says
    assert found[0].place == (f"{base}/sites/1.conf", line)
    assert said in found[0].message
    # Where our reader stops too, it stops at the same line.
    assert all(each.place == found[0].place for each in found)
    assert behind == {"first.test": False, "middle.test": True, "last.test": True}


@pytest.mark.parametrize("kind", ["httpd", "nginx"])
def test_what_the_engine_would_load_has_no_break(
    kind: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    base = tmp_path_factory.mktemp("breaks")
    found, behind = breaks(kind, base, WELL[kind].format(name="middle.test", base=base))
    assert not found
    assert not any(behind.values())
