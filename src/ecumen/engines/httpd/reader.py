"""Reads a configuration as the server does, line by line, obeying what acts while it is read:
conditional sections, includes, variables, modules.

Source: httpd 2.4, core, mod_so and mod_version: directives marked "processed at startup".
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from fnmatch import translate
from functools import lru_cache, partial

from ecumen.engines.httpd.lexer import decode, logical_lines, next_word, with_variables, words
from ecumen.engines.httpd.modules import identifier
from ecumen.engines.tree import Directive, Mistake, Place, Source, Tree

DEEPEST_INCLUDE = 100
DEEPEST_SECTION = 100
MOST_DIRECTIVES = 5_000_000


class _Stop(Exception):  # noqa: N818 - a signal that the engine stops reading, not an error of ours
    """The server would stop here."""

    def __init__(self, place: Place, message: str) -> None:
        super().__init__(message)
        self.mistake = Mistake(place, message)


@dataclass(slots=True)
class _Lines:
    """The lines of one file, given out one by one."""

    file: str
    rest: Iterator[tuple[int, str]]
    at: Place = field(init=False)

    def __post_init__(self) -> None:
        self.at = Place(self.file, 1)

    def next(self) -> str | None:
        line = next(self.rest, None)
        if line is None:
            return None
        self.at = Place(self.file, line[0])
        return line[1]


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
    ) -> None:
        self.source = source
        self.root = root
        self.version = version
        self.modules = {identifier(name) for name in built_in}
        self.defines = set(defines)
        # Names of variables are compared without case, the server's environment is not.
        self.variables: dict[str, str] = {}
        self.environment = dict(environment or {})
        self.files: list[str] = []
        self.unset: list[tuple[Place, str]] = []
        self.count = 0
        self.nested = 0
        # Whether includes, definitions and the like are obeyed: not in override files.
        self.acts = True

    def read(self, config: str) -> Tree:
        """Never raises: what the server would stop at is a mistake of the tree."""
        found: list[Directive] = []
        mistakes: tuple[Mistake, ...] = ()
        try:
            self._file(config, found, 0, Place(config, 1), optional=False)
        except _Stop as stop:
            mistakes = (stop.mistake,)
        return Tree(tuple(found), mistakes, tuple(self.files))

    def fragment(self, path: str, text: bytes) -> Tree:
        """An override file, read on its own, with what the configuration set up. Never raises."""
        found: list[Directive] = []
        mistakes: tuple[Mistake, ...] = ()
        nested, self.nested, self.acts = self.nested, 0, False
        try:
            self._until(_Lines(path, logical_lines(decode(text))), None, found, 0)
        except _Stop as stop:
            mistakes = (stop.mistake,)
        self.nested, self.acts = nested, True
        return Tree(tuple(found), mistakes, (path,))

    def absolute(self, path: str) -> str:
        """A path as the server takes it: relative ones lie below the server's root."""
        return path if path.startswith("/") else f"{self.root.rstrip('/')}/{path}"

    # --- files ---

    def _file(
        self, path: str, into: list[Directive], depth: int, by: Place, *, optional: bool
    ) -> None:
        if depth > DEEPEST_INCLUDE:
            raise _Stop(by, f"{path} is included more than {DEEPEST_INCLUDE} deep")
        text = self.source.read(path)
        if text is None:
            if optional:
                return
            raise _Stop(by, f"{path} cannot be read")
        self.files.append(path)
        lines = _Lines(path, logical_lines(decode(text)))
        self._until(lines, None, into, depth)

    def _until(self, lines: _Lines, section: str | None, into: list[Directive], depth: int) -> None:
        """Directives up to the end of the section (or of the file, without one)."""
        opened = lines.at
        while (line := lines.next()) is not None:
            if "${" in line:
                line = with_variables(line, partial(self._variable, lines.at))
            name, rest = next_word(line)
            if not name:
                continue
            if name.startswith("</"):
                self._closing(name, rest, section, lines.at)
                return
            self.count += 1
            if self.count > MOST_DIRECTIVES:
                raise _Stop(lines.at, f"more than {MOST_DIRECTIVES} directives")
            if name.startswith("<"):
                self._section(lines, name, rest, into, depth)
            else:
                self._plain(lines, name, rest, into, depth)
        if section is not None:
            raise _Stop(opened, f"{section}> was not closed")

    def _closing(self, name: str, rest: str, section: str | None, at: Place) -> None:
        if rest or not name.endswith(">"):
            raise _Stop(at, f"{name} directive missing closing '>'")
        if section is None:
            raise _Stop(at, f"{name} without matching {name.replace('/', '')} section")
        if name[2:-1].lower() != section[1:].lower():
            raise _Stop(at, f"expected </{section[1:]}> but saw {name}")

    def _variable(self, at: Place, name: str) -> str | None:
        if name.lower() in self.variables:
            return self.variables[name.lower()]
        if name in self.environment:
            return self.environment[name]
        if ":" not in name:
            self.unset.append((at, name))
        return None

    # --- directives that act while the file is read ---

    def _plain(
        self, lines: _Lines, name: str, rest: str, into: list[Directive], depth: int
    ) -> None:
        at = lines.at
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
            case "serverroot":
                given = words(rest)
                self.root = given[0] if given else self.root
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
            raise _Stop(at, f"includes are more than {DEEPEST_INCLUDE} deep")
        if not _is_pattern(pattern):
            self._path(pattern, into, depth + 1, at, optional=optional)
            return
        for path in self._matching(pattern, at, optional):
            self._path(path, into, depth + 1, at, optional=optional)

    def _path(
        self, path: str, into: list[Directive], depth: int, at: Place, *, optional: bool
    ) -> None:
        """A file, or a folder with everything below it in order of names."""
        names = self.source.names(path)
        if names is None:
            self._file(path, into, depth, at, optional=optional)
            return
        if depth > DEEPEST_INCLUDE:
            raise _Stop(at, f"{path} is included more than {DEEPEST_INCLUDE} deep")
        for leaf in names:
            self._path(f"{path.rstrip('/')}/{leaf}", into, depth + 1, at, optional=optional)

    def _matching(self, pattern: str, at: Place, optional: bool) -> list[str]:
        parts = [part for part in pattern.split("/") if part]
        folders = [""]
        for number, part in enumerate(parts):
            last = number == len(parts) - 1
            if not _is_pattern(part):
                folders = [f"{folder}/{part}" for folder in folders]
                continue
            found = []
            for folder in folders:
                names = self.source.names(folder or "/")
                if names is None:
                    if not optional:
                        raise _Stop(at, f"the folder {folder or '/'} cannot be read")
                    continue
                hits = [leaf for leaf in names if _fits(part, leaf)]
                if not hits and not optional:
                    raise _Stop(at, f"nothing matches {part} in {folder or '/'}")
                paths = [f"{folder}/{leaf}" for leaf in hits]
                found += paths if last else [p for p in paths if self.source.names(p) is not None]
            folders = found
        return folders

    # --- sections ---

    def _section(
        self, lines: _Lines, name: str, rest: str, into: list[Directive], depth: int
    ) -> None:
        at = lines.at
        text = rest
        if name.endswith(">") and not rest:
            name, text = name[:-1], ">"
        closes = text.rfind(">")
        if closes < 0:
            raise _Stop(at, f"{name}> directive missing closing '>'")
        argument = text[:closes].strip()
        taken = self._holds(name.lower(), argument, at)
        children: list[Directive] = []
        if taken is False:
            self._soak(lines, name)
        elif self.nested >= DEEPEST_SECTION:
            raise _Stop(at, f"sections are nested more than {DEEPEST_SECTION} deep")
        else:
            self.nested += 1
            self._until(lines, name, children, depth)
            self.nested -= 1
        into.append(Directive(name, argument, at, tuple(children), taken))

    def _soak(self, lines: _Lines, section: str) -> None:
        """Passes over a section that does not hold; its own sections must still be closed."""
        opened = [(section, lines.at)]
        while opened:
            line = lines.next()
            if line is None:
                raise _Stop(opened[-1][1], f"{opened[-1][0]}> was not closed")
            if not line.startswith("<"):
                continue
            name, rest = next_word(line)
            if name.startswith("</"):
                self._closing(name, rest, opened[-1][0], lines.at)
                opened.pop()
            else:
                opened.append((name.removesuffix(">"), lines.at))

    def _holds(self, name: str, argument: str, at: Place) -> bool | None:
        """Whether a conditional section is read; True for all other sections."""
        negated = argument.startswith("!")
        subject = argument[1:] if negated else argument
        if name in ("<ifmodule", "<ifdefine", "<iffile") and not subject:
            raise _Stop(at, f"{name}> directive requires additional arguments")
        match name:
            case "<ifmodule":
                return (identifier(subject.strip("\"'")) in self.modules) != negated
            case "<ifdefine":
                return (subject in self.defines) != negated
            case "<iffile":
                found = self.source.exists(self.absolute(next_word(subject)[0]))
                return None if found is None else found != negated
            case "<ifversion":
                return self._version(argument, at)
            case "<ifdirective" | "<ifsection":
                return None
        return True

    def _version(self, argument: str, at: Place) -> bool | None:
        given = words(argument)
        operator, wanted = (given[0], given[1]) if len(given) > 1 else ("=", "".join(given))
        negated = operator.startswith("!")
        operator = operator.lstrip("!") or "="
        if operator == "~" or wanted.startswith("/"):
            return None
        if not re.fullmatch(r"\d+(\.\d+){0,2}", wanted):
            raise _Stop(at, f"{wanted} is no version number")
        mine = [int(part) for part in re.findall(r"\d+", self.version)[:3]]
        asked = [int(part) for part in wanted.split(".")]
        mine, asked = ([*v, 0, 0, 0][:3] for v in (mine, asked))
        results = {
            "=": mine == asked,
            "==": mine == asked,
            ">": mine > asked,
            ">=": mine >= asked,
            "<": mine < asked,
            "<=": mine <= asked,
        }
        if operator not in results:
            raise _Stop(at, f"{operator} is no comparison of versions")
        return results[operator] != negated


def _is_pattern(text: str) -> bool:
    return any(c in text for c in "*?[")


@lru_cache(maxsize=4096)
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(translate(pattern))


def _fits(pattern: str, name: str) -> bool:
    """fnmatch(3) with FNM_PERIOD, as the server matches names of files to include."""
    if name.startswith(".") and not pattern.startswith("."):
        return False
    return _compiled(pattern).match(name) is not None
