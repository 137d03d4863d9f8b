"""What every engine can be asked."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Protocol

from ecumen.engines.breaks import Break
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
    SiteSummary,
)
from ecumen.engines.tree import Place
from ecumen.rights import Subject
from ecumen.survey import EngineRecord, Survey


class Engine(Protocol):
    """A web server of a survey."""

    kind: str
    record: EngineRecord

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

    def sites(self) -> Sequence[SiteSummary]:
        """Every site, personal ones too, with a request that is meant for it."""

    def personal(self) -> Sequence[PersonalGround]:
        """Every account with the folder in which its personal site lies, or would lie."""

    def claims(self, arrival: Arrival) -> bool:
        """Whether a site here claims the name that is asked for, on this address and port."""

    def answers(self, address: str, port: int, name: str) -> Place | None:
        """Where the site is declared that answers a name on an address and port."""

    @property
    def files(self) -> Sequence[str]:
        """The files of its configuration, in the order in which they are read."""

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

    def shortly(self, asked: Question) -> Short | None:
        """What comes of a plain request, without evidence; None where it is not plain."""

    def handle(self, arrival: Arrival) -> Handling:
        """Everything that happens to a request that arrived."""

    def renewed(self, survey: Survey) -> Engine:
        """The same engine on a change of its survey."""


# The kinds that are read. A record of any other kind is kept, and what arrives there is unsure.
_KINDS: dict[str, Callable[[Survey, EngineRecord], Engine]] = {
    "httpd": HttpdEngine,
    "nginx": NginxEngine,
}


def engines_of(survey: Survey) -> tuple[Engine, ...]:
    """The engines of a survey that Ecumen reads, compiled. Never raises for their texts."""
    return tuple(
        _KINDS[record.kind](survey, record) for record in survey.engines if record.kind in _KINDS
    )


def renewed(engines: Sequence[Engine], survey: Survey) -> tuple[Engine, ...]:
    """The engines of a survey that is a change of theirs: what no changed text reaches is taken
    over. They answer as those of `engines_of` do.
    """
    before = {id(engine.record): engine for engine in engines}
    found: list[Engine] = []
    for record in survey.engines:
        known = before.get(id(record))
        if known is not None:
            found.append(known.renewed(survey))
        elif record.kind in _KINDS:
            found.append(_KINDS[record.kind](survey, record))
    return tuple(found)
