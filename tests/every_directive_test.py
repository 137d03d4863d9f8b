"""Every directive that an override file may hold, with some forty forms of arguments, right and
wrong ones, beside the real server: what it refuses is 500 here too, and nothing else is.

The names are the server's own list, the forms are anybody's.
"""

from __future__ import annotations

import random
from collections import Counter
from pathlib import Path

import pytest

from ecumen.engines.httpd.modules import known_directives
from ecumen.engines.httpd.values import fault
from ecumen.passage import Follower
from ecumen.passage.request import request_of
from ecumen_machine import EngineSpec, take_survey
from tests.beside_test import ADDRESS, PORT, Case, configured
from tests.worlds.agreement import ENGINES, differences
from tests.worlds.live import ask
from tests.worlds.plain import all_modules, open_way

pytestmark = [pytest.mark.server, pytest.mark.apart]
FORMS = (
    "|On|Off|x|x y|x y z|/a.html|.txt|text/css .txt|text/css|1|0|-1|404 /b.txt|default|none|all|"
    '"a b"|a.html|On Off|set X y|html text/css|Basic|"|*.html x|100000000000|%{REQUEST_URI}|txt|=1|'
    '/x /b.txt|+x|-x|.html|GET|expr=true|X-A b|^a x|x=y|""|a b "|(|x ('
).split("|")
FOUND_WRONG = ("sslrequire", "ssloptions", "sslverifyclient", "multiviewsmatch")


def test_an_override_file_fails_where_the_servers_does(
    seed: int, directives: int, tmp_path: Path
) -> None:
    modules = all_modules()
    there = {f"{name}_module" for name in modules} | {"core_module", "http_module"}
    names = sorted(
        name
        for name, known in known_directives().items()
        if known.needs != {"-"} and known.module in there and not name.startswith("<")
    )
    chosen = random.Random(seed).sample(names, min(directives, len(names)))
    # Taken with any words once, and refused by the server with most.
    chosen += [name for name in FOUND_WRONG if name not in chosen]
    open_way(tmp_path)
    cases = [(name, number) for name in chosen for number in range(len(FORMS))]
    for name, number in cases:
        folder = tmp_path / "root" / name / str(number)
        folder.mkdir(parents=True)
        for file in ("a.html", "index.html", "b.txt"):
            (folder / file).write_text("x")
        (folder / ".htaccess").write_text(f"{name} {FORMS[number]}\n")
    opened = [f"<Directory {tmp_path}/root>", "Options All", "AllowOverride All", "</Directory>"]
    config = configured(tmp_path, Case(modules=modules, sites=[opened]))
    follower = Follower(take_survey([EngineSpec("httpd", str(config))]))
    told: Counter[str] = Counter()
    wrong: list[str] = []
    with ENGINES["httpd"][1](config, ADDRESS, PORT):
        for name, number in cases:
            for local in ("b.txt", "none", ""):
                url = f"http://s0.test:{PORT}/{name}/{number}/{local}"
                row = {"url": url, "to": ADDRESS, "from": ADDRESS}
                answer, seen = follower.brief(request_of(row)), ask(row)
                refused = seen.status == 500
                told[f"{'decided' if answer['decided'] else 'unsure'}, refused: {refused}"] += 1
                if answer["decided"]:
                    line = f"{name} {FORMS[number]}: /{local}"
                    wrong += [f"{line}: {one}" for one in differences(answer, seen)]
    print(dict(told))
    assert not wrong, f"{len(wrong)} wrong\n" + "\n".join(wrong[:40])
    assert told["decided, refused: True"] > 10 * len(chosen)
    assert told["decided, refused: False"] > 10 * len(chosen)


def test_an_expression_of_a_million_letters_holds_up_nobody() -> None:
    for text in ("%" * 1_000_000, '%{A} eq "' + "x" * 1_000_000, "(" * 1_000_000 + "x"):
        assert fault("sslrequire", text, set()) != ""
