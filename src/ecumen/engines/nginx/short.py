"""Short answers of nginx: plain requests, through the locations of a server to the file.

Whatever is not plain here (rules, captures, upstreams, a link, a shut folder, a named place, a
doubt) is left to the whole evaluation: `None`. What is answered is the same, and both are compared
in the tests.

Source: as `run.py`, whose order this follows.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ecumen.caches import Bounded, WorkedOut
from ecumen.engines.nginx.choice import Chooser
from ecumen.engines.nginx.config import Conf, ErrorPage, TryFiles
from ecumen.engines.nginx.hostname import read_host
from ecumen.engines.nginx.seals import asks_for_certificates
from ecumen.engines.nginx.sending import folder_address, own_address
from ecumen.engines.nginx.server import Server
from ecumen.engines.nginx.texts import Text
from ecumen.engines.short import MOST_KEPT, PLAIN_PATH, Door, Question, Short, ShortSite
from ecumen.engines.tree import Place
from ecumen.rights import READ, Problem, Walker, decide
from ecumen.survey import Entry, Kind

MOST_LAPS = 6
_SERVED = (Kind.FILE, Kind.DIR)
_KNOWN = frozenset(("uri", "document_uri", "args", "query_string", "is_args"))


class _NotPlain(Exception):  # noqa: N818 - a signal, not an error of ours
    """The whole evaluation is asked."""


@dataclass(slots=True)
class _Spot:
    """A folder as the worker finds it. entry: None where the way there ends at a missing name."""

    entry: Entry | None
    passed: Sequence[Entry]


class ShortAnswers:
    """The short answers of one engine. Built once."""

    def __init__(self, chooser: Chooser, walker: Walker) -> None:
        self.chooser = chooser
        self.walker = walker
        self._servers: WorkedOut[Door, Server | None] = WorkedOut(MOST_KEPT, self._server)
        self._spots: WorkedOut[str, _Spot | None] = WorkedOut(MOST_KEPT, self._walked)
        self._plain: dict[int, bool] = {}
        self._shown: dict[tuple[int, int], ShortSite | None] = {}
        self.pages: dict[tuple[object, ...], Short | None] = Bounded(MOST_KEPT)

    def answer(self, asked: Question) -> Short | None:
        """None where the request is not plain."""
        server = self._servers[asked.door] if asked.plain else None
        if server is None:
            return None
        try:
            return _Passing(self, asked, server).through(asked.path)
        except _NotPlain:
            return None

    def _server(self, key: Door) -> Server | None:
        """None where who answers is in doubt, or something bears on every request there."""
        address, port, sealed, named = key
        door = self.chooser.door(address, port)
        host = read_host(named)
        if door is None or host is None or door.sealed != sealed:
            return None
        server, _, hit, unknown = door.by_name(host)
        if unknown is not None or hit is not None:
            return None
        server = server or door.standing
        if (sealed and server.refuses_handshake) or server.conf.rules:
            return None
        if sealed and asks_for_certificates(self.chooser.whole, server) is not None:
            return None
        return server if self.plain(server.conf) else None

    def plain(self, conf: Conf) -> bool:
        """Whether nothing holds at a place that a plain answer cannot tell. Places are compiled
        once and stay, so that their number is theirs.
        """
        known = self._plain.get(id(conf))
        if known is None:
            root = conf.root
            known = self._plain[id(conf)] = not (
                conf.unread
                or conf.links
                or conf.any_will_do
                or conf.asks is not None
                or conf.recursive_errors
                or conf.maker is not None
                or conf.upstream is not None
                or not root.path.constant
                or (root.path.source and not root.path.source.startswith("/"))
                or "//" in root.path.source
                or "/." in root.path.source
                or root.alias == -1
            )
        return known

    def site(self, server: Server, conf: Conf) -> ShortSite | None:
        """Who answers from a place; None where it is not sure which log gets the line."""
        key = (id(server), id(conf))
        try:
            return self._shown[key]
        except KeyError:
            pass
        logs = [log for log in conf.logs if log.path is not None]
        certain = [log for log in logs if not log.condition and "$" not in (log.path or "")]
        shown = None
        if certain or not logs:
            log = certain[0].path if certain else None
            shown = ShortSite("nginx", server.label, server.place, log)
        self._shown[key] = shown
        return shown

    # --- files ---

    def spot(self, folder: str) -> _Spot:
        """folder: absolute, without a slash at its end; "" for the root. Raises _NotPlain."""
        found = self._spots[folder]
        if found is None:
            raise _NotPlain
        return found

    def _walked(self, folder: str) -> _Spot | None:
        walk = self.walker.walk(folder or "/")
        if walk.blocked:
            return None
        passed = [step.entry for step in walk.steps]
        if walk.problem is Problem.MISSING:
            return _Spot(None, passed)
        if walk.problem is not None or walk.entry is None or walk.entry.kind is not Kind.DIR:
            return None
        if self.walker.search(walk.entry).blocked:
            return None
        return _Spot(walk.entry, [*passed, walk.entry])

    def look(self, folder: Entry, leaf: str) -> Entry | None:
        """A file or folder in a folder; None where nothing has this name. Raises _NotPlain."""
        entry, problem = self.walker.look(folder.path, leaf)
        if entry is None and problem is Problem.MISSING:
            return None
        if entry is None or entry.kind not in _SERVED:
            raise _NotPlain
        return entry

    def readable(self, entry: Entry) -> bool:
        return decide(entry, self.walker.subject, READ).allowed


class _Passing:
    """One plain request on its way. Every method raises _NotPlain."""

    __slots__ = (
        "answers", "asked", "conf", "in_error", "indexed", "internal", "laps", "passed", "path",
        "query", "refused", "server", "status",
    )  # fmt: skip

    def __init__(self, answers: ShortAnswers, asked: Question, server: Server) -> None:
        self.answers = answers
        self.asked = asked
        self.server = server
        self.conf = server.conf
        self.path = asked.path
        self.query = asked.query or ""
        self.laps = 0
        self.internal = self.indexed = False
        # The status that goes out whatever is served: that of the error whose page this is.
        self.status: int | None = None
        self.in_error = False
        self.passed: list[Sequence[Entry]] = []
        # Where the first refusal stands: its status, and what holds there.
        self.refused: tuple[int, Conf, str, str] | None = None

    def through(self, path: str) -> Short:
        """From an address to what goes out."""
        self.path = path
        short: Short | None = None
        while short is None:
            self._place()
            short = self._tried() if self.conf.tries is not None else self._content()
        if self.refused is not None:
            short.status, self.conf, self.path, self.query = self.refused
            short.location = None
        elif short.status < 400:
            if self.status is not None and short.status != 301:
                short.status = self.status
            return self._ended(short)
        return self._with_page(short)

    def _ended(self, short: Short) -> Short:
        """With the log that gets the line, from where the request has come to."""
        shown = self.answers.site(self.server, self.conf)
        if shown is None:
            raise _NotPlain
        short.site, short.passed = shown, tuple(self.passed)
        return short

    # --- the place, and who may ---

    def _place(self) -> None:
        found = self.server.locations.find(self.path)
        if found.unknown is not None or found.fails is not None or found.sent:
            raise _NotPlain
        conf = self.server.conf if found.location is None else found.location.conf
        if conf.internal and not self.internal:
            raise _NotPlain
        conf = conf.for_method(self._method())
        if conf.rules or not self.answers.plain(conf):
            raise _NotPlain
        self.conf = conf
        if self.refused is None and (status := self._refusal()):
            self.refused = (status, conf, self.path, self.query)

    def _method(self) -> str:
        return "GET" if self.in_error and self.asked.method != "HEAD" else self.asked.method

    def _refusal(self) -> int:
        """403 or 401 where the visitor may not; 0 where nothing is said against it."""
        if self.conf.allowed(self.asked.client) is False:
            return 403
        return 401 if self.conf.realm is not None else 0

    # --- what is tried, and what goes out ---

    def _value(self, text: Text) -> str:
        if text.constant:
            return text.source
        if text.source == "$uri":
            return self.path
        if any(piece.name and piece.name not in _KNOWN for piece in text.pieces):
            raise _NotPlain
        known = {"uri": self.path, "is_args": "?" if self.query else ""}
        known["document_uri"], known["args"], known["query_string"] = (
            self.path, self.query, self.query,
        )  # fmt: skip
        return text.value(known.__getitem__)

    def _seen(self, path: str) -> Entry | None:
        """What lies at a path, which may end in a slash; None for nothing."""
        answers = self.answers
        folder, _, leaf = path.rpartition("/")
        if leaf:
            spot = answers.spot(folder)
            self.passed.append(spot.passed)
            within = spot.entry
            if within is None:
                return None
            entry = answers.walker.files.get(f"{within.path}/{leaf}")
            if entry is not None and entry.kind in _SERVED:
                return entry
            return answers.look(within, leaf)
        above, _, name = folder.rpartition("/")
        if name:
            spot = answers.spot(above)
            self.passed.append(spot.passed)
            entry = None if spot.entry is None else answers.look(spot.entry, name)
            if entry is None or entry.kind is not Kind.DIR:
                # Asked for with a slash, a file is as good as nothing.
                return None
        spot = answers.spot(folder)
        self.passed.append(spot.passed)
        return spot.entry

    def _tried(self) -> Short | None:
        """Looks for each in turn; None where the request begins anew."""
        tries = self.conf.tries
        assert tries is not None
        root = self.conf.root
        for text, folder in tries.tries:
            name = root.tried(self._value(text), self.path)
            if not name.startswith("/") and not root.alias:
                raise _NotPlain
            path = root.path.source + name
            entry = self._seen(path if name is self.path else _plainly(path))
            if entry is not None and (entry.kind is Kind.DIR) == folder:
                self.path = root.found(name, self.path, folder=folder)
                return self._content()
        return self._last(tries)

    def _last(self, tries: TryFiles) -> Short | None:
        if tries.code is not None:
            if tries.code != 404:
                raise _NotPlain
            return self._short(404)
        last = self._value(tries.last)
        if not last.startswith("/"):
            raise _NotPlain
        path, mark, query = last.partition("?")
        self._again(path, query if mark else "")
        return None

    def _again(self, path: str, query: str) -> None:
        self.laps += 1
        if self.laps > MOST_LAPS or not PLAIN_PATH.fullmatch(path):
            raise _NotPlain
        self.path, self.query, self.internal = path, query, True

    def _content(self) -> Short | None:
        root = self.conf.root
        if root.alias is None:
            path = root.path.source + self.path
        else:
            path = _plainly(root.path.source + root.behind(self.path))
        if self.path.endswith("/"):
            return self._index(path)
        entry = self._seen(path)
        if entry is None:
            return self._short(404)
        short = self._short(200)
        short.file = path
        if entry.kind is Kind.DIR:
            if not self.answers.readable(entry):
                raise _NotPlain
            return self._sent(short)
        short.read, short.indexed = entry, self.indexed
        if not self.answers.readable(entry):
            short.status = 403
        short.content_type = self.conf.type_of(self.path)
        return short

    def _index(self, folder: str) -> Short | None:
        if not folder.endswith("/"):
            raise _NotPlain
        tested = False
        for text, _ in self.conf.index:
            if not text.constant or "/" in text.source:
                raise _NotPlain
            name = text.source
            if self._seen(folder + name) is not None:
                self._again(self.path + name, self.query)
                self.indexed = True
                return None
            if not tested and self._seen(folder) is None:
                return self._short(404)
            tested = True
        if self.conf.listing:
            raise _NotPlain
        return self._short(403)

    def _short(self, status: int) -> Short:
        return Short(_NOBODY, status)

    def _sent(self, short: Short) -> Short:
        """To the folder's address with its slash."""
        if 301 in self.conf.error_pages and not self.in_error:
            raise _NotPlain
        location = folder_address(self.path, self.query)
        if self.conf.absolute:
            location = self._own_address() + location
        short.status, short.content_type, short.location = 301, "text/html", location
        return short

    def _own_address(self) -> str:
        asked = self.asked
        return own_address(
            self.conf,
            sealed=asked.sealed,
            address=asked.address,
            port=asked.port,
            first_name=self.server.first_name,
            host=read_host(asked.host) or "",
        )

    # --- pages of errors ---

    def _with_page(self, short: Short) -> Short:
        """An error as it goes out: a page that leads to an error itself gives its status."""
        page = None if self.in_error else self.conf.error_pages.get(short.status)
        if page is None:
            short.content_type = self.conf.canned(short.status)
            return self._ended(short)
        where = page.page.source
        if not page.page.constant or not where.startswith("/"):
            raise _NotPlain
        # The page is the same for all that fails here.
        key = (
            id(page), short.status, id(self.server), self.asked.client, self.asked.host,
            self.asked.method, self.asked.address, self.asked.port,
        )  # fmt: skip
        pages = self.answers.pages
        if key not in pages:
            pages[key] = self._page(page, where, short.status)
        shown = pages[key]
        if shown is None:
            raise _NotPlain
        passed = (*self.passed, *shown.passed)
        file = shown.file if shown.status < 300 else short.file
        return Short(shown.site, shown.status, file, shown.content_type, shown.location, passed)

    def _page(self, page: ErrorPage, where: str, status: int) -> Short | None:
        path, _, query = where.partition("?")
        inner = _Passing(self.answers, self.asked, self.server)
        inner.in_error = True
        inner.status = page.status_for(status)
        try:
            inner._again(path, query)
            return inner.through(path)
        except _NotPlain:
            return None


def _plainly(path: str) -> str:
    if "//" in path or "/." in path or not path.startswith("/"):
        raise _NotPlain
    return path


_NOBODY = ShortSite("nginx", "", Place("", 0), None)
