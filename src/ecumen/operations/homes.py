"""The mode of homes that are made from now on. Source: login.defs(5), adduser.conf(5)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from ecumen.operations.digest import digest
from ecumen.operations.file import File
from ecumen.operations.operation import Before, Hands, Looking, Operation, Standing
from ecumen.operations.quoting import quoted
from ecumen.survey import Delta
from ecumen.survey.homes import MAKERS, home_mode, with_home_mode


@dataclass(frozen=True, slots=True)
class NewHomes(Operation):
    """maker: the program that makes accounts. was, to: four octal digits."""

    what: ClassVar[str] = "new-homes"
    maker: str
    was: str
    to: str

    def __post_init__(self) -> None:
        if self.maker not in MAKERS:
            raise ValueError(f"no program that makes accounts: {self.maker}")
        for mode in (self.was, self.to):
            if not re.fullmatch(r"[0-7]{4}", mode):
                raise ValueError(f"no mode: {mode}")

    @classmethod
    def of(cls, looking: Looking, maker: str, mode: int) -> NewHomes:
        """Raises LookupError where it is not known what the program goes by."""
        was = _state(looking, maker)
        if not was:
            raise LookupError(f"nothing is known of what {MAKERS[maker][0]} holds")
        # That files belong to the folder's group may be said elsewhere in the file, and stays.
        return cls(maker, was, f"{mode | int(was, 8) & 0o2000:04o}")

    @property
    def path(self) -> str:
        return MAKERS[self.maker][0]

    @property
    def at(self) -> str:
        return self.path

    def standing(self, looking: Looking) -> Standing:
        now = _state(looking, self.maker)
        if now == self.to:
            return Standing.DONE
        return Standing.DUE if now == self.was else Standing.STALE

    def simulate(self, looking: Looking) -> Delta:
        return self._file(looking).simulate(looking)

    def keep(self, looking: Looking) -> Before:
        held = looking.content(self.path)
        made = "" if held is None else digest(self._made(held))
        return ((self.path, looking.aside(self.path)), ("made", made))

    def forward(self, hands: Hands, kept: Before) -> None:
        if not kept or _state(hands, self.maker) == self.to:
            return
        entry, held = hands.entry(self.path), hands.content(self.path)
        if entry is not None and held is not None:
            hands.write(entry, digest(held), self._made(held), kept[0][1])

    def backward(self, hands: Hands, kept: Before) -> None:
        if not kept:
            return
        (path, there), (_, made) = kept
        held, aside = hands.content(path), hands.content(there)
        if held is not None and aside is not None and digest(held) == made:
            hands.swap(path, there)
        elif held is not None and _state(hands, self.maker) == self.to != self.was:
            # Others wrote into the file since: their lines stay.
            entry = hands.entry(path)
            hands.forget(there)
            if entry is not None:
                back = with_home_mode(self.maker, held, int(self.was, 8))
                hands.write(entry, digest(held), back, there)
        hands.forget(there)

    def describe(self) -> str:
        return f"have homes that {self.maker} makes begin with mode {self.to}"

    def shell(self) -> str:
        name = MAKERS[self.maker][1]
        between, line = ("\t", rf"^[[:blank:]]*{name}([[:blank:]]|$)")
        if self.maker != "useradd":
            between, line = "=", rf"^[[:blank:]]*{name}[[:blank:]]*="
        edit = f"sed -E -i -e {quoted(f'/{line}/Id')} -e {quoted('$a' + chr(92))} {self.path}"
        return f"{edit} && printf '%s\\n' {quoted(f'{name}{between}{self.to}')} >> {self.path}"

    def _made(self, held: bytes) -> bytes:
        return with_home_mode(self.maker, held, int(self.to, 8))

    def _file(self, looking: Looking) -> File:
        return File.of(looking, self.path, self._made(looking.content(self.path) or b""))


def _state(looking: Looking, maker: str) -> str:
    """The mode as four digits; "" where the file is not known."""
    held = looking.content(MAKERS[maker][0])
    return "" if held is None else f"{home_mode(maker, held).mode:04o}"
