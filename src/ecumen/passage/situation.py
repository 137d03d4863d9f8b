"""What is known of a request on its way: each gate reads it, and adds what it finds."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ecumen import codes
from ecumen.contexts.confinement import Confinement
from ecumen.engines.engine import Engine
from ecumen.engines.sites import Arrival, Handling, Part
from ecumen.engines.source import SurveySource
from ecumen.passage.request import Request
from ecumen.survey import Survey


@dataclass(slots=True)
class Situation:
    """address: of the server, once the name gate knows it. engine: who listens, from the door on.

    handling: what the engine does with the request, from the site on; None where no engine that
    Ecumen reads gets it.
    """

    survey: Survey
    source: SurveySource
    engines: Sequence[Engine]
    request: Request
    confinement: Confinement
    address: str | None = None
    engine: Engine | None = None
    arrival: Arrival | None = None
    handling: Handling | None = None


@dataclass(frozen=True, slots=True)
class Gate:
    """One decision on the way. judge never raises. Its codes and their words: ecumen.codes."""

    name: str
    judge: Callable[[Situation], Part]


def not_reached() -> Part:
    return Part(codes.PASSAGE_NOT_REACHED)
