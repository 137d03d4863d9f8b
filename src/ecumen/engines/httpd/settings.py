"""Settings that hold per folder, and how sections of them are merged.

Source: httpd 2.4, "Configuration Sections: How the sections are merged"; the merge functions of
core, mod_mime, mod_dir and mod_authz_core.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields, replace
from operator import attrgetter
from typing import Any, TypeVar

from ecumen.engines.httpd.access import Access
from ecumen.engines.httpd.compat import Compat
from ecumen.engines.httpd.marks import Mark
from ecumen.engines.httpd.redirects import Redirect
from ecumen.engines.httpd.rewriting.rules import Rewriting
from ecumen.engines.httpd.typeheaders import TypeHeader
from ecumen.engines.tree import Directive, Place
from ecumen.patterns import Regex, compiled, shell_pattern

_K = TypeVar("_K")
_V = TypeVar("_V")
# (what is said here, what holds so far) -> what holds then
_Join = Callable[[Any, Any], Any]


class Opt:
    """What `Options` names: bits of a plain number, as every step of a walk asks for them."""

    NONE = 0
    INDEXES = 1
    INCLUDES = 2
    FOLLOW = 4
    OWNER_MATCH = 8
    EXEC = 16
    MULTI = 32
    INCLUDES_EXEC = 64


@dataclass(frozen=True, slots=True)
class Options:
    """bits are the whole set where `given`; added and removed are upon what is inherited."""

    bits: int = Opt.NONE
    given: bool = False
    added: int = Opt.NONE
    removed: int = Opt.NONE
    place: Place | None = None
    text: str = ""

    @property
    def left_over(self) -> bool:
        """Whether words with a sign stood in front of the whole set, in the same section: the set
        throws them away, and the next section that says nothing of it brings them back
        (core.c, set_options(), merge_core_dir_configs(); measured).
        """
        return self.given and bool(self.added | self.removed)

    def brought_back(self) -> Options:
        """Under a section that says nothing of options."""
        return replace(self, bits=self.bits & ~self.removed | self.added)

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
class Override:
    """What override files may say. classes: lower case; options: None for all of them.

    nonfatal: `override` for what is not allowed, `unknown` for what is no directive.
    """

    classes: frozenset[str]
    options: int | None = None
    nonfatal: frozenset[str] = frozenset()
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
            return None if pattern is None else pattern.fits(name)
        if not any(c in self.pattern for c in "*?[\\"):
            return self.pattern == name
        wild = shell_pattern(self.pattern, slashes_apart=False)
        return None if wild is None else wild.match(name) is not None


@dataclass(frozen=True, slots=True)
class Conditional:
    """A section that binds under a condition. kind: if, elseif or else; text: the condition."""

    kind: str
    text: str
    directive: Directive
    settings: Settings


@dataclass(frozen=True, slots=True)
class Upstream:
    """Addresses that are handed on. url: None where they are not, whatever follows."""

    fake: str
    url: str | None
    directive: Directive
    by_pattern: bool = False
    regex: Regex | None = None


def read_upstream(
    fake: str, directive: Directive, given: list[str], *, by_pattern: bool
) -> Upstream | None:
    """given: where it leads, and how; what concerns the connection alone is passed by. None: it is
    not evaluated.
    """
    plain = ("!", "nocanon", "interpolate", "noquery")
    if not given or any("=" not in word and word not in plain for word in given[1:]):
        return None
    url = None if given[0] == "!" else given[0]
    return Upstream(fake, url, directive, by_pattern, compiled(fake) if by_pattern else None)


@dataclass(slots=True, eq=False)
class Settings:
    """None, or an empty value: not said here. Never changed once made, and told apart by identity;
    not frozen, as making one would take five times as long, and a large server has many thousands.
    """

    options: Options | None = None
    override: Override | None = None
    override_list: frozenset[str] | None = None
    access: Access | None = None
    compat: Compat | None = None
    rewriting: Rewriting | None = None
    redirect: Redirect | None = None
    path_info: str | None = None
    fallback: Choice | None = None
    index: tuple[str, ...] | None = None
    index_place: Place | None = None
    slash: bool | None = None
    # The methods that are allowed, with blanks between them; "" for all.
    methods: Choice | None = None
    # The status by which visitors are sent to an index; 0 where it is served in place.
    index_sent: int | None = None
    # A maker of content that is set for a folder goes before its index.
    maker_first: bool | None = None
    # Missing names are looked for under others that are spelled much like them.
    spelling: bool | None = None
    spelling_by_case: bool | None = None
    spelling_by_stem: bool | None = None
    upstream: Upstream | None = None
    trace: Choice | None = None
    merged_slashes: Choice | None = None
    # The header in which proxies name the visitor.
    visitor_header: Choice | None = None
    sealed_only: Choice | None = None
    # Files are written to by methods of their own.
    shared: bool | None = None
    # What programs make of a type or a maker of content, and of a method.
    actions: Mapping[str, Directive] = field(default_factory=dict)
    # Endings count that stand behind a file, too.
    typed_by_rest: bool | None = None
    handler: Choice | None = None
    forced_type: Choice | None = None
    default_charset: Choice | None = None
    canonical: str | None = None
    slashes: str | None = None
    physical_port: bool | None = None
    redirect_relative: bool | None = None
    # Which files count among those that a name without its endings may mean.
    variants_by: Choice | None = None
    listing_type: str | None = None
    listing_charset: str | None = None
    auth_type: Choice | None = None
    auth_name: Choice | None = None
    endings: Mapping[str, Ending] = field(default_factory=dict)
    error_pages: Mapping[int, Directive] = field(default_factory=dict)
    expires: bool | None = None
    expires_default: Choice | None = None
    expires_types: Mapping[str, Choice] = field(default_factory=dict)
    cache_control: Choice | None = None
    etag: str | None = None
    taken_off: frozenset[str] | None = None
    type_headers: tuple[TypeHeader, ...] = ()
    redirects: tuple[Redirect, ...] = ()
    files: tuple[FileSection, ...] = ()
    conditionals: tuple[Conditional, ...] = ()
    marks: tuple[Mark, ...] = ()
    unread: tuple[Directive, ...] = ()

    _told: list[tuple[int, Any, _Join | None]] | None = field(default=None, init=False)

    @property
    def index_names(self) -> tuple[str, ...]:
        """The names that are tried for a folder, in order."""
        return ("index.html",) if self.index is None else self.index

    @property
    def bits(self) -> int:
        """The options that hold, as bits of `Opt`."""
        return Opt.NONE if self.options is None else self.options.bits

    @property
    def listing_kind(self) -> str:
        """The content type of a folder's listing."""
        return f"{self.listing_type or 'text/html'};charset={self.listing_charset or 'ISO-8859-1'}"

    @property
    def auth_kind(self) -> str | None:
        """The way to sign in; None where there is none."""
        kind = None if self.auth_type is None else self.auth_type.value.lower()
        return None if kind == "none" else kind

    def with_rules(self, rules: Rewriting | None) -> Settings:
        """The same with other rules of rewriting."""
        values = list(_values(self))
        values[_RULES] = rules
        return Settings(*values)

    def with_options(self, options: Options) -> Settings:
        """The same with other options."""
        values = list(_values(self))
        values[_OPTIONS] = options
        return Settings(*values)

    def over(self, base: Settings) -> Settings:
        """These settings upon `base`, as a later section upon an earlier one."""
        if base is EMPTY:
            return self
        if self._told is None:
            # An empty list is said where it replaces another, and nothing where it is added to it.
            self._told = [
                (at, mine, join)
                for at, mine, join in zip(_PLACES, _values(self), _JOINING, strict=True)
                if mine is not None and (join is None or mine)
            ]
        merged = list(_values(base))
        for at, mine, join in self._told:
            theirs = merged[at]
            merged[at] = mine if join is None or theirs is None else join(mine, theirs)
        if self.options is None and base.options is not None and base.options.left_over:
            merged[_OPTIONS] = base.options.brought_back()
        return Settings(*merged)


