"""Settings that hold per folder, and how sections of them are merged.

Source: httpd 2.4, "Configuration Sections: How the sections are merged"; the merge functions of
core, mod_mime, mod_dir and mod_authz_core.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from operator import attrgetter

from ecumen.engines.httpd.access import Access
from ecumen.engines.httpd.compat import Compat
from ecumen.engines.httpd.redirects import Redirect
from ecumen.engines.httpd.rewriting.rules import Rewriting
from ecumen.engines.tree import Directive, Place
from ecumen.patterns import compiled, shell_pattern


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
class Settings:
    """None, or an empty value: not said here."""

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
    handler: Choice | None = None
    forced_type: Choice | None = None
    default_charset: Choice | None = None
    canonical: str | None = None
    slashes: str | None = None
    physical_port: bool | None = None
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
    redirects: tuple[Redirect, ...] = ()
    files: tuple[FileSection, ...] = ()
    conditionals: tuple[Conditional, ...] = ()
    unread: tuple[Directive, ...] = ()

    def over(self, base: Settings) -> Settings:
        """These settings upon `base`, as a later section upon an earlier one."""
        if base is EMPTY:
            return self
        both = zip(_NAMES, _values(self), _values(base), strict=True)
        merged = {name: theirs if mine is None else mine for name, mine, theirs in both}
        merged["files"] = base.files + self.files
        merged["conditionals"] = base.conditionals + self.conditionals
        merged["unread"] = base.unread + self.unread
        merged["expires_types"] = {**base.expires_types, **self.expires_types}
        merged["redirects"] = self.redirects + base.redirects
        merged["error_pages"] = {**base.error_pages, **self.error_pages}
        merged["endings"] = _endings_over(self.endings, base.endings)
        if self.taken_off is not None and base.taken_off is not None:
            merged["taken_off"] = self.taken_off | base.taken_off
        if self.options is not None and base.options is not None:
            merged["options"] = self.options.over(base.options)
        if self.access is not None and base.access is not None:
            merged["access"] = self.access.over(base.access)
        if self.rewriting is not None and base.rewriting is not None:
            merged["rewriting"] = self.rewriting.over(base.rewriting)
        return Settings(**merged)


_NAMES = tuple(f.name for f in fields(Settings))
_values = attrgetter(*_NAMES)
EMPTY = Settings()


def _endings_over(mine: Mapping[str, Ending], base: Mapping[str, Ending]) -> Mapping[str, Ending]:
    if not mine or not base:
        return mine or base
    merged = dict(base)
    for ending, means in mine.items():
        merged[ending] = means.over(merged[ending]) if ending in merged else means
    return merged
