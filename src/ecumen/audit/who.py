"""Who may: every account that may read, write or pass a path, with the step that decides."""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.plan.opens import everybody
from ecumen.rights.reach import Reach, Reacher
from ecumen.survey import Survey

NEEDS = (("r", "read"), ("w", "write"), ("x", "pass or run"))


@dataclass(frozen=True, slots=True)
class Answer:
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
    answers: list[Answer]


def who_may(survey: Survey, path: str) -> list[May]:
    """All accounts of the survey against one path."""
    reacher = Reacher(survey)
    found = []
    subjects = everybody(survey)
    for need, words in NEEDS:
        alike: dict[tuple[bool | None, str, str, str], list[tuple[str, Reach]]] = {}
        for subject in subjects:
            reach = reacher.ask(subject, need, path)
            key = (reach.allowed, reach.step, reach.by, reach.line)
            alike.setdefault(key, []).append((subject.name, reach))
        answers = [
            Answer(key[0], [name for name, _ in each], key[1], key[2], key[3], each[0][1].why)
            for key, each in alike.items()
        ]
        order = {True: 0, None: 1, False: 2}
        answers.sort(key=lambda answer: (order[answer.allowed], len(answer.accounts)))
        found.append(May(need, words, answers))
    return found
