"""Which location takes an address.

Source: nginx, ngx_http_core_module ("location").
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from ecumen.engines.nginx.config import Conf
from ecumen.patterns import Hit, PatternFailsError, Regex, TooCostly


@dataclass(slots=True)
class Location:
    """kind: exact, prefix, stop (a prefix that keeps patterns from being tried), pattern, named."""

    kind: str
    name: str
    conf: Conf
    regex: Regex | None = None
    inner: Locations | None = None
    adds_slash: bool = False

    @property
    def title(self) -> str:
        return self.conf.title


@dataclass(slots=True)
class FoundLocation:
    """location: None where the server itself takes the address. sent: the address lacks a slash.

    weighed: those that were tried, in order, and what came of each. fails: the one on whose pattern
    the engine gives up.
    """

    location: Location | None
    hit: Hit | None = None
    sent: bool = False
    weighed: list[tuple[Location, str]] = field(default_factory=list)
    unknown: Location | None = None
    fails: Location | None = None


@dataclass(slots=True)
class Locations:
    """The locations of a server, or those within another one."""

    exact: dict[str, Location] = field(default_factory=dict)
    prefixes: dict[str, Location] = field(default_factory=dict)
    patterns: list[Location] = field(default_factory=list)
    named: dict[str, Location] = field(default_factory=dict)
    lengths: tuple[int, ...] = ()

    def add(self, location: Location) -> None:
        match location.kind:
            case "exact":
                self.exact[location.name] = location
            case "pattern":
                self.patterns.append(location)
            case "named":
                self.named[location.name] = location
            case _:
                self.prefixes[location.name] = location
                self.lengths = tuple(sorted({len(name) for name in self.prefixes}, reverse=True))

    def find(self, path: str) -> FoundLocation:
        """path: decoded. Never raises."""
        found = FoundLocation(None)
        self._find(path, found)
        return found

    def all(self) -> Iterator[Location]:
        for group in (self.exact.values(), self.prefixes.values(), self.patterns):
            for location in group:
                yield location
                if location.inner is not None:
                    yield from location.inner.all()
        yield from self.named.values()

    def _find(self, path: str, found: FoundLocation) -> bool:
        """Whether the search is over: an exact one, a pattern or a missing slash."""
        exact = self.exact.get(path)
        if exact is not None:
            found.location = exact
            found.weighed.append((exact, "won"))
            return True
        longest = None
        for length in self.lengths:
            longest = self.prefixes.get(path[:length]) if length <= len(path) else None
            if longest is not None:
                break
        if longest is None or longest.name != path:
            slashed = self.exact.get(f"{path}/") or self.prefixes.get(f"{path}/")
            if slashed is not None and slashed.adds_slash:
                found.location, found.sent = slashed, True
                found.weighed.append((slashed, "won"))
                return True
        if longest is not None:
            found.location = longest
            found.weighed.append((longest, "longest"))
            if longest.inner is not None and longest.inner._find(path, found):
                return True
            if longest.kind == "stop":
                return False
        return self._by_pattern(path, found)

    def _by_pattern(self, path: str, found: FoundLocation) -> bool:
        for location in self.patterns:
            try:
                if location.regex is None:
                    raise TooCostly(location.name)
                hit = location.regex.search(path)
            except PatternFailsError:
                found.location, found.hit, found.fails = None, None, location
                return True
            except TooCostly:
                found.unknown = found.unknown or location
                continue
            if hit is None:
                found.weighed.append((location, "other"))
                continue
            found.location, found.hit = location, hit
            found.weighed.append((location, "won"))
            if location.inner is not None:
                location.inner._find(path, found)
            return True
        return False
