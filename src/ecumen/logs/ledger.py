"""Adds entries of access logs up: by hour and what they are about, visits, and failures.

Everything that is kept is a sum, so that what comes later is added to what is there.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Generic, NamedTuple, TypeVar

import numpy as np
import numpy.typing as npt

from ecumen.logs.agents import agent_of
from ecumen.logs.entry import LogEntry
from ecumen.logs.kinds import kind_of, referrer_of

HOUR = 3600
GAP = 1800  # seconds after which a visitor who comes again makes another visit
ALL = b""  # in place of a site: all of them together

T = TypeVar("T", bound=Hashable)
Ints = npt.NDArray[np.int64]


class Dim(IntEnum):
    """What a sum is about. Its key is a text, or several with NUL between them: REFERRER where
    from, and from whom; AGENT family and system; SHAPE kind, method and protocol; STEP two pages;
    ASTRAY what is not there, and the page that led to it.
    """

    ALL = 0
    PAGE = 1
    REFERRER = 2
    AGENT = 3
    CLIENT = 4
    SHAPE = 5
    HOST = 6
    STEP = 7
    ASTRAY = 8


# Of these there are few, so that they are kept for all sites together too.
_TOGETHER = frozenset((Dim.ALL, Dim.REFERRER, Dim.AGENT, Dim.SHAPE))


class Sum(NamedTuple):
    """hour: since 1970, UTC. status: of the answer; its hundreds alone for most dimensions.

    first, last: moments; longest: milliseconds, -1 where no line says it; largest: bytes.
    """

    site: bytes
    dim: int
    hour: int
    key: bytes
    status: int
    automatic: bool
    requests: int
    size: int
    first: int
    last: int
    longest: int
    largest: int


class Visit(NamedTuple):
    """One visitor at one site without a long pause. entry, exit: the first and last page."""

    site: bytes
    client: bytes
    agent: bytes
    automatic: bool
    begin: int
    end: int
    requests: int
    pages: int
    entry: bytes
    exit: bytes
    origin_kind: str
    origin: bytes


class Failure(NamedTuple):
    """Requests that failed, or that were for a name which no site claims, of one visitor in one
    hour. host: as asked for, where the line says it.
    """

    site: bytes
    hour: int
    method: bytes
    path: bytes
    host: bytes
    status: int
    client: bytes
    requests: int
    first: int
    last: int


@dataclass(slots=True)
class Ledger:
    """What some entries add up to."""

    entries: int = 0
    first: int = 0
    last: int = 0
    zone: int = 0
    sums: list[Sum] = field(default_factory=list)
    visits: list[Visit] = field(default_factory=list)
    failures: list[Failure] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Books:
    """Whose lines a log holds. site: by the site's name and the name asked for that a line gives,
    each b"" where it gives none.

    own: the names of a site; strange: whether a site is asked for by a name that nobody claims.
    """

    site: Callable[[bytes, bytes], bytes]
    own: Callable[[bytes], frozenset[str]]
    strange: Callable[[bytes, bytes], bool]


class _Numbers(Generic[T]):
    """Numbers for values, in the order in which they come."""

    def __init__(self) -> None:
        self.number: dict[T, int] = {}

    def of(self, values: Iterator[T]) -> Ints:
        number = self.number
        return np.fromiter((number.setdefault(v, len(number)) for v in values), dtype=np.int64)

    @property
    def values(self) -> list[T]:
        return list(self.number)


def ledger_of(entries: Sequence[LogEntry], books: Books) -> Ledger:
    """Adds up the entries of one log, in any order."""
    if not entries:
        return Ledger()
    return _Adding(entries, books).whole()


class _Adding:
    """The columns of some entries. Each text is looked at once."""

    def __init__(self, entries: Sequence[LogEntry], books: Books) -> None:
        self.entries = entries
        self.at = np.fromiter((e.at for e in entries), dtype=np.int64)
        self.hour = self.at // HOUR
        self.status = np.fromiter((e.status for e in entries), dtype=np.int64)
        self.size = np.fromiter((e.size for e in entries), dtype=np.int64)
        self.took = np.fromiter((e.took for e in entries), dtype=np.int64)
        self.books = books
        named = _Numbers[tuple[bytes, bytes]]()
        by_name = named.of((e.site, e.host) for e in entries)
        keys = _Numbers[bytes]()
        self.site = keys.of(books.site(*names) for names in named.values)[by_name]
        self.sites = keys.values
        self.client, self.clients = _numbered(e.client for e in entries)
        self.path, self.paths = _numbered(e.path for e in entries)
        self.agent, self.agents = _numbered(e.agent for e in entries)
        self.referrer, self.referrers = _numbered(e.referrer for e in entries)
        self.method, self.methods = _numbered(e.method for e in entries)
        self.host, self.hosts = _numbered(e.host for e in entries)
        told = [agent_of(_text(text)) for text in self.agents]
        self.automatic = np.array([each.automatic for each in told], dtype=bool)[self.agent]
        self.programs = [f"{each.family}\0{each.system}".encode() for each in told]
        self.kinds = [kind_of(_text(path)).encode() for path in self.paths]
        good = (self.status // 100 == 2) | (self.status == 304)
        is_page = np.array([kind == b"page" for kind in self.kinds], dtype=bool)[self.path]
        asked = np.array([method in (b"GET", b"POST") for method in self.methods], dtype=bool)
        self.page = good & is_page & asked[self.method]
        self._origins()

    def _origins(self) -> None:
        """Where each entry came from, by the names of its site."""
        pairs, of = np.unique(self.site * len(self.referrers) + self.referrer, return_inverse=True)
        own = [self.books.own(site) for site in self.sites]
        found = [
            referrer_of(_text(self.referrers[pair % len(self.referrers)]),
                        own[pair // len(self.referrers)])
            for pair in pairs.tolist()
        ]  # fmt: skip
        self.origin = of
        self.origin_kinds = [kind for kind, _ in found]
        self.origin_texts = [_bytes(text) for _, text in found]

    def whole(self) -> Ledger:
        visits, steps = self._visits()
        return Ledger(
            entries=len(self.entries),
            first=int(self.at.min()),
            last=int(self.at.max()),
            zone=self.entries[-1].zone,
            sums=[*self._sums(), *steps],
            visits=visits,
            failures=self._failures(),
        )

    # --- sums ---

    def _sums(self) -> Iterator[Sum]:
        everything = np.zeros(len(self.at), dtype=np.int64)
        all_true = np.ones(len(self.at), dtype=bool)
        classes = self.status // 100 * 100
        yield from self._summed(Dim.ALL, everything, [b""], all_true, self.status)
        asked = np.array([bool(path) for path in self.paths], dtype=bool)[self.path]
        # Pages, and whatever fails; what pages are made of is told by its kind.
        shown = asked & (self.page | (self.status >= 400))
        yield from self._summed(Dim.PAGE, self.path, self.paths, shown, self.status)
        origins = [
            kind.encode() + b"\0" + (text if kind in ("outside", "search") else b"")
            for kind, text in zip(self.origin_kinds, self.origin_texts, strict=True)
        ]
        yield from self._summed(Dim.REFERRER, self.origin, origins, self.page, classes)
        yield from self._summed(Dim.AGENT, self.agent, self.programs, all_true, classes)
        yield from self._summed(Dim.CLIENT, self.client, self.clients, all_true, classes)
        shape, shapes = self._shapes()
        yield from self._summed(Dim.SHAPE, shape, shapes, asked, classes)
        led, trails = self._trails()
        told = np.array([referrer not in (b"", b"-") for referrer in self.referrers])[self.referrer]
        gone = (self.status == 404) | (self.status == 410)
        yield from self._summed(Dim.ASTRAY, led, trails, asked & gone & told, self.status)
        named = np.array([bool(host) for host in self.hosts], dtype=bool)[self.host]
        yield from self._summed(Dim.HOST, self.host, self.hosts, named, classes)

    def _trails(self) -> tuple[Ints, list[bytes]]:
        """What was asked for, and the page that led there."""
        many = len(self.referrers)
        values, of = np.unique(self.path * many + self.referrer, return_inverse=True)
        return of, [
            self.paths[v // many] + b"\0" + self.referrers[v % many].partition(b"?")[0]
            for v in values.tolist()
        ]

    def _shapes(self) -> tuple[Ints, list[bytes]]:
        """The kind of what was asked for, how, and by which protocol."""
        protocol, protocols = _numbered(e.protocol for e in self.entries)
        many, more = len(self.methods), len(protocols)
        values, of = np.unique(
            (self.path * many + self.method) * more + protocol, return_inverse=True
        )
        return of, [
            b"\0".join((self.kinds[v // more // many], self.methods[v // more % many],
                        protocols[v % more]))
            for v in values.tolist()
        ]  # fmt: skip

    def _summed(
        self, dim: Dim, of: Ints, texts: Sequence[bytes], where: npt.NDArray[np.bool_], status: Ints
    ) -> Iterator[Sum]:
        if not where.any():
            return
        # Several numbers may stand for one text.
        same = _Numbers[bytes]()
        key = same.of(iter(texts))[of]
        yield from self._rows(dim, self.site, self.sites, key, same.values, where, status)
        if dim in _TOGETHER and len(self.sites):
            nobody = np.zeros(len(self.at), dtype=np.int64)
            yield from self._rows(dim, nobody, [ALL], key, same.values, where, status)

    def _rows(
        self, dim: Dim, site: Ints, sites: Sequence[bytes], key: Ints, texts: Sequence[bytes],
        where: npt.NDArray[np.bool_], status: Ints,
    ) -> Iterator[Sum]:  # fmt: skip
        group = _grouped(
            [a[where] for a in (site, self.hour, key, status, self.automatic.astype(np.int64))]
        )
        at, size = self.at[where][group.order], self.size[where][group.order]
        took = self.took[where][group.order]
        columns = [column.tolist() for column in group.keys]
        for s, h, k, code, auto, n, total, first, last, longest, largest in zip(
            *columns,
            group.counts.tolist(),
            np.add.reduceat(size, group.starts).tolist(),
            np.minimum.reduceat(at, group.starts).tolist(),
            np.maximum.reduceat(at, group.starts).tolist(),
            np.maximum.reduceat(took, group.starts).tolist(),
            np.maximum.reduceat(size, group.starts).tolist(),
            strict=True,
        ):
            yield Sum(sites[s], int(dim), h, texts[k], code, bool(auto), n, total, first, last,
                      longest, largest)  # fmt: skip

    # --- failures ---

    def _failures(self) -> list[Failure]:
        pairs, of = np.unique(self.site * len(self.hosts) + self.host, return_inverse=True)
        strange = np.array(
            [
                self.books.strange(
                    self.sites[p // len(self.hosts)], self.hosts[p % len(self.hosts)]
                )
                for p in pairs.tolist()
            ]
        )[of]
        where = (self.status >= 400) | strange
        if not where.any():
            return []
        columns = (self.site, self.hour, self.method, self.path, self.host, self.status,
                   self.client)  # fmt: skip
        group = _grouped([column[where] for column in columns])
        at = self.at[where][group.order]
        rows = zip(
            *[column.tolist() for column in group.keys],
            group.counts.tolist(),
            np.minimum.reduceat(at, group.starts).tolist(),
            np.maximum.reduceat(at, group.starts).tolist(),
            strict=True,
        )
        return [
            Failure(self.sites[s], h, self.methods[m], self.paths[p], self.hosts[o], code,
                    self.clients[c], n, first, last)
            for s, h, m, p, o, code, c, n, first, last in rows
        ]  # fmt: skip

    # --- visits, and the way through the pages ---

    def _visits(self) -> tuple[list[Visit], list[Sum]]:
        order = np.lexsort((self.at, self.agent, self.client, self.site))
        site, client, agent = self.site[order], self.client[order], self.agent[order]
        at, page, path = self.at[order], self.page[order], self.path[order]
        new = np.ones(len(order), dtype=bool)
        new[1:] = (
            (np.diff(site) != 0)
            | (np.diff(client) != 0)
            | (np.diff(agent) != 0)
            | (np.diff(at) >= GAP)
        )
        starts = np.flatnonzero(new)
        ends = np.append(starts[1:], len(order))
        number = np.cumsum(new) - 1
        pages = np.add.reduceat(page.astype(np.int64), starts)
        positions = np.arange(len(order))
        far = len(order)
        first_page = np.minimum.reduceat(np.where(page, positions, far), starts)
        last_page = np.maximum.reduceat(np.where(page, positions, -1), starts)
        visits = []
        for v, (begin, end) in enumerate(zip(starts.tolist(), ends.tolist(), strict=True)):
            row = order[begin]
            # The first page tells where a visitor came from.
            seen = bool(pages[v])
            origin = self.origin[order[first_page[v]]] if seen else self.origin[row]
            visits.append(
                Visit(
                    self.sites[site[begin]], self.clients[client[begin]],
                    self.agents[agent[begin]], bool(self.automatic[row]), int(at[begin]),
                    int(at[end - 1]), end - begin, int(pages[v]),
                    self.paths[path[first_page[v]]] if seen else b"",
                    self.paths[path[last_page[v]]] if seen else b"",
                    self.origin_kinds[origin], self.origin_texts[origin],
                )
            )  # fmt: skip
        return visits, self._steps(site, at, path, page, number, self.automatic[order])

    def _steps(
        self, site: Ints, at: Ints, path: Ints, page: npt.NDArray[np.bool_], visit: Ints,
        automatic: npt.NDArray[np.bool_],
    ) -> list[Sum]:  # fmt: skip
        """From page to page within a visit."""
        seen = np.flatnonzero(page)
        if len(seen) < 2:
            return []
        one, two = seen[:-1], seen[1:]
        along = (visit[one] == visit[two]) & (path[one] != path[two])
        one, two = one[along], two[along]
        if not len(one):
            return []
        group = _grouped(
            [site[two], at[two] // HOUR, path[one], path[two], automatic[two].astype(np.int64)]
        )
        when = at[two][group.order]
        rows = zip(
            *[column.tolist() for column in group.keys],
            group.counts.tolist(),
            np.minimum.reduceat(when, group.starts).tolist(),
            np.maximum.reduceat(when, group.starts).tolist(),
            strict=True,
        )
        return [
            Sum(self.sites[s], int(Dim.STEP), h, self.paths[a] + b"\0" + self.paths[b], 200,
                bool(auto), n, 0, first, last, -1, 0)
            for s, h, a, b, auto, n, first, last in rows
        ]  # fmt: skip


class _Group(NamedTuple):
    """Rows with equal keys stand together in `order`, from `starts` on."""

    order: Ints
    starts: Ints
    counts: Ints
    keys: list[Ints]


def _grouped(columns: Sequence[Ints]) -> _Group:
    """Groups rows by all columns."""
    order = np.lexsort(columns[::-1])
    new = np.zeros(len(order), dtype=bool)
    new[0] = True
    for column in columns:
        new[1:] |= np.diff(column[order]) != 0
    starts = np.flatnonzero(new)
    counts = np.diff(np.append(starts, len(order)))
    return _Group(order, starts, counts, [column[order][starts] for column in columns])


def _numbered(values: Iterator[bytes]) -> tuple[Ints, list[bytes]]:
    numbers = _Numbers[bytes]()
    return numbers.of(values), numbers.values


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def books_of(
    site: bytes,
    names: Mapping[bytes, bytes],
    own: Mapping[bytes, frozenset[str]],
    unclaimed: Callable[[str], bool],
) -> Books:
    """The books of a log that one site writes (`site`), or of one whose lines say whose they are
    (`names`: by name). own: by site, the names that it claims. unclaimed: whether no site claims a
    name.
    """

    def bare(host: bytes) -> bytes:
        name = host if host.startswith(b"[") else host.partition(b":")[0]
        return name.rstrip(b".")

    def strange(_: bytes, host: bytes) -> bool:
        name = bare(host)
        return name not in (b"", b"-") and unclaimed(_text(name))

    def whose(name: bytes, host: bytes) -> bytes:
        known = names.get(name) if name else None
        return known or names.get(bare(host)) or site

    return Books(
        whose,
        lambda key: own.get(key, frozenset()),
        strange,
    )
