"""Virtual hosts that are written alike: which lines may differ by words of a site's own, and the
host with holes in their place.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TypeVar, cast

from ecumen.caches import Bounded
from ecumen.engines.alike import (
    MARK,
    NOWHERE,
    Answers,
    Filler,
    Heard,
    Held,
    OwnWords,
    Words,
    stands_apart,
)
from ecumen.engines.httpd.blocks import block_at, is_plain
from ecumen.engines.httpd.catalogue import leaves_answer
from ecumen.engines.httpd.lexer import words as words_of
from ecumen.engines.httpd.overrides import OverrideReader
from ecumen.engines.httpd.reader import worked_out
from ecumen.engines.httpd.server import Host, Section, Server, host_like
from ecumen.engines.httpd.settings import Settings
from ecumen.engines.httpd.targets import Targets
from ecumen.engines.httpd.way import AddressWays
from ecumen.engines.source import SurveySource
from ecumen.engines.tree import Deferred, Directive, Place, Tree
from ecumen.rights import Walker
from ecumen.survey import Survey

_T = TypeVar("_T")

# Names and paths in all arguments, and such in the last one alone; what else bears on no answer.
_ANYWHERE = frozenset("servername serveralias documentroot customlog errorlog transferlog".split())
_LAST = frozenset(
    "alias scriptalias aliasmatch scriptaliasmatch redirect redirectmatch redirecttemp "
    "redirectpermanent".split()
)
_LINES = re.compile(
    r"^[ \t]*(?:server(?:name|alias)|documentroot|<directory|(?:custom|error|transfer)log)[ \t]"
    r"([^\n]*)",
    re.IGNORECASE | re.MULTILINE,
)
_AT_ONCE = frozenset(("servername", "serveralias"))
ENOUGH = 32  # hosts that were asked for, from which on it is worth to look for their likes
MOST_KINDS = 5_000
MOST_QUESTIONS = 20_000  # of all kinds together


@dataclass(slots=True, eq=False)
class _Kind:
    """A host with holes. sites: that are like it, as far as they were asked for."""

    host: Host
    sites: int = 0
    made: dict[str, object] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Like:
    """A host, as one of its kind. alike: the host with holes."""

    host: Host
    kind: _Kind
    words: Words

    @property
    def alike(self) -> Host:
        return self.kind.host

    @property
    def fill(self) -> Filler:
        return Filler(self.words, self.host.place)

    def once(self, what: str, make: Callable[[Host], _T]) -> _T:
        """What is made once for all hosts of its kind; it asks nothing of the survey."""
        made = self.kind.made
        if what not in made:
            made[what] = make(self.alike)
        return cast(_T, made[what])


@dataclass(frozen=True, slots=True)
class Ground:
    """What an answer is worked out with, of which is noted what it asks. host: with holes."""

    host: Host
    targets: Targets
    ways: AddressWays
    heard: Heard


class Alike:
    """The kinds of one server's hosts. Built once."""

    def __init__(self, survey: Survey, server: Server, walker: Walker, again: bool) -> None:
        """again: as for `Targets`."""
        self.survey = survey
        self.server = server
        self.walker = walker
        self._again = again
        self._asked: set[int] = set()
        self._kinds: dict[tuple[str, str], _Kind | None] = Bounded(MOST_KINDS)
        self._of: dict[int, Like | None] = {}
        # Kinds stay as long as any of their hosts, so that their number is theirs.
        self._answers: dict[tuple[int, object], Answers[object]] = Bounded(MOST_QUESTIONS)

    def of(self, host: Host) -> Like | None:
        """None where it is like no other, or too few were asked for to look."""
        number = id(host)
        if number in self._of:
            return self._of[number]
        if len(self._asked) < ENOUGH:
            self._asked.add(number)
            return None
        found = self._of[number] = self._like(host)
        return found

    def answer(
        self, like: Like, question: object, work_out: Callable[[Ground], _T]
    ) -> Held[_T] | None:
        """What comes of a question to a host, with holes; None where it must be asked itself."""
        if like.kind.sites < 2:
            return None
        key = id(like.kind), question
        known = self._answers.get(key)
        if known is None:
            known = self._answers[key] = Answers()

        def worked_out(heard: Heard) -> object:
            return work_out(self._ground(like.alike, heard))

        held = known.of(like.words, self.survey, self.walker.subject, worked_out)
        return cast("Held[_T] | None", held)

    def _like(self, host: Host) -> Like | None:
        directive = host.directive
        lines = None if directive is None else directive.children
        if directive is None or not isinstance(lines, Deferred) or MARK in lines.text:
            return None
        if any(line.name.lower() not in _AT_ONCE for line in lines.at_once) or not host.name:
            return None
        words = Words(self._own_words.of("\n".join(_LINES.findall(lines.text))))
        key = directive.text, words.holed(lines.text)
        if key in self._kinds:
            kind = self._kinds[key]
        else:
            kind = self._kinds[key] = self._kind(directive, key[1])
        if kind is None:
            return None
        kind.sites += 1
        return Like(host, kind, words)

    @cached_property
    def _own_words(self) -> OwnWords:
        texts = (
            "\n".join(_LINES.findall(lines.text))
            for host in self.server.hosts
            if host.directive is not None and isinstance(lines := host.directive.children, Deferred)
        )
        survey = self.survey
        views = (view for engine in survey.engines for view in engine.own_view)
        said = (line.text for line in Tree(self.server.said).walk())
        return OwnWords(texts, (survey.host, *views, *said))

    def _kind(self, directive: Directive, text: str) -> _Kind | None:
        """None where a hole stands in anything but a name or a path."""
        if not is_plain(text) or not stands_apart(text):
            return None
        place = Place(NOWHERE, 0)
        block = block_at([*text.split("\n")[:-1], "</VirtualHost>"], 0, NOWHERE, 1)
        if block is None:
            return None

        def lines() -> Sequence[Directive]:
            return worked_out(NOWHERE, text, self.server.reader.cache.lines, 0)

        if not all(map(_may_differ, Tree(tuple(lines())).walk())):
            return None
        inner = Deferred(text, place, block.at_once, lines)
        return _Kind(host_like(self.server, directive._replace(place=place, children=inner)))

    def _ground(self, host: Host, heard: Heard) -> Ground:
        # What is asked of a survey here, and nothing else, is what is noted.
        survey = cast(Survey, heard)
        walker = Walker(survey, self.walker.subject, self.walker.own_view)
        reader = copy.copy(self.server.reader)
        reader.source = SurveySource(survey)
        targets = Targets(walker, OverrideReader(reader), judges_again=self._again)
        ways = AddressWays(survey, self.server, walker)
        return Ground(_noting(host, heard), targets, ways, heard)


