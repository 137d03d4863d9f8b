"""Reads a configuration as the server does, line by line, obeying what acts while it is read:
conditional sections, includes, variables, modules.

Source: httpd 2.4, core, mod_so and mod_version: directives marked "processed at startup".
"""

from __future__ import annotations

import re
from collections.abc import Hashable, Iterator, Mapping, Sequence
from functools import partial
from itertools import chain
from operator import attrgetter
from typing import NamedTuple

from ecumen.caches import Bounded
from ecumen.engines.httpd.blocks import Block, block_at, is_plain
from ecumen.engines.httpd.lexer import LONGEST_LINE, SPACE, decode, next_word, with_variables, words
from ecumen.engines.httpd.modules import identifier, is_known
from ecumen.engines.names import Hits, include_all, is_pattern, others, same_still
from ecumen.engines.numbers import atoi
from ecumen.engines.source import SurveySource
from ecumen.engines.tree import Deferred, Directive, Mistake, Place, Source, Tree
from ecumen.patterns import compiled
from ecumen.survey import FileTable, Survey

DEEPEST_INCLUDE = 100
DEEPEST_SECTION = 100
MOST_LINES = 5_000_000
MOST_FILLED_IN = 500_000  # lines of macros, at each use
LARGEST_MACRO = 4 << 20  # letters, with its arguments put in


MOST_MISTAKES = 1000


class _Stop(Exception):  # noqa: N818 - a signal that the engine stops reading, not an error of ours
    """The server would stop here. for_good: our reading stops too."""

    def __init__(self, place: Place, message: str, *, for_good: bool = False) -> None:
        super().__init__(message)
        self.mistake = Mistake(place, message)
        self.for_good = for_good


# What a line is, by itself: nothing, a plain directive, one that acts while it is read, the
# beginning or the end of a section, one with a variable in it, or a beginning without its end.
_NOTHING, _PLAIN, _ACTS, _OPENS, _CLOSES, _VARIES, _BROKEN = range(7)
_ACTING = frozenset(
    "include includeoptional define undefine loadmodule serverroot error use undefmacro".split()
)
_Parsed = tuple[int, str, str]
_new = tuple.__new__
MOST_KNOWN = 500_000


def _parsed(line: str) -> _Parsed:
    """line: without what surrounds it, and not a comment. The beginning of a section is taken
    apart here, once for all sections that begin alike.
    """
    name, rest = next_word(line)
    if not name:
        return (_NOTHING, "", "")
    if name[0] == "<":
        if name.startswith("</"):
            return (_CLOSES, name, rest)
        if name.endswith(">") and not rest:
            return (_OPENS, name[:-1], "")
        end = rest.rfind(">")
        return (_BROKEN, name, "") if end < 0 else (_OPENS, name, rest[:end].strip())
    return (_ACTS if name.lower() in _ACTING else _PLAIN, name, rest)


