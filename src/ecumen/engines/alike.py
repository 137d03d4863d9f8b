"""Sites that are written alike: blocks whose texts are the same but for words of their own (a name,
a folder). Of thousands a hoster has a few dozen kinds. One of a kind is worked out with holes where
the words stand; what was asked of files on the way is noted, and for another one the answer holds
where all of that is the same.

What makes this sound: holes stand only where a text is a name or a path and nothing else; a word of
its own stands nowhere outside of blocks, so that nothing there can be equal to it by chance; what
is matched by a pattern is matched again. Whoever meets anything else raises `NotAlike`.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Generic, NoReturn, TypeVar

from ecumen.engines.tree import Place
from ecumen.patterns import Regex, TooCostly
from ecumen.rights import Subject
from ecumen.survey import Entry, FileTable, Kind, Survey

_T = TypeVar("_T")

# In names and in paths alike, and no word of anybody's: such a text is not looked at for likeness.
MARK = "w0rdq"
MOST_HOLES = 12
HOLES = tuple(f"{MARK}{chr(ord('a') + number)}" for number in range(MOST_HOLES))
# The file in which a block with holes would stand: no path.
NOWHERE = f"\0{MARK}"
WORD = re.compile(r"[A-Za-z0-9_-]+")
_OWN = re.compile(r"[a-z0-9_-]{2,64}")
# Blocks that may have a word in common that is their own (a site of both schemes, several sites of
# one owner): so many, and of many blocks one in twenty.
MOST_SHARING, ONE_IN = 3, 20
MOST_WAYS = 6  # in which the files of one kind of site lie, for one question


class NotAlike(Exception):  # noqa: N818 - a signal, not an error of ours
    """This depends on more than is noted."""


class OwnWords:
    """Which words of a block are its own. texts: of each block, what may hold them; elsewhere: of
    all that stands in no block.
    """

    def __init__(self, texts: Iterable[str], elsewhere: Iterable[str]) -> None:
        counts: Counter[str] = Counter()
        blocks = 0
        for text in texts:
            counts.update(set(WORD.findall(text)))
            blocks += 1
        self._counts = counts
        self._most = max(MOST_SHARING, blocks // ONE_IN)
        self._elsewhere = {word for text in elsewhere for word in WORD.findall(text)}
        # Where a hole would be taken for what stands there, nobody has words of his own.
        self._none = any(MARK in word for word in self._elsewhere)

    def of(self, text: str) -> tuple[str, ...]:
        """In the order in which they stand; none where there are too many."""
        counts, elsewhere = self._counts, self._elsewhere
        own = tuple(
            word
            for word in dict.fromkeys(WORD.findall(text))
            if counts[word] <= self._most and word not in elsewhere and _OWN.fullmatch(word)
        )
        return own if len(own) <= MOST_HOLES and not self._none else ()


@dataclass(frozen=True, slots=True)
class Words:
    """The words of one block, by hole."""

    own: tuple[str, ...]
    # Long ones first: a word may stand within another.
    _order: tuple[tuple[str, str], ...] = field(init=False)

    def __post_init__(self) -> None:
        pairs = sorted(zip(self.own, HOLES, strict=False), key=lambda pair: -len(pair[0]))
        object.__setattr__(self, "_order", tuple(pairs))

    def holed(self, text: str) -> str:
        """A text with holes in place of these words."""
        for word, hole in self._order:
            text = text.replace(word, hole)
        return text

    def filled(self, text: str) -> str:
        """A text with these words in its holes."""
        if MARK not in text:
            return text
        for word, hole in self._order:
            text = text.replace(hole, word)
        return text

    def asked(self, text: str) -> str | None:
        """A text that somebody asks with, with holes; None where one would be no word by itself, or
        he asks with what looks like one.
        """
        holed = self.holed(text)
        return holed if MARK not in text and stands_apart(holed) else None

    def within(self, text: str) -> bool:
        """Whether one of them stands in a text, or what looks like a hole."""
        return MARK in text or any(word in text for word in self.own)


def stands_apart(text: str) -> bool:
    """Whether each hole of a text is a word by itself, and not a piece of one."""
    return text.count(MARK) == sum(word in HOLES for word in WORD.findall(text))


@dataclass(frozen=True, slots=True)
class Filler:
    """Puts the words of one block where holes are. place: where the block begins."""

    words: Words
    place: Place

    def text(self, text: str) -> str:
        return self.words.filled(text)

    def maybe(self, text: str | None) -> str | None:
        return None if text is None else self.words.filled(text)

    def at(self, place: Place) -> Place:
        """Where a line stands that stands somewhere in the block with holes."""
        if place.file == NOWHERE:
            return Place(self.place.file, self.place.line + place.line)
        return Place(self.words.filled(place.file), place.line)


# --- what is asked on the way ---

_Facts = tuple[object, ...]


def _facts(entry: Entry | None) -> _Facts | None:
    """What of an entry may make a difference, but for who owns it."""
    if entry is None:
        return None
    return (
        entry.kind, entry.mode, entry.acl, entry.default_acl, entry.context, entry.listed,
        entry.flags, entry.size > 0,
    )  # fmt: skip


@lru_cache(maxsize=64)
def _apart(numbers: Iterable[int]) -> dict[int, int]:
    return {number: number for number in (0, *numbers)}


class _Owners:
    """Accounts by what they are to a subject: some are told apart from all others, these from each
    other alone.
    """

    def __init__(self, subject: Subject) -> None:
        self._users = _apart((subject.uid,)).copy()
        self._groups = _apart(subject.groups).copy()

    def role(self, entry: Entry) -> tuple[int, int]:
        users, groups = self._users, self._groups
        return (
            users.setdefault(entry.uid, -1 - len(users)),
            groups.setdefault(entry.gid, -1 - len(groups)),
        )


class _HeardFiles:
    """The file table, asked by paths with holes."""

    def __init__(self, files: FileTable, words: Words) -> None:
        self._files = files
        self._words = words
        self.asked: dict[str, Entry | None] = {}

    def get(self, path: str, default: None = None) -> Entry | None:
        if path in self.asked:
            return self.asked[path]
        entry = self._files.get(self._words.filled(path))
        # What a link leads to may lie anywhere. By the name of a file, or of what is not there,
        # sections are chosen, which is not noted.
        named = MARK in path[path.rfind("/") :]
        if (entry is not None and entry.kind is Kind.LINK) or (
            named and (entry is None or entry.kind is not Kind.DIR)
        ):
            raise NotAlike
        if entry is not None:
            entry = replace(entry, path=path)
        self.asked[path] = entry
        return entry

    def __contains__(self, path: str) -> bool:
        return self.get(path) is not None

    def __getattr__(self, name: str) -> NoReturn:
        raise NotAlike(name)


class _HeardTexts:
    """The texts of a survey, asked by paths with holes."""

    def __init__(self, texts: Mapping[str, bytes], words: Words) -> None:
        self._texts = texts
        self._words = words
        self.asked: dict[str, bytes | None] = {}

    def get(self, path: str, default: None = None) -> bytes | None:
        text = self.asked[path] = self._texts.get(self._words.filled(path))
        if text is not None and MARK.encode() in text:
            raise NotAlike
        return text

    def __getattr__(self, name: str) -> NoReturn:
        raise NotAlike(name)


class Heard:
    """A survey, as whoever works out a block with holes sees it: what is asked for is noted."""

    def __init__(self, survey: Survey, words: Words) -> None:
        self.files = _HeardFiles(survey.files, words)
        self.texts = _HeardTexts(survey.texts, words)
        self.kernel = survey.kernel
        self.searched: list[tuple[Regex, str]] = []
        self.fitted: list[tuple[Callable[[str], bool | None], str, bool | None]] = []

    def __getattr__(self, name: str) -> NoReturn:
        raise NotAlike(name)

    def compared(self, text: str) -> None:
        """Whoever compares a text with others says so."""
        if MARK in text:
            raise NotAlike

    def searched_in(self, regex: Regex, text: str, hit: object) -> None:
        """Notes a text in which a pattern finds nothing; what it takes of others is not noted."""
        if MARK in text:
            if hit is not None:
                raise NotAlike
            self.searched.append((regex, text))

    def fits(self, test: Callable[[str], bool | None], text: str) -> bool | None:
        """What a test makes of a text."""
        fits = test(text)
        if MARK in text:
            self.fitted.append((test, text, fits))
        return fits


@dataclass(slots=True)
class _Known(Generic[_T]):
    """A value, and all that it depends on. paths: with NUL between."""

    value: _T
    paths: str
    facts: list[_Facts | None]
    roles: list[tuple[int, int] | None]
    texts: list[tuple[str, bytes | None]]
    searched: list[tuple[Regex, str]]
    fitted: list[tuple[Callable[[str], bool | None], str, bool | None]]


@dataclass(frozen=True, slots=True)
class Held(Generic[_T]):
    """A value with holes that holds for a block. entries: by their paths with holes, its own."""

    value: _T
    entries: Mapping[str, Entry | None]


class Answers(Generic[_T]):
    """What is known of the blocks of one kind about one question."""

    __slots__ = ("_odd", "_ways")

    def __init__(self) -> None:
        self._ways: list[_Known[_T]] = []
        self._odd = 0

    def of(
        self,
        words: Words,
        survey: Survey,
        subject: Subject,
        work_out: Callable[[Heard], _T],
    ) -> Held[_T] | None:
        """What holds for the block with these words; None where that is not to be told from another
        one. work_out: what comes of the block with holes.
        """
        for known in self._ways:
            entries = _entries(known, words, survey, subject)
            if entries is not None:
                return Held(known.value, entries)
        if len(self._ways) + self._odd >= MOST_WAYS:
            return None
        heard = Heard(survey, words)
        try:
            value = work_out(heard)
        except (NotAlike, TooCostly):
            # It may be this one alone; where it is each of them, nobody tries for long.
            self._odd += 1
            return None
        asked = heard.files.asked
        owners = _Owners(subject)
        known = _Known(
            value,
            "\0".join(asked),
            [_facts(entry) for entry in asked.values()],
            [None if entry is None else owners.role(entry) for entry in asked.values()],
            list(heard.texts.asked.items()),
            heard.searched,
            heard.fitted,
        )
        self._ways.append(known)
        # Told in the same way as to all others.
        entries = _entries(known, words, survey, subject)
        return None if entries is None else Held(value, entries)


def _entries(
    known: _Known[_T], words: Words, survey: Survey, subject: Subject
) -> dict[str, Entry | None] | None:
    """The entries of another block, by path with holes, where all that was asked is the same."""
    files = survey.files
    holed = known.paths.split("\0") if known.paths else []
    found: dict[str, Entry | None] = {}
    owners = _Owners(subject)
    paths = words.filled(known.paths).split("\0")
    for path, real, facts, role in zip(holed, paths, known.facts, known.roles, strict=False):
        entry = files.get(real)
        if entry is None:
            if facts is not None:
                return None
        elif _facts(entry) != facts or owners.role(entry) != role:
            return None
        found[path] = entry
    for path, text in known.texts:
        if survey.texts.get(words.filled(path)) != text:
            return None
    try:
        if any(regex.search(words.filled(text)) for regex, text in known.searched):
            return None
    except TooCostly:
        return None
    if any(test(words.filled(text)) is not fits for test, text, fits in known.fitted):
        return None
    return found