class _Noting(Section):
    """A section by a pattern: what it is asked is noted."""

    __slots__ = ("heard", "section")
    heard: Heard
    section: Section

    @property
    def settings(self) -> Settings:
        return self.section.settings

    def fits_folder(self, path: str) -> bool | None:
        return self.heard.fits(self.section.fits_folder, path)

    def fits_regex(self, text: str) -> bool | None:
        return self.heard.fits(self.section.fits_regex, text)


def _noting(host: Host, heard: Heard) -> Host:
    """The host with such sections."""

    def noting(section: Section) -> Section:
        if section.kind == "folder" and not section.wild:
            return section
        made = _Noting(section.kind, section.pattern, section.directive, section.depth)
        made.heard, made.section = heard, section
        return made

    if not host.folder_patterns and not any(section.wild for section in host.folders):
        return host
    made = copy.copy(host)
    made.folders = list(map(noting, host.folders))
    made.folder_patterns = list(map(noting, host.folder_patterns))
    return made


def _may_differ(line: Directive) -> bool:
    """Whether holes stand only where a line has a name or a path."""
    if MARK not in line.text:
        return True
    name = line.name.lower()
    if name in _ANYWHERE:
        return True
    given = words_of(line.text)
    if name == "<directory":
        return len(given) == 1 and not any(c in given[0] for c in "*?[")
    if name == "rewriterule":
        return all(MARK not in word for at, word in enumerate(given) if at != 1)
    if name in _LAST:
        # What an alias leads to is a folder by another name than its own word (see `Heard`).
        leaf = given[-1][given[-1].rfind("/") :] if "alias" in name else ""
        return MARK not in leaf and all(MARK not in word for word in given[:-1])
    return leaves_answer(line)
