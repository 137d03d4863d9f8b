"""A survey on which operations are tried, one after the other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from ecumen.operations.operation import Looking, Operation
from ecumen.rights.walk import join
from ecumen.survey import Delta, Entry, FileTable, Kind, NameRecord, Survey, after


class Trial:
    """A survey, or a server as it is, with what was done so far."""

    def __init__(self, base: Survey | Looking) -> None:
        self._base = Surveyed(base) if isinstance(base, Survey) else base
        self._entries: dict[str, Entry | None] = {}
        self._texts: dict[str, bytes | None] = {}
        self._children: dict[str, list[str]] = {}
        self._switches: dict[str, bool] = {}
        self._running: dict[str, bool] = {}
        self._names: dict[str, NameRecord | None] = {}

    def entry(self, path: str) -> Entry | None:
        if path in self._entries:
            return self._entries[path]
        return self._base.entry(path)

    def names(self, path: str) -> list[str]:
        added = [inner.rpartition("/")[2] for inner in self._children.get(path, ())]
        here = [*self._base.names(path), *added]
        return [name for name in here if self.entry(join(path, name)) is not None]

    def below(self, path: str) -> Iterator[str]:
        """All that lies below a folder, the upper first."""
        stack = [path]
        while stack:
            folder = stack.pop()
            for name in self.names(folder):
                inner = join(folder, name)
                entry = self.entry(inner)
                if entry is None:
                    continue
                yield inner
                if entry.kind is Kind.DIR:
                    stack.append(inner)

    def content(self, path: str) -> bytes | None:
        return self._texts[path] if path in self._texts else self._base.content(path)

    def text(self, path: str) -> bytes | None:
        return self._texts[path] if path in self._texts else self._base.text(path)

    def aside(self, path: str) -> str:
        return self._base.aside(path)

    def switch(self, name: str) -> bool | None:
        return self._switches[name] if name in self._switches else self._base.switch(name)

    def leads(self, name: str) -> tuple[str, ...]:
        if name.lower() in self._names:
            return _by_hosts(self._names[name.lower()])
        return self._base.leads(name)

    def running(self, engine: str) -> bool | None:
        return self._running[engine] if engine in self._running else self._base.running(engine)

    def add(self, delta: Delta) -> None:
        for path, entry in delta.entries.items():
            # The folder's own list of the survey is not touched: a trial costs what the plan
            # changes, not what the server holds.
            if entry is not None and path not in self._entries and self._base.entry(path) is None:
                self._children.setdefault(path.rpartition("/")[0] or "/", []).append(path)
            self._entries[path] = entry
        self._texts.update(delta.texts)
        self._switches.update(delta.switches)
        self._running.update(delta.running)
        self._names.update(delta.names)

    @property
    def delta(self) -> Delta:
        """All that is different."""
        return Delta(
            dict(self._entries),
            texts=dict(self._texts),
            switches=dict(self._switches),
            running=dict(self._running),
            names=dict(self._names),
        )


class Surveyed:
    """A survey, as operations look at a server."""

    def __init__(self, survey: Survey) -> None:
        self._survey = survey

    def entry(self, path: str) -> Entry | None:
        return self._survey.files.get(path)

    def names(self, path: str) -> Sequence[str]:
        return self._survey.files.children(path)

    def below(self, path: str) -> Iterator[str]:
        return Trial(self).below(path)

    def content(self, path: str) -> bytes | None:
        return self._survey.texts.get(path)

    text = content

    def aside(self, path: str) -> str:
        """Nothing is put aside on a survey."""
        return ""

    def switch(self, name: str) -> bool | None:
        policy = self._survey.labels.policy
        return None if policy is None else policy.active.get(name)

    def leads(self, name: str) -> tuple[str, ...]:
        return _by_hosts(self._survey.name_by_text.get(name.lower()))

    def running(self, engine: str) -> bool | None:
        return next((each.running for each in self._survey.engines if each.kind == engine), None)


def _by_hosts(record: NameRecord | None) -> tuple[str, ...]:
    return () if record is None or record.source != "hosts" else record.addresses or ()


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