class _Lines:
    """The lines of one file, given out one by one; how a line is made is worked out once."""

    __slots__ = (
        "at", "file", "known", "number", "offset", "open", "plain", "raw", "size",
    )  # fmt: skip

    def __init__(self, file: str, text: str, known: Bounded[str, _Parsed], offset: int = 0) -> None:
        self.file = file
        # Lines in front of these in the file, where they are a piece of it.
        self.offset = offset
        self.plain = is_plain(text)
        self.raw = text.split("\n")
        self.size = len(self.raw)
        self.at = 0
        self.number = 1
        self.known = known
        self.open = 0

    @property
    def place(self) -> Place:
        return Place(self.file, self.number + self.offset)

    def block(self) -> Block | None:
        """The virtual host whose first line comes next, where it need not be read yet."""
        if not self.plain or self.at >= self.size:
            return None
        found = block_at(self.raw, self.at, self.file, self.at + 1 + self.offset)
        if found is not None:
            self.at += found.lines
        return found

    def next(self) -> _Parsed | None:
        """The next line that says anything; None at the end."""
        raw, known, size = self.raw, self.known, self.size
        at = self.at
        while at < size:
            line = raw[at]
            at += 1
            parsed = known.get(line)
            if parsed is None:
                self.at = at
                parsed = self.worked_out(line)
                at = self.at
            else:
                self.number = at
            if parsed[0]:
                self.at = at
                return parsed
        self.at = at
        return None

    def leave_sections(self) -> None:
        """Passes over what is left of the sections that are open."""
        while self.open and self.at < self.size:
            line = self.raw[self.at].lstrip(SPACE)
            self.at += 1
            if line.startswith("</"):
                self.open -= 1
            elif line.startswith("<"):
                self.open += 1
        self.open = 0

    def worked_out(self, line: str) -> _Parsed:
        first = line
        self.number = self.at
        whole = line.partition("\0")[0].removesuffix("\r")
        alone = not whole.endswith("\\")
        whole = (whole if alone else self._continued(whole)).strip(SPACE)
        if not whole or whole[0] == "#":
            parsed = (_NOTHING, "", "")
        elif "${" in whole:
            parsed = (_VARIES, whole, "")
        else:
            parsed = _parsed(whole)
        if alone:
            self.known[first] = parsed
        return parsed

    def _continued(self, line: str) -> str:
        """A line with those that it goes on with. What counts is how all that was read so far ends:
        behind an empty line, the one in front of it.
        """
        pieces, ends = [line], [len(line)]
        while pieces and pieces[-1][ends[-1] - 1] == "\\":
            ends[-1] -= 1
            if not ends[-1]:
                pieces.pop()
                ends.pop()
            if self.at >= self.size:
                break
            more = self.raw[self.at].partition("\0")[0].removesuffix("\r")
            self.at += 1
            if more:
                pieces.append(more)
                ends.append(len(more))
        return "".join(piece[:end] for piece, end in zip(pieces, ends, strict=True))


# What a file asks of what was read before it, and the answer.
_Fact = tuple[str, str, object]


class _Read(NamedTuple):
    """A file that was read. stamp: of its text; facts: that it asked for; size: in lines."""

    stamp: Hashable
    directives: tuple[Directive, ...]
    facts: tuple[_Fact, ...]
    size: int


_DIRECTIVES, _SIZE = attrgetter("directives"), attrgetter("size")


class _Macro(NamedTuple):
    """A piece of configuration with names in it that each use fills in."""

    parameters: tuple[str, ...]
    text: str
    place: Place


class Cache:
    """What was read before: lines as they are made, and whole files that say the same wherever
    they are read. Holds for one kind of engine.
    """

    def __init__(self) -> None:
        self.hits = Hits()
        self.lines: Bounded[str, _Parsed] = Bounded(MOST_KNOWN)
        self.files: dict[str, _Read] = {}


