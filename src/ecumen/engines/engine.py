"""What every engine can be asked."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import Protocol

from ecumen.contexts.confinement import Confinement
from ecumen.engines.breaks import Break
from ecumen.engines.draft import SiteDraft
from ecumen.engines.httpd.engine import HttpdEngine
from ecumen.engines.nginx.engine import NginxEngine
from ecumen.engines.short import Question, Short
from ecumen.engines.sites import (
    AccessPattern,
    Arrival,
    Binding,
    Handling,
    Part,
    PersonalGround,
    Rank,
    SealPair,
    SiteSummary,
)
from ecumen.engines.tree import Mistake, Place, Source
from ecumen.logs.errorlog import ErrorEntry
from ecumen.rights import Subject
from ecumen.survey import Account, EngineRecord, Survey


class Wants(Protocol):
    """What a survey must look at so that an engine can be understood, by its configuration."""

    @property
    def files(self) -> Sequence[str]:
        """The files of the configuration, in the order in which they are read."""

    @property
    def mistakes(self) -> Sequence[Mistake]:
        """Why the engine would not load its configuration."""

    def code(self) -> Iterable[str]:
        """Paths of what the configuration has the engine load as code."""

    def grounds(self, accounts: Sequence[Account]) -> Iterable[str]:
        """Folders out of which files may be served, and sockets that requests are handed to."""

    def texts(self) -> Iterable[tuple[str, str]]:
        """Files beside the configuration in which something is looked up, each with the file that
        names it.
        """

    def seals(self) -> Iterable[tuple[str, str]]:
        """Files of certificates and keys, each with the file that names it."""

    def logs(self) -> Iterable[str | None]:
        """Where lines go, of requests and of errors."""

    def override_names(self) -> set[str]:
        """What per-folder override files are called."""

    def override_folders(self, grounds: Iterable[str]) -> Iterable[str]:
        """Folders above those that files are served from, in which override files may be."""

    def names(self) -> Iterable[str]:
        """The names that sites claim, in lower case."""


class Engine(Protocol):
    """A web server of a survey; all that the rest of the product knows of one kind of engine.

    kind: what it is called. programs: what its processes are called. error_type: the content type
    of its own page of an error. upstream_fails: the status where what it hands on to may not be
    reached. listens_by_site: a site's own lines have it listen, and none beside them.
    wildcard: what it is bound to where it listens at all addresses, on a machine with both kinds.
    """

    kind: str
    programs: tuple[str, ...]
    error_type: str
    upstream_fails: int
    listens_by_site: bool
    wildcard: str
    record: EngineRecord
    confinement: Confinement

    @property
    def worker(self) -> Subject | None:
        """The account that answers requests; None where the survey does not have it."""

    def worker_of(self, site: Place) -> Subject | None:
        """The account that serves a site, where it has one of its own."""

    @property
    def listens(self) -> Sequence[Binding]:
        """Addresses and ports that its configuration wants."""

    @property
    def breaks(self) -> Sequence[Break]:
        """Where and why the engine would not load its configuration, the first one first."""

    @property
    def blocks(self) -> int:
        """How many parts of the configuration its sites come of."""

    def sites_of(self, number: int) -> Sequence[SiteSummary]:
        """The sites that come of one of these parts, in file order, each with a request that is
        meant for it.
        """

    def unled(self) -> Iterable[tuple[Place, str]]:
        """Folders beside those that are sites to which no name leads, with where their site is
        declared.
        """

    def personal(self) -> Sequence[PersonalGround]:
        """Every account with the folder in which its personal site lies, or would lie."""

    def claims(self, arrival: Arrival) -> bool:
        """Whether a site here claims the name that is asked for, on this address and port."""

    def answers(self, address: str, port: int, name: str) -> Place | None:
        """Where the site is declared that answers a name on an address and port."""

    @property
    def files(self) -> Sequence[str]:
        """The files of its configuration, in the order in which they are read."""

    @property
    def missing(self) -> Mapping[str, Place]:
        """Files that an include names and that are not there, and that it passes over; where each
        is named.
        """

    def usual_type(self, ending: str) -> str | None:
        """The content type that a file-name ending has, where no site says otherwise."""

    def reads_override(self, site: Place, folder: str) -> bool | None:
        """Whether a site reads a per-folder override file there; None where that is not known."""

    def access_patterns(self) -> Iterable[AccessPattern]:
        """Patterns that keep requests out, but for those on which matching is given up."""

    def opens(self, site: Place, folder: str) -> Iterable[tuple[str, Place]]:
        """What a site opens in a folder that few need, and the line that does."""

    def seal(self, arrival: Arrival) -> Part:
        """What comes of asking for TLS on this address and port."""

    def seals_of(self, site: Place) -> Sequence[SealPair]:
        """The certificates that a site has, each with its key, in the order in which the engine
        takes them.
        """

    def shortly(self, asked: Question) -> Short | None:
        """What comes of a plain request, without evidence; None where it is not plain."""

    def handle(self, arrival: Arrival) -> Handling:
        """Everything that happens to a request that arrived."""

    def meets(self, walked: str | None, handling: Handling) -> Rank:
        """When it meets that it may not take a step. walked: a folder or link on the way, by the
        path that was walked; None for what is opened at the end.
        """

    @staticmethod
    def error_entry(line: bytes) -> ErrorEntry | None:
        """A line of its error log in the usual form, without its end; None for any other."""

    def extent(self, lines: Sequence[str]) -> int:
        """How many lines a site's block takes that begins with the first of these."""

    def site_text(self, draft: SiteDraft) -> str:
        """The file of a new site in its language. Raises ValueError for what that cannot hold."""

    @staticmethod
    def seen_by(text: str) -> tuple[str, ...] | None:
        """Who is let in by the file of a site that was written here; None for any other."""

    @staticmethod
    def reopened(text: str, seen_by: Sequence[str]) -> str | None:
        """Such a file with others let in; None for any other."""

    @staticmethod
    def with_names(text: str, line: int, names: Sequence[str], behind: str = "") -> str | None:
        """A text in which the site that begins at a line claims just these names, the first of them
        as its own, and in which something stands behind it; None where its lines are not plain
        enough for that.
        """

    @staticmethod
    def leading_over(
        bindings: Sequence[tuple[str, int]], names: Sequence[str], to: str, indent: str
    ) -> str:
        """The lines of a site that sends whoever asks for one of its names on, for good."""

    def renewed(self, survey: Survey) -> Engine:
        """The same engine on a change of its survey."""

    @property
    def override_names(self) -> Collection[str]:
        """What per-folder override files may be called."""

    def unchanged(self, before: Engine) -> Mapping[int, int]:
        """The parts of its configuration that say what they said before, and all else does that
        bears on them: by their numbers, those of before. `before` was renewed to this one.
        """

    def answers_alike(self, before: Engine, address: str, port: int, name: str) -> bool:
        """Whether a plain request certainly comes to the same site as before."""


