"""The mode of new homes, beside the two programs that make accounts: in a tree of their own."""

from __future__ import annotations

import random
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from ecumen.operations import Standing
from ecumen.operations.homes import NewHomes
from ecumen.survey.homes import MAKERS, home_mode
from ecumen_machine.hands import MachineHands

KEPT = (
    "passwd group shadow gshadow login.defs adduser.conf nsswitch.conf default skel pam.d security "
    "ld.so.cache subuid subgid perl shells"
)
PRIVATE = (
    "mount -t tmpfs none /mnt && cd /etc && "
    f"for each in {KEPT}; do [ ! -e $each ] || cp -a $each /mnt/; done; "
    'cd - && mount --move /mnt /etc && mount -t tmpfs none /home && exec "$@"'
)
LINES = {
    "useradd": (
        "HOME_MODE 0711", "HOME_MODE\t0700", "HOME_MODE 711", "HOME_MODE 0x1c9", "HOME_MODE 0799",
        'HOME_MODE "0750"', "HOME_MODE=0711", "  HOME_MODE 0701  ", "home_mode 0711",
        "HOME_MODE 0711 # open", "#HOME_MODE 0700", "UMASK 077", "UMASK 27", "UMASK\t0027",
        "HOME_MODE", "UMASK 022",
    ),
    "adduser": (
        "DIR_MODE=0711", "DIR_MODE=0700", 'DIR_MODE="0750"', "DIR_MODE='0711'", "dir_mode = 755",
        "DIR_MODE=711 # open", "DIR_MODE=0799", "DIR_MODE 0711", "#DIR_MODE=0711", "DIR_MODE=",
        "  DIR_MODE=0701", "SETGID_HOME=yes", "SETGID_HOME=no", "DIR_MODE=2755",
    ),
}  # fmt: skip


@pytest.mark.server
@pytest.mark.apart
def test_a_home_has_the_mode_that_we_say_and_the_one_that_is_asked_for(seed: int) -> None:
    run = [sys.executable, "-c", f"from tests.homes_test import ask; ask({seed})"]
    within = ["unshare", "-m", "--propagation", "private", "sh", "-c", PRIVATE, "sh", *run]
    subprocess.run(within, check=True, cwd=Path(__file__).parent.parent)


def ask(seed: int) -> None:
    """24 files of each: as they are, with another mode by the hands or the command that is shown,
    and as they were.
    """
    rng = random.Random(seed)
    for number in range(48):
        maker = ("useradd", "adduser")[number % 2]
        file = Path(MAKERS[maker][0])
        # As it comes with the program; in older ones homes were open, and nothing says so.
        usual = "# Default: DIR_MODE=0700\n" if maker == "adduser" else ""
        said = rng.sample(LINES[maker], rng.randint(0, 3))
        file.write_text(f"{usual}{''.join(f'{line}{chr(10)}' for line in said)}".removesuffix(
            rng.choice(["\n", "never"])
        ))  # fmt: skip
        was, hands = file.read_bytes(), MachineHands()
        before = _made(maker, f"w{number}")
        assert home_mode(maker, was).mode == before, (was, oct(before))
        one = NewHomes.of(hands, maker, rng.choice([0o711, 0o750, 0o755, 0o700]))
        kept = one.keep(hands)
        if rng.random() < 0.3:
            subprocess.run(["bash", "-c", one.shell()], check=True)
        else:
            one.forward(hands, kept)
        now = _made(maker, f"n{number}")
        assert now == int(one.to, 8), (was, one, file.read_bytes(), oct(now))
        assert one.standing(hands) is Standing.DONE
        one.backward(hands, kept)
        assert home_mode(maker, file.read_bytes()).mode == before, (was, one, file.read_bytes())


def _made(maker: str, name: str) -> int:
    """The mode of the home of a new account."""
    command = ["useradd", "-m", name]
    if maker == "adduser":
        command = ["adduser", "--disabled-password", "--gecos", "", name]
    subprocess.run(command, check=True, capture_output=True)
    return stat.S_IMODE(Path(f"/home/{name}").stat().st_mode)
