"""The hosts file, beside the machine's own resolver: in a file tree of its own, where it can be
written as often as one likes.
"""

from __future__ import annotations

import random
import subprocess
import sys
from pathlib import Path

import pytest

from ecumen.operations import Standing
from ecumen.operations.hosts import Hosts
from ecumen.survey import HOSTS_FILE, led_by
from ecumen_machine.hands import MachineHands

NAMES = ["choir.example", "www.choir.example", "choir", "a.choir.example", "sunday-choir.example"]
ADDRESSES = ["192.0.2.1", "192.0.2.7", "127.0.1.1", "2001:db8::1"]
# What is a file of its own there: nothing else of the machine is hidden.
PRIVATE = (
    "mount -t tmpfs none /mnt && cd /etc && cp -a passwd group ld.so.cache host.conf /mnt/ && "
    "cd - && echo 'hosts: files' > /mnt/nsswitch.conf && mount --move /mnt /etc && exec \"$@\""
)


@pytest.mark.server
def test_what_is_written_leads_there_and_comes_back(seed: int) -> None:
    run = [sys.executable, "-c", f"from tests.hosts_test import ask; ask({seed})"]
    within = ["unshare", "-m", "--propagation", "private", "sh", "-c", PRIVATE, "sh", *run]
    subprocess.run(within, check=True, cwd=Path(__file__).parent.parent)


def ask(seed: int) -> None:
    """60 files, each with one name led elsewhere: by the hands, or by the command that is shown."""
    rng, file = random.Random(seed), Path(HOSTS_FILE)
    for _ in range(60):
        file.write_bytes(_drawn(rng))
        was, hands = file.read_bytes(), MachineHands()
        before = {name: _resolved(name) for name in NAMES}
        assert {name: set(led_by(was, name)) for name in NAMES} == before, (was, before)
        name = rng.choice(NAMES)
        to = tuple(rng.sample(ADDRESSES, rng.randint(0, 2)))
        one = Hosts.of(hands, rng.choice([name, name.upper()]), to)
        kept = one.keep(hands)
        if rng.random() < 0.3:
            subprocess.run(["bash", "-c", one.shell()], check=True)
        else:
            one.forward(hands, kept)
        assert one.standing(hands) is Standing.DONE, (was, one, file.read_bytes())
        wanted = before | {name: set(to)}
        assert {each: _resolved(each) for each in NAMES} == wanted, (was, one, file.read_bytes())
        later = rng.random() < 0.3
        if later:
            with file.open("a") as stream:
                stream.write("192.0.2.99 later.example\n")
        one.backward(hands, kept)
        assert {each: _resolved(each) for each in NAMES} == before, (was, one, file.read_bytes())
        if later:
            assert b"later.example" in file.read_bytes()


def _resolved(name: str) -> set[str]:
    # Asked for one family alone, it would stop at the first line of a name; and it sorts.
    told = subprocess.run(["getent", "ahosts", name], capture_output=True, text=True).stdout
    return {line.split()[0] for line in told.splitlines()}


def _drawn(rng: random.Random) -> bytes:
    """Lines as people leave them."""
    lines = ["127.0.0.1\tlocalhost\n", "# 192.0.2.1 choir.example\n", "\n", "\xe9\udcff nothing\n"]
    for _ in range(rng.randint(0, 6)):
        names = [rng.choice([each, each.title()]) for each in rng.sample(NAMES, rng.randint(1, 3))]
        blank, end = rng.choice([" ", "\t", "   "]), rng.choice(["", " # said so", "  "])
        lines.append(f"{rng.choice(ADDRESSES)}{blank}{blank.join(names)}{end}\n")
    rng.shuffle(lines)
    text = "".join(lines)
    return (text if rng.random() < 0.7 else text.rstrip("\n")).encode("utf-8", "surrogateescape")