# The kinds that are read. A record of any other kind is kept, and what arrives there is unsure.
ADAPTERS = (HttpdEngine, NginxEngine)
KINDS = tuple(each.kind for each in ADAPTERS)
_Opener = Callable[[Survey, EngineRecord, None, Confinement | None], Engine]
_OPENED: dict[str, _Opener] = {e.kind: e for e in ADAPTERS}
_WANTS: dict[str, Callable[[Source, EngineRecord], Wants]] = {e.kind: e.wants for e in ADAPTERS}
_ERROR_LINES: dict[str, Callable[[bytes], ErrorEntry | None]] = {
    e.kind: e.error_entry for e in ADAPTERS
}
# What kind a program is, by what its processes are called.
PROGRAMS: dict[str, str] = {name: each.kind for each in ADAPTERS for name in each.programs}


def wanted_by(source: Source, record: EngineRecord) -> Wants:
    """What a survey must look at, by an engine's configuration. Raises KeyError for a kind that is
    not read.
    """
    return _WANTS[record.kind](source, record)


def engines_of(survey: Survey) -> tuple[Engine, ...]:
    """The engines of a survey that Ecumen reads, compiled. Never raises for their texts."""
    confinement = Confinement(survey)
    return tuple(
        _OPENED[record.kind](survey, record, None, confinement)
        for record in survey.engines
        if record.kind in _OPENED
    )


def all_sites(engine: Engine) -> Iterator[SiteSummary]:
    """Every site of an engine, personal ones behind."""
    for number in range(engine.blocks):
        yield from engine.sites_of(number)


def error_entry(kind: str, line: bytes) -> ErrorEntry | None:
    """A line of the error log of an engine of a kind. Raises KeyError for one that is not read."""
    return _ERROR_LINES[kind](line)


def renewed(engines: Sequence[Engine], survey: Survey) -> tuple[Engine, ...]:
    """The engines of a survey that is a change of theirs: what no changed text reaches is taken
    over. They answer as those of `engines_of` do.
    """
    before = {id(engine.record): engine for engine in engines}
    found: list[Engine] = []
    for record in survey.engines:
        # A change of a survey keeps the records that it does not touch: the same object, the same
        # engine.
        known = before.get(id(record))
        if known is not None:
            found.append(known.renewed(survey))
        elif record.kind in _OPENED:
            found.append(_OPENED[record.kind](survey, record, None, None))
    return tuple(found)
