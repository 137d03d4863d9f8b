"""The syntax reader against the server's own check, on generated configurations."""

from __future__ import annotations

import random
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from ecumen.engines.httpd.draft import flat
from ecumen.engines.httpd.reader import Reader
from ecumen_machine.ground import Ground
from ecumen_machine.programs import httpd_build

pytestmark = [pytest.mark.server, pytest.mark.apart]

HEAD = """\
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule info_module /usr/lib/apache2/modules/mod_info.so
LoadModule env_module /usr/lib/apache2/modules/mod_env.so
ServerName x.test
Listen 127.0.0.9:9099
ErrorLog /dev/null
"""
WORDS = [
    "one",
    '"two words"',
    "'it\\'s'",
    "a\\\\b",
    "${Known}",
    "x${KNOWN}y",
    "$z",
    '"q\\"q"',
    "#no",
]
CONDITIONS = [
    "<IfModule env_module>", "<IfModule mod_env.c>", "<IfModule !mod_gone.c>", "<IfModule gone.c>",
    "<IfDefine Known>", "<IfDefine !Known>", "<IfVersion >= 2.4>", "<IfVersion < 2.4.1>",
    "<IfFile main.conf>", "<IfFile !/gone>", "<IfVersion !> 9.1>",
]  # fmt: skip


class Writer:
    """Writes a tree of configuration files from a seed."""

    def __init__(self, rng: random.Random, base: Path) -> None:
        self.rng = rng
        self.base = base
        self.count = 0
        self.inside = 0

    def file(self, path: Path, depth: int) -> None:
        path.write_text("\n".join(self.lines(depth)) + self.rng.choice(["", "\n", "\n\n  \n"]))

    def lines(self, depth: int) -> list[str]:
        found = []
        for _ in range(self.rng.randint(1, 6)):
            found += self.block(depth)
        return found

    def block(self, depth: int) -> list[str]:
        rng = self.rng
        self.count += 1
        line = f"SetEnv V{self.count} {rng.choice(WORDS)}"
        chance = rng.random()
        if chance < 0.45 or depth > 3:
            return [rng.choice([line, f"  {line}\t", line.replace(" ", " \\\n ", 1), f"{line}\r"])]
        if chance < 0.6:
            return [
                rng.choice(["# note", "# note \\\nSetEnv EATEN 1", "", "\t", "define Known yes"])
            ]
        if chance < 0.8:
            condition = rng.choice(CONDITIONS)
            name = re.match(r"<(\w+)", condition)
            assert name is not None
            closing = rng.choice([name[1], name[1].lower()])
            return [condition, *self.lines(depth + 1), f"</{closing}>"]
        if chance < 0.9:
            # Neither of them nests in the server's own grammar.
            if self.inside > 1:
                return [line]
            section = "Limit GET" if self.inside else 'Directory "/srv/a b"'
            self.inside += 1
            lines = [f"<{section}>", *self.lines(depth + 1), f"</{section.split()[0]}>"]
            self.inside -= 1
            return lines
        if chance < 0.97:
            return [self.include(depth)]
        return [rng.choice(["</Directory>", "<Directory /x>", "Include gone", "<IfModule >"])]

    def include(self, depth: int) -> str:
        folder = self.base / f"inc{self.count}"
        folder.mkdir()
        for name in self.rng.sample(["b.conf", "a.conf", ".hid.conf", "c.txt"], 2):
            self.file(folder / name, depth + 2)
        ways = ["Include {0}", "IncludeOptional {0}/*.conf", "Include {0}/[ab]*"]
        way = self.rng.choice([*ways, "IncludeOptional {0}/gone*", "IncludeOptional inc*/z.conf"])
        return way.format(folder.name)


def ours(base: Path) -> list[str] | None:
    """The environment lines in the order read; None where the server would refuse the texts."""
    build = httpd_build()
    assert build is not None
    reader = Reader(Ground(), root=str(base), version=build.version, built_in=build.built_in)
    tree = reader.read(str(base / "main.conf"))
    if tree.mistakes:
        return None
    found = []
    stack = list(reversed(flat(tree.directives)))
    while stack:
        directive = stack.pop()
        if directive.name == "SetEnv":
            found.append(directive.quoted)
        stack += reversed(flat(directive.children or ()))
    return found


def theirs(base: Path) -> list[str] | None:
    program = shutil.which("apache2", path="/usr/sbin:/usr/bin")
    assert program is not None
    command = [program, "-d", str(base), "-f", str(base / "main.conf"), "-t", "-DDUMP_CONFIG"]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode != 0:
        return None
    return [line.strip() for line in done.stdout.splitlines() if line.strip().startswith("SetEnv")]


def test_what_is_read_is_what_the_server_reads(tmp_path: Path, seed: int) -> None:
    refused = 0
    for number in range(seed, seed + 40):
        base = tmp_path / str(number)
        base.mkdir()
        Writer(random.Random(number), base).file(base / "main.conf", 0)
        (base / "main.conf").write_text(HEAD + (base / "main.conf").read_text())
        mine, server = ours(base), theirs(base)
        assert mine == server, f"seed {number}: {base / 'main.conf'}"
        refused += server is None
    assert 0 < refused < 35