class Reader:
    """One reading of one configuration. `read` gives the tree."""

    def __init__(
        self,
        source: Source,
        *,
        root: str,
        version: str = "2.4",
        built_in: tuple[str, ...] = (),
        defines: tuple[str, ...] = (),
        environment: Mapping[str, str] | None = None,
        cache: Cache | None = None,
    ) -> None:
        self.source = source
        self.cache = cache or Cache()
        self.keeps = cache is not None
        # Whether what is being read would say the same at any other time, where the facts that it
        # asked for are the same.
        self.steady = True
        self.asked: dict[_Fact, None] = {}
        self.root = root
        self.version = version
        self.modules = {identifier(name) for name in built_in}
        # The order counts where several ask for the same place among the hooks.
        self.load_order: list[str] = []
        self.defines = set(defines)
        # Names of variables are compared without case, the server's environment is not.
        self.variables: dict[str, str] = {}
        self.environment = dict(environment or {})
        self.files: list[str] = []
        self.unset: list[tuple[Place, str]] = []
        self.included: dict[str, Place] = {}
        self.mistakes: list[Mistake] = []
        self.cut: set[Place] = set()
        self.count = 0
        self.filled_in = 0
        self.nested = 0
        self.macros: dict[str, _Macro] = {}
        # What is named, not there, and passed over; and where it is named.
        self.missing: dict[str, Place] = {}
        # Whether includes, definitions and the like are obeyed: not in override files.
        self.acts = True

    def read(self, config: str) -> Tree:
        """Never raises: what the server would stop at is a mistake of the tree.

        The reading goes on behind it, so that what stands there can be shown.
        """
        found: list[Directive] = []
        try:
            self._file(config, found, 0, Place(config, 1), optional=False)
        except _Stop as stop:
            self.mistakes.append(stop.mistake)
        return Tree(
            tuple(found),
            tuple(self.mistakes),
            tuple(self.files),
            self.included,
            frozenset(self.cut),
            self.missing,
        )

    def fragment(self, path: str, text: bytes) -> Tree:
        """An override file, read on its own, with what the configuration set up. Never raises."""
        found: list[Directive] = []
        mistakes: tuple[Mistake, ...] = ()
        nested, self.nested, self.acts = self.nested, 0, False
        try:
            self._until(_Lines(path, decode(text), self.cache.lines), None, found, 0)
        except _Stop as stop:
            mistakes = (stop.mistake,)
        self.nested, self.acts = nested, True
        return Tree(tuple(found), mistakes, (path,))

    def absolute(self, path: str) -> str:
        """A path as the server takes it: relative ones lie below the server's root."""
        return path if path.startswith("/") else f"{self.root.rstrip('/')}/{path}"

    # --- files ---

    def _known(self, path: str, into: list[Directive], by: Place) -> bool:
        """Whether a file was read before and says the same still."""
        known = self.cache.files.get(path) if self.keeps else None
        if known is None or known.stamp != self.source.stamps([path])[0]:
            return False
        for kind, name, answer in known.facts:
            if self._fact(kind, name) != answer:
                return False
        self.asked |= dict.fromkeys(known.facts)
        self._take_over([path], [known], into, by)
        return True

    def _all_known(self, paths: Sequence[str], into: list[Directive], by: Place) -> Iterator[str]:
        """The files of these that must be read, each when those before it are taken over: thousands
        at once that were read before, and say the same still whatever was read till then.
        """
        known = list(map(self.cache.files.get, paths)) if self.keeps else [None] * len(paths)
        # What asked for facts is read again, or taken over once these are asked for again.
        read = [None if each is None or each.facts else each.stamp for each in known]
        begun = 0
        for number in others(same_still(paths, read, self.source.stamps)):
            self._take_over(paths[begun:number], known[begun:number], into, by)
            begun = number + 1
            yield paths[number]
        self._take_over(paths[begun:], known[begun:], into, by)

    def _take_over(
        self, paths: Sequence[str], known: Sequence[_Read | None], into: list[Directive], by: Place
    ) -> None:
        held = [each for each in known if each is not None]
        self._counted(sum(map(_SIZE, held)), by)
        self.files += paths
        include_all(self.included, paths, by)
        into.extend(chain.from_iterable(map(_DIRECTIVES, held)))

    def _counted(self, size: int, by: Place) -> None:
        self.count += size
        if self.count > MOST_LINES:
            raise _Stop(by, f"more than {MOST_LINES} lines", for_good=True)

    def _fact(self, kind: str, name: str) -> object:
        """What was read so far, or the survey, says of a name."""
        match kind:
            case "module":
                return name in self.modules
            case "define":
                return name in self.defines
            case "directive":
                return is_known(name, self.modules)
            case "file":
                return self.source.exists(self.absolute(name))
        if name.lower() in self.variables:
            return self.variables[name.lower()]
        return self.environment.get(name)

    def _ask(self, kind: str, name: str) -> object:
        answer = self._fact(kind, name)
        self.asked[kind, name, answer] = None
        return answer

    def _file(
        self, path: str, into: list[Directive], depth: int, by: Place, *, optional: bool
    ) -> None:
        if depth > DEEPEST_INCLUDE:
            why = f"{path} is included more than {DEEPEST_INCLUDE} deep"
            raise _Stop(by, why, for_good=True)
        stamp = self.source.stamps([path])[0] if self.keeps else None
        text = self.source.read(path, by.file if depth else None)
        if text is None:
            if self.source.exists(path):
                # What stands there is not known; what stands behind it is.
                self.mistakes.append(Mistake(by, f"the survey does not hold {path}", unread=True))
                self.steady = False
                return
            if optional:
                self.missing.setdefault(path, by)
                return
            raise _Stop(by, f"{path} cannot be read")
        self.files.append(path)
        if depth:
            self.included.setdefault(path, by)
        lines = _Lines(path, decode(text), self.cache.lines)
        self._counted(lines.size, by)
        outer, self.steady = self.steady, True
        above, self.asked = self.asked, {}
        before = len(into)
        self._through(lines, into, depth)
        if self.steady and stamp is not None:
            made = tuple(into[before:])
            self.cache.files[path] = _Read(stamp, made, tuple(self.asked), lines.size)
        self.steady = outer and self.steady
        self.asked = above | self.asked

    def _through(self, lines: _Lines, into: list[Directive], depth: int) -> None:
        """A file to its end, whatever the server would stop at."""
        nested = self.nested
        while True:
            try:
                self._until(lines, None, into, depth)
                return
            except _Stop as stop:
                if stop.for_good or len(self.mistakes) >= MOST_MISTAKES:
                    raise
                self.mistakes.append(stop.mistake)
            self.nested, self.steady = nested, False
            lines.leave_sections()

    def _until(self, lines: _Lines, section: str | None, into: list[Directive], depth: int) -> None:
        """Directives up to the end of the section (or of the file, without one)."""
        opened = lines.number
        closing = f"</{section[1:]}>" if section is not None else None
        raw, known, size, file = lines.raw, lines.known, lines.size, lines.file
        at, offset = lines.at, lines.offset
        plain, opens, closes, nothing = _PLAIN, _OPENS, _CLOSES, _NOTHING
        # Most of the time of reading is spent in these few lines.
        while at < size:
            text = raw[at]
            at += 1
            try:
                parsed = known[text]
                number = at
            except KeyError:
                lines.at = at
                parsed = lines.worked_out(text)
                at, number = lines.at, lines.number
            kind, name, rest = parsed
            if kind == plain:
                into.append(
                    _new(Directive, (name, rest, _new(Place, (file, number + offset)), None, True))
                )
            elif kind == opens:
                lines.at, lines.number = at, number
                self._section(lines, name, rest, into, depth)
                at = lines.at
            elif kind == closes and name == closing and not rest:
                lines.at, lines.number = at, number
                return
            elif kind != nothing:
                lines.at, lines.number = at, number
                if self._acting(lines, parsed, section, into, depth):
                    return
                at = lines.at
        lines.at = at
        if section is not None:
            place = Place(file, opened + offset)
            raise _Stop(place, f"{section}> was not closed")

    def _acting(
        self,
        lines: _Lines,
        parsed: _Parsed,
        section: str | None,
        into: list[Directive],
        depth: int,
    ) -> bool:
        """A line that is more than a plain directive; whether the section ends with it."""
        kind, name, rest = parsed
        if kind == _VARIES:
            grown = with_variables(name, partial(self._variable, lines.place))
            if grown is None:
                why = f"with its variables this line grows to more than {LONGEST_LINE} letters"
                raise _Stop(lines.place, why, for_good=True)
            kind, name, rest = _parsed(grown)
        if kind == _PLAIN:
            into.append(Directive(name, rest, lines.place))
        elif kind == _CLOSES:
            self._closing(name, rest, section, lines)
            return True
        elif kind == _OPENS:
            self._section(lines, name, rest, into, depth)
        elif kind == _BROKEN:
            raise _Stop(lines.place, f"{name}> directive missing closing '>'")
        elif kind == _ACTS:
            self.steady = False
            self._plain(lines, name, rest, into, depth)
        return False

    def _closing(self, name: str, rest: str, section: str | None, lines: _Lines) -> None:
        if rest or not name.endswith(">"):
            raise _Stop(lines.place, f"{name} directive missing closing '>'")
        if section is None:
            why = f"{name} without matching {name.replace('/', '')} section"
            raise _Stop(lines.place, why)
        if name[2:-1].lower() != section[1:].lower():
            raise _Stop(lines.place, f"expected </{section[1:]}> but saw {name}")

    def _variable(self, at: Place, name: str) -> str | None:
        value = self._ask("variable", name)
        if value is None:
            # It is told where it stands, each time.
            self.steady = False
            if ":" not in name:
                self.unset.append((at, name))
        return None if value is None else str(value)

    # --- directives that act while the file is read ---

    def _plain(
        self, lines: _Lines, name: str, rest: str, into: list[Directive], depth: int
    ) -> None:
        at = lines.place
        into.append(Directive(name, rest, at))
        if not self.acts and name.lower() != "error":
            return
        match name.lower():
            case "include" | "includeoptional":
                self._include(name, rest, into, depth, at)
            case "define":
                self._define(rest, at)
            case "undefine":
                self.defines.discard(rest)
                self.variables.pop(rest.lower(), None)
            case "loadmodule":
                given = words(rest)
                if len(given) != 2:
                    raise _Stop(at, "LoadModule takes two arguments")
                self.modules.add(given[0])
                self.load_order.append(given[0])
            case "serverroot":
                given = words(rest)
                self.root = given[0] if given else self.root
            case "use":
                self._use(rest, into, depth, at)
            case "undefmacro":
                self.macros.pop(rest.strip().lower(), None)
            case "error":
                raise _Stop(at, rest)

    def _define(self, rest: str, at: Place) -> None:
        given = words(rest)
        if not 1 <= len(given) <= 2:
            raise _Stop(at, "Define takes 1-2 arguments")
        self.defines.add(given[0])
        if len(given) == 2:
            self.variables[given[0].lower()] = given[1]

    def _include(self, name: str, rest: str, into: list[Directive], depth: int, at: Place) -> None:
        given = words(rest)
        if len(given) != 1:
            raise _Stop(at, f"{name} takes one argument")
        optional = name.lower() == "includeoptional"
        pattern = self.absolute(given[0])
        if depth >= DEEPEST_INCLUDE:
            why = f"includes are more than {DEEPEST_INCLUDE} deep"
            raise _Stop(at, why, for_good=True)
        if not is_pattern(pattern):
            self._path(pattern, into, depth + 1, at, optional=optional)
            return
        paths = self._matching(pattern, at, optional)
        self.source.expect(paths, at.file)
        for path in self._all_known(paths, into, at):
            self._path(path, into, depth + 1, at, optional=optional)

    def _path(
        self, path: str, into: list[Directive], depth: int, at: Place, *, optional: bool
    ) -> None:
        """A file, or a folder with everything below it in order of names."""
        if depth <= DEEPEST_INCLUDE and self._known(path, into, at):
            return
        names = self.source.names(path)
        if names is None:
            self._file(path, into, depth, at, optional=optional)
            return
        if depth > DEEPEST_INCLUDE:
            why = f"{path} is included more than {DEEPEST_INCLUDE} deep"
            raise _Stop(at, why, for_good=True)
        for leaf in names:
            self._path(f"{path.rstrip('/')}/{leaf}", into, depth + 1, at, optional=optional)

    def _matching(self, pattern: str, at: Place, optional: bool) -> list[str]:
        parts = [part for part in pattern.split("/") if part]
        folders = [""]
        for number, part in enumerate(parts):
            last = number == len(parts) - 1
            if not is_pattern(part):
                folders = [f"{folder}/{part}" for folder in folders]
                continue
            found = []
            for folder in folders:
                names = self.source.names(folder or "/")
                if names is None:
                    if not optional:
                        raise _Stop(at, f"the folder {folder or '/'} cannot be read")
                    continue
                paths = self.cache.hits.of(folder, part, names)
                if not paths and not optional:
                    raise _Stop(at, f"nothing matches {part} in {folder or '/'}")
                found += paths if last else [p for p in paths if self.source.names(p) is not None]
            folders = found
        return folders

    # --- macros ---

    def _macro(self, lines: _Lines, argument: str) -> None:
        """Keeps the lines of a macro as they stand, for each use of it."""
        at = lines.place
        given = words(argument)
        first = lines.at
        deep = 1
        while deep:
            if lines.at >= lines.size:
                raise _Stop(at, "expected token not found: </Macro>")
            text = lines.raw[lines.at].strip(SPACE).lower()
            lines.at += 1
            deep += text.startswith("<macro") - text.startswith("</macro>")
        body = "\n".join(lines.raw[first : lines.at - 1])
        if not given:
            raise _Stop(at, "<Macro macro definition: name not specified")
        place = Place(lines.file, first + lines.offset)
        self.macros[given[0].lower()] = _Macro(tuple(given[1:]), body, place)

    def _use(self, rest: str, into: list[Directive], depth: int, at: Place) -> None:
        given = words(rest)
        if "macro_module" not in self.modules or not given:
            return
        macro = self.macros.get(given[0].lower())
        if macro is None:
            raise _Stop(at, f"macro '{given[0]}' undefined")
        if len(given) - 1 != len(macro.parameters):
            raise _Stop(at, f"macro '{given[0]}' takes {len(macro.parameters)} arguments")
        if depth >= DEEPEST_INCLUDE:
            why = "macros are used within each other without end"
            raise _Stop(at, why, for_good=True)
        text = macro.text
        values = dict(zip(macro.parameters, given[1:], strict=True))
        if values:
            names = sorted(values, key=len, reverse=True)
            pattern = re.compile("|".join(map(re.escape, names)))
            grown = sum(len(values[match[0]]) for match in pattern.finditer(text))
            if grown > LARGEST_MACRO:
                why = f"macro '{given[0]}' grows to more than {LARGEST_MACRO} letters"
                raise _Stop(at, why, for_good=True)
            text = pattern.sub(lambda match: values[match[0]], text)
        lines = _Lines(macro.place.file, text, self.cache.lines, macro.place.line)
        # Each use counts: macros that use each other twice double what is read.
        self.filled_in += lines.size
        if self.filled_in > MOST_FILLED_IN:
            raise _Stop(at, f"more than {MOST_FILLED_IN} lines of macros", for_good=True)
        self._until(lines, None, into, depth + 1)

    # --- sections ---

    def _section(
        self, lines: _Lines, name: str, argument: str, into: list[Directive], depth: int
    ) -> None:
        at = lines.place
        taken: bool | None = True
        kind = name.lower()
        if kind == "<macro" and "macro_module" in self.modules and self.acts:
            self.steady = False
            self._macro(lines, argument)
            into.append(Directive(name, argument, at, ()))
            return
        if kind in _CONDITIONS:
            taken = self._holds(kind, argument, at)
        shallow = self.nested < DEEPEST_SECTION // 2
        if kind == _HOST and shallow and (block := lines.block()) is not None:
            inner = partial(worked_out, lines.file, block.text, lines.known, at.line)
            into.append(
                Directive(name, argument, at, Deferred(block.text, at, block.at_once, inner))
            )
            return
        children: list[Directive] = []
        if taken is False:
            self._soak(lines, name)
        elif self.nested >= DEEPEST_SECTION:
            raise _Stop(at, f"sections are nested more than {DEEPEST_SECTION} deep")
        else:
            self.nested += 1
            lines.open += 1
            try:
                self._until(lines, name, children, depth)
            except _Stop:
                self.cut.add(at)
                into.append(Directive(name, argument, at, tuple(children), taken))
                raise
            lines.open -= 1
            self.nested -= 1
        into.append(Directive(name, argument, at, tuple(children), taken))

    def _soak(self, lines: _Lines, section: str) -> None:
        """Passes over a section that does not hold; its own sections must still be closed."""
        opened = [(section, lines.place)]
        while opened:
            parsed = lines.next()
            if parsed is None:
                raise _Stop(opened[-1][1], f"{opened[-1][0]}> was not closed")
            kind, name, rest = parsed if parsed[0] != _VARIES else _parsed(parsed[1])
            if kind == _CLOSES:
                self._closing(name, rest, opened[-1][0], lines)
                opened.pop()
            elif kind in (_OPENS, _BROKEN):
                opened.append((name, lines.place))

    def _holds(self, name: str, argument: str, at: Place) -> bool | None:
        """Whether a conditional section is read; True for all other sections."""
        negated = argument.startswith("!")
        subject = argument[1:] if negated else argument
        if name in ("<ifmodule", "<ifdefine", "<iffile") and not subject:
            raise _Stop(at, f"{name}> directive requires additional arguments")
        match name:
            case "<ifmodule":
                return self._ask("module", identifier(subject.strip("\"'"))) != negated
            case "<ifdefine":
                return self._ask("define", subject) != negated
            case "<iffile":
                found = self._ask("file", next_word(subject)[0])
                return None if found is None else found != negated
            case "<ifversion":
                return self._version(argument, at)
            case "<ifdirective" | "<ifsection":
                wanted = next_word(subject)[0].lower()
                known = self._ask("directive", wanted if name == "<ifdirective" else f"<{wanted}")
                return None if known is None else known != negated
        return True

    def _version(self, argument: str, at: Place) -> bool | None:
        given = words(argument)
        operator, wanted = (given[0], given[1]) if len(given) > 1 else ("=", "".join(given))
        negated = operator.startswith("!")
        operator = operator.lstrip("!") or "="
        written = len(wanted) > 1 and wanted[0] == wanted[-1] == "/" and operator in ("=", "==")
        if operator == "~" or written:
            pattern = compiled(wanted[1:-1] if written else wanted)
            mine = re.match(r"\d+\.\d+\.\d+", self.version)
            held = None if pattern is None or mine is None else pattern.fits(mine[0])
            return None if held is None else held != negated
        if not re.fullmatch(r"[0-9]+(\.[0-9]+){0,2}", wanted):
            raise _Stop(at, f"{wanted} is no version number")
        parts = [int(part) for part in re.findall(r"\d+", self.version)[:3]]
        asked = [atoi(part) for part in wanted.split(".")]
        own, asked = ([*v, 0, 0, 0][:3] for v in (parts, asked))
        results = {
            "=": own == asked,
            "==": own == asked,
            ">": own > asked,
            ">=": own >= asked,
            "<": own < asked,
            "<=": own <= asked,
        }
        if operator not in results:
            raise _Stop(at, f"{operator} is no comparison of versions")
        return results[operator] != negated


def worked_out(file: str, text: str, known: Bounded[str, _Parsed], before: int) -> list[Directive]:
    """The lines of a block that act on nothing. before: how many stand in front of them."""
    found: list[Directive] = []
    reader = Reader(_NOWHERE, root="")
    reader._until(_Lines(file, text.removesuffix("\n"), known, before), None, found, 0)
    return found


_NOWHERE = SurveySource(Survey("", 0, "", (), FileTable()))
_HOST = "<virtualhost"
_CONDITIONS = frozenset(
    ("<ifmodule", "<ifdefine", "<iffile", "<ifversion", "<ifdirective", "<ifsection", "<macro")
)
