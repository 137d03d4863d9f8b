"""Which logs there are by the configuration, in which form, and whose lines they hold."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from functools import cache

from ecumen.audit.names import claimed_by_pattern
from ecumen.audit.scene import Scene, Site
from ecumen.logs.ledger import Books, books_of
from ecumen.logs.template import TemplateError, line_format


class SourceKind(StrEnum):
    ACCESS = "access"
    ERROR = "error"


@dataclass(frozen=True, slots=True)
class LogOfSites:
    """One log. templates: of its lines, none for an error log. trouble: why it cannot be read, ""
    where it can.

    sites: that write it. books: whose each line is; None for an error log.
    """

    path: str
    kind: SourceKind
    engine: str
    templates: tuple[str, ...]
    sites: tuple[Site, ...]
    books: Books | None = None
    trouble: str = ""


def shared_key(path: str) -> str:
    """Whose the lines of a log are that several sites write and that do not say it."""
    return f"log {path}"


def sources(scene: Scene) -> list[LogOfSites]:
    """Every log that a site names, access logs first."""
    return scene.once("log sources", _sources)


def _sources(scene: Scene) -> list[LogOfSites]:
    by_log: dict[tuple[str, str], list[Site]] = defaultdict(list)
    errors: dict[tuple[str, str], list[Site]] = defaultdict(list)
    for site in scene.hosts:
        summary = site.summary
        if summary.log is not None and summary.kept is not None and not summary.behind:
            by_log[summary.log, site.engine.kind].append(site)
        if summary.errors is not None:
            errors[summary.errors, site.engine.kind].append(site)
    own = _names(scene)
    unclaimed = _unclaimed(scene, own)
    found = [
        _access(path, engine, writers, own, unclaimed) for (path, engine), writers in by_log.items()
    ]
    found += [
        LogOfSites(path, SourceKind.ERROR, engine, (), tuple(writers), trouble=_place(path))
        for (path, engine), writers in errors.items()
    ]
    return found


def _access(
    path: str,
    engine: str,
    writers: list[Site],
    own: dict[bytes, frozenset[str]],
    unclaimed: Callable[[str], bool],
) -> LogOfSites:
    trouble = _place(path)
    # Two sites may write one log, each in a form of its own.
    templates = tuple(dict.fromkeys(s.summary.kept.template for s in writers if s.summary.kept))
    try:
        for template in templates:
            line_format(template)
    except TemplateError as error:
        trouble = trouble or str(error)
    # Twins of one name and root are one site to their visitors.
    one = {site.subject for site in writers}
    key = one.pop() if len(one) == 1 else shared_key(path)
    names: dict[bytes, bytes] = {}
    for site in writers:
        for name in (site.name, *site.summary.names):
            names.setdefault(_bytes(name), _bytes(site.subject))
    books = books_of(_bytes(key), names, own, unclaimed)
    return LogOfSites(path, SourceKind.ACCESS, engine, templates, tuple(writers), books, trouble)


def _unclaimed(scene: Scene, own: dict[bytes, frozenset[str]]) -> Callable[[str], bool]:
    """Whether no site claims a name, not even by a wildcard; addresses are nobody's name."""
    claimed = frozenset().union(*own.values()) if own else frozenset()

    @cache
    def unclaimed(name: str) -> bool:
        if name in claimed or name.startswith("[") or name.replace(".", "").isdecimal():
            return False
        return not claimed_by_pattern(scene, name)

    return unclaimed


def _place(path: str) -> str:
    if path.startswith("|"):
        return "its lines go to a program"
    if path.startswith("syslog:"):
        return "its lines go to the system's log"
    if "$" in path or not path.startswith("/"):
        return "its path is made anew for each request"
    return ""


def _names(scene: Scene) -> dict[bytes, frozenset[str]]:
    """By site: the names that it claims, in lower case."""
    found: dict[bytes, set[str]] = defaultdict(set)
    for site in scene.hosts:
        names = {name.lower() for name in (site.name, *site.summary.names)}
        found[_bytes(site.subject)] |= names | set(scene.own_addresses)
    return {key: frozenset(names) for key, names in found.items()}


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")
