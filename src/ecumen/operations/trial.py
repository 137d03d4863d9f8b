"""A survey on which operations are tried, one after the other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from ecumen.operations.operation import Operation
from ecumen.rights.walk import join
from ecumen.survey import Delta, Entry, FileTable, Kind, Survey, after


class Trial:
    """The survey with what was done so far."""

    def __init__(self, survey: Survey) -> None:
        self.survey = survey
        self._entries: dict[str, Entry | None] = {}
        self._children: dict[str, list[str]] = {}
        self._switches: dict[str, bool] = {}

    def entry(self, path: str) -> Entry | None:
        if path in self._entries:
            return self._entries[path]
        return self.survey.files.get(path)

    def below(self, path: str) -> Iterator[str]:
        """All that lies below a folder, the upper first."""
        stack = [path]
        while stack:
            folder = stack.pop()
            names = self.survey.files.children(folder)
            for inner in [join(folder, name) for name in names] + self._children.get(folder, []):
                entry = self.entry(inner)
                if entry is None:
                    continue
                yield inner
                if entry.kind is Kind.DIR:
                    stack.append(inner)

    def switch(self, name: str) -> bool | None:
        policy = self.survey.labels.policy
        known = None if policy is None else policy.active.get(name)
        return self._switches.get(name, known)

    def add(self, delta: Delta) -> None:
        for path, entry in delta.entries.items():
            # The folder's own list of the survey is not touched: a trial costs what the plan
            # changes, not what the server holds.
            if entry is not None and path not in self._entries and path not in self.survey.files:
                self._children.setdefault(path.rpartition("/")[0] or "/", []).append(path)
            self._entries[path] = entry
        self._switches.update(delta.switches)

    @property
    def delta(self) -> Delta:
        """All that is different."""
        return Delta(dict(self._entries), switches=dict(self._switches))


def simulated(survey: Survey, operations: Iterable[Operation]) -> Delta:
    """What a plan makes different. Raises LookupError for a path that the survey does not hold."""
    trial = Trial(survey)
    for operation in operations:
        trial.add(operation.simulate(trial))
    return trial.delta


def done(survey: Survey, operations: Iterable[Operation]) -> Survey:
    """The survey once a plan is done. Raises LookupError as `simulated` does."""
    return after(survey, simulated(survey, operations))


def cut_to(survey: Survey, tops: Iterable[str]) -> Survey:
    """The survey with these paths alone, all below them, and the folders on the way to them."""
    files, trial = survey.files, Trial(survey)
    wanted: dict[str, None] = {"/": None}
    for top in tops:
        parts = top.split("/")
        wanted |= dict.fromkeys("/".join(parts[:n]) for n in range(2, len(parts) + 1))
        wanted |= dict.fromkeys(trial.below(top))
    entries = (files.get(path) for path in wanted)
    return replace(survey, files=FileTable(entry for entry in entries if entry is not None))
