"""Settings that hold per folder, and how sections of them are merged.

Source: httpd 2.4, "Configuration Sections: How the sections are merged"; the merge functions of
core, mod_mime, mod_dir and mod_authz_core.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from enum import IntFlag

from ecumen.engines.httpd.access import Access, access_of, is_access
from ecumen.engines.httpd.catalogue import leaves_answer
from ecumen.engines.httpd.lexer import words
from ecumen.engines.patterns import compiled, found, shell_pattern
from ecumen.engines.tree import Directive, Place


class Opt(IntFlag):
    """What `Options` names."""

    NONE = 0
    INDEXES = 1
    INCLUDES = 2
    FOLLOW = 4
    OWNER_MATCH = 8
    EXEC = 16
    MULTI = 32
    INCLUDES_EXEC = 64


_OPTION_WORDS = {
    "indexes": Opt.INDEXES,
    "includes": Opt.INCLUDES | Opt.INCLUDES_EXEC,
    "includesnoexec": Opt.INCLUDES,
    "followsymlinks": Opt.FOLLOW,
    "symlinksifownermatch": Opt.OWNER_MATCH,
    "execcgi": Opt.EXEC,
    "multiviews": Opt.MULTI,
    "none": Opt.NONE,
    "all": Opt.INDEXES | Opt.INCLUDES | Opt.INCLUDES_EXEC | Opt.FOLLOW | Opt.EXEC,
}


@dataclass(frozen=True, slots=True)
class Options:
    """bits are the whole set where `given`; added and removed are upon what is inherited."""

    bits: Opt = Opt.NONE
    given: bool = False
    added: Opt = Opt.NONE
    removed: Opt = Opt.NONE
    place: Place | None = None
    text: str = ""

    def over(self, base: Options) -> Options:
        if self.given:
            return self
        added = base.added & ~self.removed | self.added
        removed = base.removed & ~self.added | self.removed
        bits = base.bits & ~removed | added
        return Options(bits, base.given, added, removed, self.place, self.text)


@dataclass(frozen=True, slots=True)
class Ending:
    """What one file-name ending means. None: not said; "" : taken back."""

    type: str | None = None
    charset: str | None = None
    language: str | None = None
    encoding: str | None = None
    handler: str | None = None
    filter: str | None = None
    place: Place | None = None

    def over(self, base: Ending) -> Ending:
        return Ending(
            *(
                mine if mine is not None else theirs
                for mine, theirs in (
                    (getattr(self, f.name), getattr(base, f.name)) for f in fields(self)
                )
            )
        )


@dataclass(frozen=True, slots=True)
class Choice:
    """A value with the line that it comes from."""

    value: str
    place: Place | None = None
    text: str = ""


@dataclass(frozen=True, slots=True)
class FileSection:
    """A section on file names within a folder (or the whole server)."""

    pattern: str
    regex: bool
    directive: Directive
    settings: Settings

    def fits(self, name: str) -> bool | None:
        """Whether it binds a file of this name; None where the pattern is not evaluated."""
        if self.regex:
            pattern = compiled(self.pattern)
            return None if pattern is None else found(pattern, name)
        if not any(c in self.pattern for c in "*?[\\"):
            return self.pattern == name
        wild = shell_pattern(self.pattern, slashes_apart=False)
        return None if wild is None else wild.match(name) is not None


@dataclass(frozen=True, slots=True)
class Settings:
    """None, or an empty value: not said here."""

    options: Options | None = None
    override: Choice | None = None
    access: Access | None = None
    index: tuple[str, ...] | None = None
    index_place: Place | None = None
    slash: bool | None = None
    handler: Choice | None = None
    forced_type: Choice | None = None
    default_charset: Choice | None = None
    canonical: str | None = None
    physical_port: bool | None = None
    listing_type: str | None = None
    listing_charset: str | None = None
    auth_type: Choice | None = None
    auth_name: Choice | None = None
    endings: Mapping[str, Ending] = field(default_factory=dict)
    error_pages: Mapping[int, Directive] = field(default_factory=dict)
    files: tuple[FileSection, ...] = ()
    unread: tuple[Directive, ...] = ()

    def over(self, base: Settings) -> Settings:
        """These settings upon `base`, as a later section upon an earlier one."""
        if base is EMPTY:
            return self
        merged = {
            f.name: getattr(self, f.name)
            if getattr(self, f.name) is not None
            else getattr(base, f.name)
            for f in fields(self)
        }
        merged["files"] = base.files + self.files
        merged["unread"] = base.unread + self.unread
        merged["error_pages"] = {**base.error_pages, **self.error_pages}
        merged["endings"] = _endings_over(self.endings, base.endings)
        if self.options is not None and base.options is not None:
            merged["options"] = self.options.over(base.options)
        if self.access is not None and base.access is not None:
            merged["access"] = self.access.over(base.access)
        return Settings(**merged)


EMPTY = Settings()


def _endings_over(mine: Mapping[str, Ending], base: Mapping[str, Ending]) -> Mapping[str, Ending]:
    if not mine or not base:
        return mine or base
    merged = dict(base)
    for ending, means in mine.items():
        merged[ending] = means.over(merged[ending]) if ending in merged else means
    return merged


# --- one section's directives ---


class Draft:
    """Gathers the directives of one section."""

    def __init__(self) -> None:
        self.values: dict[str, object] = {}
        self.endings: dict[str, Ending] = {}
        self.errors: dict[int, Directive] = {}
        self.files: list[FileSection] = []
        self.access: list[Directive] = []
        self.unread: list[Directive] = []

    def take(self, directive: Directive) -> bool:
        """Takes a directive that holds per folder. False: it is none."""
        name = directive.name.lower()
        if is_access(name):
            self.access.append(directive)
        elif name in ("<files", "<filesmatch"):
            self._files(directive, name == "<filesmatch")
        elif name in _TAKERS:
            _TAKERS[name](self, directive, words(directive.text))
        else:
            return False
        return True

    def settings(self) -> Settings:
        values = dict(self.values)
        if self.access:
            values["access"] = access_of(self.access)
        return Settings(
            **values,  # type: ignore[arg-type]
            endings=self.endings,
            error_pages=self.errors,
            files=tuple(self.files),
            unread=tuple(self.unread),
        )

    def _files(self, directive: Directive, regex: bool) -> None:
        given = words(directive.text)
        if given and given[0] == "~":
            regex, given = True, given[1:]
        if not given:
            self.unread.append(directive)
            return
        inner = section_settings(directive.children or ())
        self.files.append(FileSection(given[0], regex, directive, inner))

    def options(self, directive: Directive, given: list[str]) -> None:
        before = self.values.get("options")
        now = before if isinstance(before, Options) else Options()
        bits, whole, added, removed = now.bits, now.given, now.added, now.removed
        first = True
        for word in given:
            sign = word[0] if word[0] in "+-" else ""
            option = _OPTION_WORDS.get(word.lstrip("+-").lower() if sign else word.lower())
            if option is None:
                self.unread.append(directive)
                return
            if not sign and first:
                bits, whole, first = Opt.NONE, True, False
            if sign == "-":
                removed, added, bits = removed | option, added & ~option, bits & ~option
            elif sign == "+":
                added, removed, bits = added | option, removed & ~option, bits | option
            else:
                bits |= option
        self.values["options"] = Options(
            bits, whole, added, removed, directive.place, directive.quoted
        )

    def error_page(self, directive: Directive, given: list[str]) -> None:
        if given and given[0].isdigit():
            self.errors[int(given[0])] = directive
        else:
            self.unread.append(directive)

    def index(self, directive: Directive, given: list[str]) -> None:
        before = self.values.get("index")
        names = before if isinstance(before, tuple) else ()
        alone = len(given) == 1 and given[0].lower() == "disabled"
        self.values["index"] = () if alone else (*names, *given)
        self.values["index_place"] = directive.place

    def listing(self, directive: Directive, given: list[str]) -> None:
        for word in given:
            key, equals, value = word.partition("=")
            if equals and key.lower() == "type":
                self.values["listing_type"] = value
            elif equals and key.lower() == "charset":
                self.values["listing_charset"] = value

    def header(self, directive: Directive, given: list[str]) -> None:
        """Response headers matter only where they are ours to predict."""
        text = directive.text.lower()
        if "content-type" in text or "location" in text or "expr=" in text:
            self.unread.append(directive)

    def ending(self, attribute: str, directive: Directive, given: list[str]) -> None:
        if len(given) < 2:
            self.unread.append(directive)
            return
        # Types, languages and the rest are compared in lower case.
        value = given[0] if attribute == "handler" else given[0].lower()
        for name in given[1:]:
            self._note(name, attribute, value, directive.place)

    def no_ending(self, attribute: str, directive: Directive, given: list[str]) -> None:
        for name in given:
            self._note(name, attribute, "", directive.place)

    def _note(self, name: str, attribute: str, value: str, place: Place) -> None:
        key = name.removeprefix(".").lower()
        before = self.endings.get(key, Ending())
        self.endings[key] = replace(before, **{attribute: value, "place": place})  # type: ignore[arg-type]


_Taker = Callable[[Draft, Directive, list[str]], None]


def _choice(attribute: str) -> _Taker:
    def take(draft: Draft, directive: Directive, given: list[str]) -> None:
        value = " ".join(given)
        draft.values[attribute] = Choice(value, directive.place, directive.quoted)

    return take


def _lowered(attribute: str) -> _Taker:
    def take(draft: Draft, directive: Directive, given: list[str]) -> None:
        value = " ".join(given).lower()
        draft.values[attribute] = Choice(value, directive.place, directive.quoted)

    return take


def _flag(attribute: str) -> _Taker:
    def take(draft: Draft, directive: Directive, given: list[str]) -> None:
        word = given[0].lower() if given else ""
        if word not in ("on", "off"):
            draft.unread.append(directive)
            return
        draft.values[attribute] = word == "on"

    return take


def _canonical(draft: Draft, directive: Directive, given: list[str]) -> None:
    word = given[0].lower() if given else ""
    if word not in ("on", "off"):
        draft.unread.append(directive)
        return
    draft.values["canonical"] = word


def _ending(attribute: str) -> _Taker:
    return lambda draft, directive, given: draft.ending(attribute, directive, given)


def _no_ending(attribute: str) -> _Taker:
    return lambda draft, directive, given: draft.no_ending(attribute, directive, given)


_TAKERS: dict[str, _Taker] = {
    "options": Draft.options,
    "allowoverride": _choice("override"),
    "directoryindex": Draft.index,
    "directoryslash": _flag("slash"),
    "sethandler": _choice("handler"),
    "forcetype": _lowered("forced_type"),
    "adddefaultcharset": _choice("default_charset"),
    "usecanonicalname": _canonical,
    "usecanonicalphysicalport": _flag("physical_port"),
    "indexoptions": Draft.listing,
    "errordocument": Draft.error_page,
    "header": Draft.header,
    "authtype": _choice("auth_type"),
    "authname": _choice("auth_name"),
    "addtype": _ending("type"),
    "addcharset": _ending("charset"),
    "addlanguage": _ending("language"),
    "addencoding": _ending("encoding"),
    "addhandler": _ending("handler"),
    "addoutputfilter": _ending("filter"),
    "addinputfilter": _ending("filter"),
    "removetype": _no_ending("type"),
    "removecharset": _no_ending("charset"),
    "removelanguage": _no_ending("language"),
    "removeencoding": _no_ending("encoding"),
    "removehandler": _no_ending("handler"),
}


def flat(directives: Sequence[Directive]) -> list[Directive]:
    """Directives with the conditional sections that hold opened up.

    A conditional section of which that cannot be told stays as it is.
    """
    found: list[Directive] = []
    for directive in directives:
        conditional = directive.name.lower() in CONDITIONAL
        if conditional and directive.taken is False:
            continue
        if conditional and directive.taken:
            found += flat(directive.children or ())
        else:
            found.append(directive)
    return found


CONDITIONAL = frozenset(
    ("<ifmodule", "<ifdefine", "<iffile", "<ifversion", "<ifdirective", "<ifsection")
)


def section_settings(directives: Sequence[Directive]) -> Settings:
    """The settings of one section. What is not evaluated is kept in `unread`."""
    draft = Draft()
    for directive in flat(directives):
        name = directive.name.lower()
        if draft.take(directive) or leaves_answer(name):
            continue
        draft.unread.append(directive)
    return draft.settings()
