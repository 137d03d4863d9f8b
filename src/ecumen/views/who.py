"""Who may: every account that may read, write or pass a path, with the step that decides."""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.engines.sites import Rung
from ecumen.passage.present import Presenter
from ecumen.passage.verdict import RungView
from ecumen.rights import READ, Walker, decide, subjects_of
from ecumen.rights.reach import Reach, Reacher
from ecumen.survey import Survey

NEEDS = (("r", "read"), ("w", "write"), ("x", "pass or run"))


@dataclass(frozen=True, slots=True)
class WhoMay:
    """Accounts that are answered alike. why: of the first of them."""

    allowed: bool | None
    accounts: list[str]
    step: str
    by: str
    line: str
    why: str


@dataclass(frozen=True, slots=True)
class May:
    """One need, with its answers: those who may first."""

    need: str
    words: str
    answers: list[WhoMay]


def ladder_of(survey: Survey, path: str, account: str) -> list[RungView]:
    """The steps down to a path as one account takes them; none for an unknown account."""
    subject = Reacher(survey).subject(account)
    if subject is None:
        return []
    presenter = Presenter(survey)
    walk = Walker(survey, subject).walk(path)
    rungs = []
    seen: set[str] = set()
    for step in walk.steps:
        entry = step.entry
        if step.decision is None:
            rungs.append(Rung(entry.path, entry, "", not step.protected, "", "", "all"))
        # A folder that is passed twice, as a link leads back through it, is one step for a reader.
        elif entry.path not in seen:
            seen.add(entry.path)
            decided = step.decision
            rungs.append(Rung(entry.path, entry, "x", decided.allowed, decided.by, decided.line))
    if walk.entry is not None and walk.problem is None:
        last = decide(walk.entry, subject, READ)
        rungs.append(Rung(path, walk.entry, "r", last.allowed, last.by, last.line))
    return [presenter.rung(rung, subject.name) for rung in rungs]


def who_may(survey: Survey, path: str) -> list[May]:
    """All accounts of the survey against one path."""
    reacher = Reacher(survey)
    found = []
    subjects = subjects_of(survey)
    for need, words in NEEDS:
        alike: dict[tuple[bool | None, str, str, str], list[tuple[str, Reach]]] = {}
        for subject in subjects:
            reach = reacher.ask(subject, need, path)
            key = (reach.allowed, reach.step, reach.by, reach.line)
            alike.setdefault(key, []).append((subject.name, reach))
        answers = [
            WhoMay(key[0], [name for name, _ in each], key[1], key[2], key[3], each[0][1].why)
            for key, each in alike.items()
        ]
        order = {True: 0, None: 1, False: 2}
        answers.sort(key=lambda answer: (order[answer.allowed], len(answer.accounts)))
        found.append(May(need, words, answers))
    return found
