"""Where an engine stops reading its configuration: by its own check, or by ours.

Source: the messages of the engines' own checks of their configuration; measured.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

from ecumen import codes
from ecumen.engines.sites import Doubt, Phase, Proof, Rank
from ecumen.engines.tree import Mistake, Place
from ecumen.survey import EngineRecord

# Reads what an engine's own check says of a configuration: where it stops, and why.
FirstFault = Callable[[str, str], tuple[Place, str]]


@dataclass(frozen=True, slots=True)
class Break:
    """engine_says: it is the engine's own check that says so. runs_since: the engine goes on with
    what it read then (seconds since 1970, UTC). unread: it may load all the same; what it reads
    there is not known.
    """

    place: Place
    message: str
    engine_says: bool
    runs_since: int | None = None
    unread: bool = False

    def doubt(self) -> Doubt:
        """Nothing that is configured is sure to hold: it was never loaded as it stands."""
        proof = Proof(place=self.place, text=self.message)
        facts: dict[str, object] = {"why": self.message.rstrip(".")}
        code = codes.SITE_UNREAD if self.unread else codes.SITE_FAILS_CHECK
        if not self.unread and self.runs_since is not None:
            code = codes.SITE_FAILS_RELOAD
            facts["read"] = datetime.fromtimestamp(self.runs_since, UTC)
        return Doubt(code, Rank(Phase.ENTRY), facts, (proof,))


@dataclass(frozen=True, slots=True)
class ReadingOrder:
    """In which order an engine comes to the lines of its files.

    included: for each file but the main one, the line that first includes it. cut: where sections
    begin that were not read to their end.
    """

    files: Sequence[str]
    included: Mapping[str, Place]
    cut: frozenset[Place] = frozenset()
    _numbers: dict[str, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for number, file in enumerate(self.files):
            self._numbers.setdefault(file, number)

    def key(self, place: Place) -> tuple[int, ...]:
        """Sorts places as they are read. A file that was never read comes last."""
        found: list[int] = []
        current: Place | None = place
        # Bounded: files may include each other in a circle.
        for _ in range(len(self._numbers) + 1):
            if current is None:
                break
            number = self._numbers.get(current.file, len(self._numbers))
            found += (current.line, number)
            current = self.included.get(current.file)
        return tuple(reversed(found))

    def behind(self, begin: Place, end: Place, broken: Break) -> bool:
        """Whether what stands there is read behind the break, or not to its end."""
        return begin in self.cut or self.key(end) >= self.key(broken.place)


def breaks_of(
    record: EngineRecord, mistakes: Sequence[Mistake], first_fault: FirstFault
) -> tuple[Break, ...]:
    """What the engine's own check says comes first, then what our reader stopped at."""
    found = []
    since = record.loaded_at if record.running else None
    if record.check is not None and not record.check.passes:
        place, message = first_fault(record.check.output, record.config)
        found.append(Break(place, message, True, since))
    own = [Break(m.place, m.message, False, since, m.unread) for m in mistakes]
    # The engine's own word goes first: where both stop at one line, its message is the one that an
    # administrator will meet.
    return (*found, *(each for each in own if not found or each.place != found[0].place))