def _over(mine: Any, theirs: Any) -> Any:
    return mine.over(theirs)


def _mapped(mine: Mapping[_K, _V], theirs: Mapping[_K, _V]) -> Mapping[_K, _V]:
    return {**theirs, **mine}


def _behind(mine: tuple[_V, ...], theirs: tuple[_V, ...]) -> tuple[_V, ...]:
    return theirs + mine


def _before(mine: tuple[_V, ...], theirs: tuple[_V, ...]) -> tuple[_V, ...]:
    return mine + theirs


def _endings_over(mine: Mapping[str, Ending], theirs: Mapping[str, Ending]) -> Mapping[str, Ending]:
    merged = dict(theirs)
    for ending, means in mine.items():
        merged[ending] = means.over(merged[ending]) if ending in merged else means
    return merged


# What is not simply replaced by the later section.
_JOINS: Mapping[str, _Join] = {
    **dict.fromkeys(("options", "access", "rewriting"), _over),
    **dict.fromkeys(("files", "conditionals", "marks", "unread", "type_headers"), _behind),
    **dict.fromkeys(("expires_types", "error_pages", "actions"), _mapped),
    "redirects": _before,
    "endings": _endings_over,
    "taken_off": frozenset.union,
}
_NAMES = tuple(f.name for f in fields(Settings) if f.init)
_RULES = _NAMES.index("rewriting")
_OPTIONS = _NAMES.index("options")
_PLACES = range(len(_NAMES))
_JOINING = tuple(_JOINS.get(name) for name in _NAMES)
_values = attrgetter(*_NAMES)
EMPTY = Settings()
