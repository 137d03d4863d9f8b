"""Understands the machine that this runs on, as far as it is told: `Ground` looks, or its process
does for one that may not (`apart`).
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from ecumen.audit.template import SKELETON, SOURCES
from ecumen.engines.engine import KINDS, Wants, wanted_by
from ecumen.engines.sites import counterpart
from ecumen.engines.tree import Source
from ecumen.errors import EcumenError
from ecumen.survey import (
    ROTATION_ENTRIES,
    ROTATION_FILE,
    ConfigCheck,
    EngineRecord,
    FileTable,
    Gap,
    NameRecord,
    SealFile,
    Survey,
)
from ecumen_machine import filtering
from ecumen_machine.capture import PSEUDO
from ecumen_machine.filtering import FilterText
from ecumen_machine.ground import Ground, GroundFacts
from ecumen_machine.quiet import no_collecting

SPECS = " or ".join(f"{kind}:FILE" for kind in KINDS)  # of engines that are given by hand
MOST_CHECKED = 200_000  # files of one configuration
MOST_ENTRIES = 1000  # of those by which logs are rotated
MOST_BROKEN = 100  # lines for which a configuration would not load

Progress = Callable[[str, int], None]


class Grounds(Source, Protocol):
    """What is asked of the machine; `Ground` says what each means."""

    def engines(self, specs: Sequence[tuple[str, str]]) -> list[EngineRecord]: ...
    def begin_check(
        self, record: EngineRecord, files: Sequence[str], modules: Sequence[str]
    ) -> Callable[[], ConfigCheck | None]: ...
    def facts(self) -> GroundFacts: ...
    def look(self, paths: Sequence[str]) -> None: ...
    def look_into(self, folders: Sequence[str]) -> None: ...
    def trees(self, paths: Sequence[str]) -> None: ...
    def follow_links(self) -> None: ...
    def read_named(self, leaves: Sequence[str]) -> None: ...
    def resolve(self, names: Sequence[str]) -> list[NameRecord]: ...
    def seals(self, asked: Sequence[tuple[str, str]]) -> list[SealFile]: ...
    def filter(self) -> FilterText | None: ...
    def texts(self) -> dict[str, bytes]: ...
    def table(self) -> FileTable: ...
    def gaps(self) -> tuple[Gap, ...]: ...


class ProbeError(EcumenError):
    """The machine cannot be surveyed as asked."""


@dataclass(frozen=True, slots=True)
class EngineSpec:
    """An engine given by hand. kind: `httpd` or `nginx`; config: its main configuration file."""

    kind: str
    config: str

    @classmethod
    def parse(cls, text: str) -> EngineSpec:
        """`KIND:CONFIG`. Raises ProbeError."""
        kind, colon, config = text.partition(":")
        if not colon or kind not in KINDS:
            raise ProbeError(f"{text!r}: write {SPECS}")
        if not os.path.isfile(config):
            raise ProbeError(f"{config}: there is no such configuration file")
        return cls(kind, os.path.abspath(config))


def take_survey(
    specs: Sequence[EngineSpec] = (),
    scan: Sequence[str] = (),
    progress: Progress = lambda doing, count: None,
) -> Survey:
    """Looks at accounts, listeners, configuration and file metadata of this machine."""
    given = [(spec.kind, spec.config) for spec in specs]
    with no_collecting():
        return understood(Ground(progress), given, scan, progress)


def understood(
    ground: Grounds, specs: Sequence[tuple[str, str]], scan: Sequence[str], progress: Progress
) -> Survey:
    """What the machine is, out of what it says of itself. Raises ProbeError."""
    progress("reading the configuration", 0)
    records = ground.engines(specs)
    if not records:
        raise ProbeError("no web server is installed here: name one with --engine KIND:CONFIG")
    wants = [wanted_by(ground, record) for record in records]
    check = _checked(ground, records, wants)
    # Meanwhile what they say is worked out.
    logs = _logs(wants)
    # A configuration given by hand is described as it stands; nobody is asked about its names.
    asked = zip(wants, records, strict=True)
    claimed = _names([want for want, record in asked if not record.declared])
    checked = check()
    facts = ground.facts()
    # Whether a rewritten address is a path on disk is told by its first name.
    ground.look_into(["/"])
    grounds = dict.fromkeys(os.path.abspath(folder) for folder in scan)
    grounds |= dict.fromkeys(path for want in wants for path in want.grounds(facts.accounts))
    ground.trees([*grounds, SKELETON])
    ground.follow_links()
    ground.look_into(
        list(dict.fromkeys(p for want in wants for p in want.override_folders(grounds)))
    )
    # What new accounts get.
    for path in SOURCES:
        ground.read(path)
    # By what logs are rotated.
    ground.read(ROTATION_FILE)
    for name in (ground.names(ROTATION_ENTRIES) or ())[:MOST_ENTRIES]:
        ground.read(f"{ROTATION_ENTRIES}/{name}")
    # Named by a text that others than root may write, they are read where those may read them.
    for path, by in dict.fromkeys(each for want in wants for each in want.texts()):
        ground.read(path, by)
    # Said at once, and not when the first answer turns out to be unsure.
    broken = [
        Gap("configuration", str(mistake.place), mistake.message)
        for want in wants
        for mistake in want.mistakes
    ]
    ground.look(logs)
    ground.look_into(list(dict.fromkeys(map(os.path.dirname, logs))))
    for record in records:
        _pairs(ground, os.path.dirname(record.config))
    ground.read_named(sorted({name for want in wants for name in want.override_names()}))
    names = ground.resolve(claimed)
    told = ground.filter()
    seals = ground.seals(list(dict.fromkeys(each for want in wants for each in want.seals())))
    return Survey(
        host=facts.host,
        taken_at=facts.taken_at,
        taken_by="ecumen survey",
        engines=checked,
        files=ground.table(),
        accounts=facts.accounts,
        groups=facts.groups,
        listeners=facts.listeners,
        names=tuple(names),
        addresses=facts.addresses,
        labels=facts.labels,
        gaps=(*ground.gaps(), *broken[:MOST_BROKEN]),
        texts=ground.texts(),
        kernel=facts.kernel,
        mounts=facts.mounts,
        logs=tuple(logs),
        seals=tuple(seals),
        filter=None if told is None else filtering.understood(told),
    )


def _checked(
    ground: Grounds, records: Sequence[EngineRecord], wants: Sequence[Wants]
) -> Callable[[], tuple[EngineRecord, ...]]:
    """What gives the records with what each engine itself says of its configuration; that is being
    asked.
    """
    begun = []
    for record, want in zip(records, wants, strict=True):
        files = list(dict.fromkeys(want.files))[:MOST_CHECKED]
        begun.append((record, ground.begin_check(record, files, list(want.code()))))
    return lambda: tuple(replace(record, check=said()) for record, said in begun)


# --- which folders ---


def _pairs(ground: Grounds, base: str) -> None:
    """Folders of what is available and what is enabled, beside the main configuration."""
    for name in ground.names(base) or ():
        if name.endswith(("-available", "-enabled")):
            folder = os.path.join(base, name)
            # What a link leads to, or that it leads nowhere.
            ground.look([os.path.join(folder, leaf) for leaf in ground.names(folder) or ()])


def _logs(wants: Iterable[Wants]) -> list[str]:
    """The logs that sites name, and whose lines can be found: of these and what lies beside them,
    as their older parts, metadata is noted.
    """
    paths = dict.fromkeys(path for want in wants for path in want.logs())
    named = [path for path in paths if path and path.startswith("/") and "$" not in path]
    return [path for path in named if not path.startswith(PSEUDO)]


def _names(wants: Iterable[Wants]) -> list[str]:
    """The names that the sites claim, in lower case, as far as a resolver can be asked for them."""
    wanted = dict.fromkeys(name for want in wants for name in want.names())
    asked = dict.fromkeys(name for name in wanted if _is_name(name) and name != "_")
    # Whoever types a name may leave `www` out, or add it.
    beside = (other for name in list(asked) if (other := counterpart(name)) is not None)
    return list(asked | dict.fromkeys(beside))


def _is_name(text: str) -> bool:
    return (
        bool(text) and "*" not in text and not text.replace(".", "").isdecimal() and ":" not in text
    )
