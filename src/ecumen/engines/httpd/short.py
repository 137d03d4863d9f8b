"""Short answers of httpd: plain requests, from what holds in a folder of a site.

Whatever is not plain here (a rule of rewriting or a redirect that takes the address, a section on
the very file, a link at its end, a handler, a doubt) is left to the whole evaluation: `None`. What
is answered is the same, and both are compared in the tests.

Source: as `phases.py`, `walk.py`, `targets.py` and `serving.py`, whose order this follows.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NoReturn

from ecumen.caches import Bounded, WorkedOut
from ecumen.engines.alike import Heard
from ecumen.engines.httpd import types
from ecumen.engines.httpd.access import Access, AccessOutcome, Visitor, judge
from ecumen.engines.httpd.alike import Alike, Ground, Like
from ecumen.engines.httpd.asking import Asking, Variables, own_address
from ecumen.engines.httpd.choice import Chooser
from ecumen.engines.httpd.deciding import Goes, Ruling, error_page, ruled
from ecumen.engines.httpd.hostname import read_host
from ecumen.engines.httpd.redirects import Redirect, find_redirect
from ecumen.engines.httpd.rewriting import RewriteRule, RewriteSubject, Rewriting, untouched
from ecumen.engines.httpd.seals import ASKS, all_ask, wants_certificate
from ecumen.engines.httpd.server import Alias, Host, Server, is_silent, with_value
from ecumen.engines.httpd.settings import EMPTY, FileSection, Opt, Settings, Upstream
from ecumen.engines.httpd.targets import Targets
from ecumen.engines.httpd.uri import Address, escaped
from ecumen.engines.httpd.way import REDIRECT, AddressWays, cleaned, takes
from ecumen.engines.short import MOST_KEPT, PLAIN_PATH, Door, Question, Short, ShortSite
from ecumen.engines.sites import Arrival
from ecumen.rights import READ, Problem, decide
from ecumen.survey import Entry, Kind

MOST_ENDINGS = 1000
OFTEN = 8  # questions to one host
# What conditions may ask for that the address and the name alone tell.
_PLAINEST = frozenset(
    "REQUEST_FILENAME SCRIPT_FILENAME REQUEST_URI QUERY_STRING HTTP_HOST HTTPS".split()
)
_STATUS_OF = {Ruling.GRANTED: 200, Ruling.DENIED: 403, Ruling.LOGIN: 401}


@dataclass(slots=True, eq=False)
class _Site:
    """A site that has plain answers. leading, bound: beginnings of the addresses that an upstream,
    a redirect or an alias may take, and that a section may bind; None where only each can tell.
    rules: of rewriting, which every address meets.
    """

    host: Host
    shown: ShortSite
    root: str
    leading: tuple[str, ...] | None
    bound: tuple[str, ...] | None
    rules: Sequence[RewriteRule]


@dataclass(slots=True)
class _Spot:
    """A path that a site was walked to. entry: the folder there; None where nothing is, and the
    walk ended at the name that is missing. named: sections or patterns may bind names in it.
    """

    path: str
    shown: str
    entry: Entry | None
    settings: Settings
    passed: Sequence[Entry]
    named: bool = False

    @property
    def missing(self) -> bool:
        return self.entry is None


@dataclass(slots=True)
class _Held:
    """What settings come to for a plain request; kept with them, so that their number stays."""

    settings: Settings
    index: tuple[str, ...]
    bits: int
    listing: str
    rules: object
    rewriting: Rewriting | None = None
    typed: Bounded[str, types.Typed] = field(default_factory=lambda: Bounded(MOST_ENDINGS))


class ShortAnswers:
    """The short answers of one server. Built once."""

    def __init__(
        self,
        server: Server,
        chooser: Chooser,
        targets: Targets,
        ways: AddressWays,
        alike: Alike | None = None,
        heard: Heard | None = None,
    ) -> None:
        """alike: whose answers hold for others of their kind; heard: what notes what is asked."""
        self.server = server
        self.alike = alike
        self.heard = heard
        self._all_ask = all_ask(server)
        self.chooser = chooser
        self.targets = targets
        self.ways = ways
        self.walker = targets.walker
        self._hosts: WorkedOut[Door, Host | None] = WorkedOut(MOST_KEPT, self._host)
        self._known: dict[int, _Site | None] = {}
        self._asked: dict[int, int] = {}
        self._spots: WorkedOut[tuple[_Site, str], _Spot | None] = WorkedOut(MOST_KEPT, self._spot)
        self._held: WorkedOut[Settings, _Held | None] = WorkedOut(MOST_KEPT, self._holding)
        self._judged: dict[tuple[object, ...], AccessOutcome | None] = Bounded(MOST_KEPT)
        self._pages: dict[tuple[object, ...], _Page | None] = Bounded(MOST_KEPT)

    def answer(self, asked: Question) -> Short | None:
        """None where the request is not plain."""
        host = self._hosts[asked.door] if asked.plain else None
        if host is None:
            return None
        number = id(host)
        if self.alike is not None and number not in self._known:
            # Who is asked for often is worked out: each of its answers is shorter then.
            often = self._asked[number] = self._asked.get(number, 0) + 1
            held = self._by_its_like(self.alike, host, asked) if often < OFTEN else None
            if held is not None:
                return held[0]
        return self.of_host(host, asked)

    def of_host(self, host: Host, asked: Question) -> Short | None:
        """What comes of a plain request that this host answers."""
        number = id(host)
        if number not in self._known:
            self._known[number] = self._compiled(host)
        site = self._known[number]
        if site is None:
            return None
        inquiry = _Inquiry(asked, site)
        short = self._served(inquiry, asked.path)
        if short is not None:
            short.looked = inquiry.looked
        return short

    # --- who answers ---

    def _host(self, door: Door) -> Host | None:
        """None where who answers is in doubt, or a certificate may be asked for."""
        address, port, sealed, host = door
        first, winner = self.chooser.winner(address, port, read_host(host))
        if winner is None or (first.sealed is not None) != sealed:
            return None
        if sealed and self._asks_for_certificates(winner):
            return None
        return winner

    def _by_its_like(self, alike: Alike, host: Host, asked: Question) -> tuple[Short | None] | None:
        """What another host's answer says of this one's; None where that is not to be told."""
        like = alike.of(host)
        if like is None:
            return None
        words = like.words
        if words.within(asked.path) or words.within(asked.query or ""):
            return None
        name = words.asked(asked.host)
        if name is None:
            return None
        question = (
            asked.address, asked.port, asked.sealed, name, asked.method, asked.path, asked.query,
            asked.client,
        )  # fmt: skip

        def work_out(ground: Ground) -> Short | None:
            answers = ShortAnswers(
                self.server, self.chooser, ground.targets, ground.ways, heard=ground.heard
            )
            return answers.of_host(ground.host, Question(*question))

        held = alike.answer(like, question, work_out)
        if held is None:
            return None
        return (held.value and _filled(held.value, like, held.entries),)

    def _asks_for_certificates(self, host: Host) -> bool:
        if not self._all_ask and is_silent(host, ASKS):
            return False
        return wants_certificate(self.server, host) is not None

    def _compiled(self, host: Host) -> _Site | None:
        plain = (each.path for each in host.logs if not each.conditional)
        log = next((path for path in plain if "${" not in path), None)
        if host.unread or (host.logs and log is None) or host.root is None:
            return None
        if host.account is not None or host.by_name is not None:
            return None
        if host.programs_by_name is not None or host.settings.visitor_header is not None:
            return None
        if host.settings.redirect is not None:
            return None
        switch, rules = host.settings.rewriting, host.rewriting
        on = switch is not None and switch.on and rules is not None
        shown = ShortSite("httpd", host.label, host.place, log)
        leading: list[Alias | Redirect | Upstream]
        leading = [*host.upstreams, *host.redirects, *host.aliases]
        bound = host.addresses
        return _Site(
            host,
            shown,
            host.root.rstrip("/"),
            _beginnings([None if each.by_pattern else each.fake for each in leading]),
            _beginnings([None if s.wild or s.kind != "location" else s.pattern for s in bound]),
            rules.rules if on and rules is not None else (),
        )

    # --- where the address leads ---

    def _leads(self, site: _Site, path: str, query: str | None) -> str | None:
        """The path on disk; None where anything but a root or a plain alias takes the address."""
        if site.leading is not None and not path.startswith(site.leading):
            return site.root + path
        host = site.host
        for upstream in host.upstreams:
            if takes(upstream, path) != 0:
                return None
        if host.redirects and find_redirect(host.redirects, path, query, None) is not None:
            return None
        for alias in host.aliases:
            taken = takes(alias, path)
            if taken == 0:
                continue
            if (
                not isinstance(taken, int)
                or alias.scripts
                or alias.late
                or not alias.real.startswith("/")
            ):
                return None
            filename = cleaned(alias.real + path[taken:])
            return filename if filename.endswith("/") == path.endswith("/") else None
        return site.root + path

    def _spot(self, where: tuple[_Site, str]) -> _Spot | None:
        """The path has a slash at its end where it was asked for with one."""
        host = where[0].host
        walked = self.targets.walked(host, where[1])
        entry, settings = walked.entry, walked.settings
        if walked.unseen or walked.blocks or walked.doubts:
            return None
        passed = [rung.entry for rung in walked.rungs]
        if entry is None:
            return _Spot(walked.path, walked.path, None, settings, passed)
        if entry.kind is not Kind.DIR or walked.rest or self.walker.search(entry).blocked:
            return None
        # Sections on names and patterns must bind neither the folder nor what lies in it.
        folder = walked.path.rstrip("/")
        if _binds(settings.files, "") or self._fits(host, f"{folder}/", folder):
            return None
        named = bool(settings.files or host.folder_patterns)
        named = named or folder.count("/") + 1 in self.targets.walk(host).by_depth
        return _Spot(folder, walked.path, entry, settings, [*passed, entry], named)

    def _fits(self, host: Host, *paths: str) -> bool:
        """Whether a pattern may bind one of these."""
        return any(
            section.fits_regex(path) is not False
            for section in host.folder_patterns
            for path in paths
        )

    # --- what holds there, and who may ---

    def _bound(self, site: _Site, settings: Settings, path: str) -> Settings | None:
        """With the sections on addresses; None where one of them is not worked out."""
        if site.bound is not None and not path.startswith(site.bound):
            return settings
        host = site.host
        bound: list[Settings] = []
        for section in host.addresses:
            fits = section.fits_address(path)
            if fits is False:
                continue
            if fits is None or section.settings.redirect is not None:
                return None
            if section.settings.upstream is not None:
                return None
            if section.settings.rewriting is not None or section.settings.unread:
                return None
            bound.append(section.settings)
        return self.targets.walk(host).merged(settings, bound) if bound else settings

    def _holding(self, settings: Settings) -> _Held | None:
        """None where these settings have more than a plain answer needs."""
        if (
            settings.conditionals
            or settings.unread
            or settings.compat is not None
            or settings.redirect is not None
            or settings.redirects
            or settings.fallback is not None
            or settings.slash is False
            or settings.spelling
            or settings.typed_by_rest
            or settings.sealed_only is not None
            or settings.type_headers
            or settings.actions
            or settings.shared
            or settings.methods is not None
            or settings.index_sent
            or with_value(settings.handler) is not None
        ):
            return None
        rules = None if settings.access is None else _alike(settings.access)
        rewriting = settings.rewriting
        # Without any rule it still asks whether links may be followed.
        if rewriting is not None and not (rewriting.on and rewriting.folder is not None):
            rewriting = None
        return _Held(
            settings,
            settings.index_names,
            settings.bits,
            settings.listing_kind,
            rules,
            rewriting,
        )

    def _ruling(self, held: _Held, asked: Question) -> Ruling | None:
        """What comes of the visitor; None where the server fails, or that is not known."""

        def judged(access: Access) -> AccessOutcome | None:
            key = (held.rules, asked.client, asked.address, asked.method)
            try:
                return self._judged[key]
            except KeyError:
                visitor = Visitor(asked.client, asked.address, asked.method)
                outcome = self._judged[key] = judge(access, visitor)[0]
                return outcome

        ruling = ruled(held.settings, judged, signed_in=False)
        return ruling if ruling in _STATUS_OF else None

    # --- what goes out ---

    def _served(self, inquiry: _Inquiry, path: str, judged: Settings | None = None) -> Short | None:
        """judged: settings under which the visitor has been judged already."""
        site, asked = inquiry.site, inquiry.asked
        if site.rules and not self._untouched(inquiry, site.rules, path, path, None):
            return None
        filename = self._leads(site, path, asked.query)
        if filename is None:
            return None
        folder, _, leaf = filename.rpartition("/")
        spot = self._spots[site, f"{folder}/"]
        if spot is None:
            return None
        entry: Entry | None = None
        if leaf and spot.entry is not None:
            looked = self._looked(site.host, spot, leaf)
            if looked is None:
                return None
            entry = looked[0]
            if entry is not None and entry.kind is Kind.DIR:
                spot = self._spots[site, filename]
                if spot is None or spot.missing or _binds(spot.settings.files, leaf):
                    return None
        settings = self._bound(site, spot.settings, path)
        held = None if settings is None else self._held[settings]
        if settings is None or held is None:
            return None
        granted = Ruling.GRANTED
        ruling = granted if settings is judged else self._ruling(held, asked)
        if ruling is None:
            return None
        if ruling is granted and not self._kept(inquiry, held, path, spot, leaf, entry):
            return None
        short = self._content(inquiry, path, spot, leaf, entry, held)
        if short is None:
            return None
        if ruling is not granted:
            short.status = _STATUS_OF[ruling]
            short.location = None
        return short if short.status < 400 else self._with_page(inquiry, short, held)

    def _kept(
        self,
        inquiry: _Inquiry,
        held: _Held,
        path: str,
        spot: _Spot,
        leaf: str,
        entry: Entry | None,
    ) -> bool:
        """Whether the rules of the folder leave what was asked for as it is."""
        rules = held.rewriting
        if rules is None or rules.folder is None or spot.missing:
            return rules is None
        file = f"{spot.path}/{leaf}"
        if leaf and entry is not None and entry.kind is Kind.DIR:
            file = spot.path
            if file == rules.folder[:-1] and "allownoslash" not in (rules.options or ()):
                return True
        if not held.bits & (Opt.FOLLOW | Opt.OWNER_MATCH):
            return False
        return self._untouched(inquiry, rules.rules, path, file, rules.folder)

    def _untouched(
        self,
        inquiry: _Inquiry,
        rules: Sequence[RewriteRule],
        path: str,
        file: str,
        folder: str | None,
    ) -> bool:
        """Whether no rule takes an address; conditions that ask for more than the plainest leave it
        to the whole evaluation.
        """
        variables: Variables | None = None

        def variable(name: str, subject: RewriteSubject) -> str:
            nonlocal variables
            if name.upper() not in _PLAINEST:
                raise LookupError(name)
            variables = variables or Variables(inquiry.asking(self.chooser), EMPTY, self.server)
            return variables(name, subject)

        def look(path: str, follows: bool) -> Entry | None:
            inquiry.looked.append(path)
            return self.ways.look(path, follows)

        subject = RewriteSubject(
            file, path, inquiry.asked.query, "", folder, look, variable, None,
            _unknown, _unknown, heard=self.heard,
        )  # fmt: skip
        return untouched(rules, subject)

    def _looked(self, host: Host, spot: _Spot, leaf: str) -> tuple[Entry | None] | None:
        """What lies in a folder under this name; None where that is not plain."""
        folder = spot.entry
        assert folder is not None
        if spot.named and not self._unbound(host, spot, leaf):
            return None
        entry, problem = self.walker.look(folder.path, leaf)
        if entry is None:
            return (None,) if problem is Problem.MISSING else None
        return (entry,) if entry.kind in (Kind.FILE, Kind.DIR) else None

    def _unbound(self, host: Host, spot: _Spot, leaf: str) -> bool:
        """Whether no section or pattern on names binds what lies in a folder under this name."""
        path = f"{spot.path}/{leaf}"
        if _binds(spot.settings.files, leaf) or self._fits(host, path):
            return False
        sections = self.targets.walk(host).by_depth.get(path.count("/"), ())
        if all(section.fits_folder(path) is False for section in sections):
            return True
        entry = self.walker.files.get(path)
        return entry is not None and entry.kind is Kind.DIR

    def _content(
        self,
        inquiry: _Inquiry,
        path: str,
        spot: _Spot,
        leaf: str,
        entry: Entry | None,
        held: _Held,
    ) -> Short | None:
        shown = inquiry.site.shown
        if spot.missing or (leaf and entry is None):
            name = spot.path.rpartition("/")[2] if spot.missing else leaf
            if held.bits & Opt.MULTI or self._typed(name, held).handler is not None:
                return None
            return Short(shown, 404, None, None, None, (spot.passed,))
        if not leaf:
            return self._index(inquiry, path, spot, held)
        assert entry is not None
        if entry.kind is Kind.DIR:
            if 301 in held.settings.error_pages:
                return None
            location = inquiry.own(held.settings, self.chooser)
            if location is None:
                return None
            query = "" if inquiry.asked.query is None else f"?{inquiry.asked.query}"
            location = f"{location}{escaped(path)}/{query}"
            return Short(shown, 301, spot.shown, REDIRECT, location, (spot.passed[:-1],))
        return self._file(shown, spot, leaf, entry, held)

    def _typed(self, name: str, held: _Held) -> types.Typed:
        """The type by all endings of a name, which is kept for others with the same."""
        endings = name.lstrip(".").partition(".")[2]
        known = held.typed.get(endings)
        if known is None:
            known = held.typed[endings] = types.type_of(name, held.settings, self.server.types)
        return known

    def _file(
        self, shown: ShortSite, spot: _Spot, leaf: str, entry: Entry, held: _Held
    ) -> Short | None:
        typed = self._typed(leaf, held)
        if typed.handler is not None:
            return None
        status = 200 if decide(entry, self.walker.subject, READ).allowed else 403
        file = f"{spot.path}/{leaf}"
        return Short(shown, status, file, typed.type, None, (spot.passed,), entry)

    def _index(self, inquiry: _Inquiry, path: str, spot: _Spot, held: _Held) -> Short | None:
        site, asked = inquiry.site, inquiry.asked
        for name in held.index:
            address = f"{path}{name}"
            if "/" in name or not PLAIN_PATH.fullmatch(address):
                return None
            if self._leads(site, address, asked.query) != f"{spot.path}/{name}":
                return None
            settings = self._bound(site, spot.settings, address)
            within = None if settings is None else self._held[settings]
            if within is None:
                return None
            if site.rules and not self._untouched(inquiry, site.rules, address, address, None):
                return None
            if within is not held and self._ruling(within, asked) is not Ruling.GRANTED:
                return None
            looked = self._looked(site.host, spot, name)
            if looked is None or (looked[0] is None and held.bits & Opt.MULTI):
                return None
            entry = looked[0]
            if entry is not None and entry.kind is not Kind.FILE:
                return None
            # Of what is not there, too, rules may make something.
            if not self._kept(inquiry, within, address, spot, name, entry):
                return None
            if entry is None:
                continue
            short = self._file(site.shown, spot, name, entry, within)
            if short is not None:
                short.indexed = True
            return short
        return self._listing(site.shown, spot, held)

    def _listing(self, shown: ShortSite, spot: _Spot, held: _Held) -> Short:
        folder = spot.entry
        assert folder is not None
        short = Short(shown, 403, spot.shown, None, None, (spot.passed,))
        if held.bits & Opt.INDEXES and decide(folder, self.walker.subject, READ).allowed:
            short.status, short.content_type, short.read = 200, held.listing, folder
        return short

    # --- pages of errors ---

    def _with_page(self, inquiry: _Inquiry, short: Short, held: _Held) -> Short | None:
        """An error as it goes out, with the page that the site has for it."""
        short.content_type = types.ERROR_PAGE
        if short.status not in held.settings.error_pages or inquiry.for_error:
            return short
        # The page is the same for all that fails under these settings.
        asked = inquiry.asked
        key = (
            inquiry.site, held.settings, short.status, asked.client, asked.address, asked.port,
        )  # fmt: skip
        try:
            page = self._pages[key]
        except KeyError:
            page = self._pages[key] = self._page(inquiry, held, short.status)
        if page is None:
            return None
        short.content_type = page.content_type
        short.passed += page.passed
        return short

    def _page(self, inquiry: _Inquiry, held: _Held, status: int) -> _Page | None:
        own = _Page(types.ERROR_PAGE, ())
        shown = error_page(held.settings, status)
        if shown is None or shown.goes is Goes.OWN:
            return own
        if shown.goes is not Goes.LOCAL:
            return None
        path, mark, query = shown.where.partition("?")
        # Whether the visitor is judged again for it is for the whole way to say.
        if not PLAIN_PATH.fullmatch(path) or self.targets.judges_again:
            return None
        inner = self._served(inquiry.of_error(query if mark else None), path, held.settings)
        if inner is None:
            return None
        if inner.status != 200:
            return own
        return _Page(
            inner.content_type,
            inner.passed,
        )


@dataclass(frozen=True, slots=True)
class _Page:
    """What goes out with an error, and what was passed on the way to it."""

    content_type: str | None
    passed: tuple[Sequence[Entry], ...]


@dataclass(slots=True)
class _Inquiry:
    """A question with who answers it. for_error: it is for the page of an error. looked: paths that
    a condition asked for.
    """

    asked: Question
    site: _Site
    for_error: bool = False
    looked: list[str] = field(default_factory=list)

    def of_error(self, query: str | None) -> _Inquiry:
        asked = self.asked
        inner = Question(
            asked.address, asked.port, asked.sealed, asked.host, "GET", asked.path, query,
            asked.client,
        )  # fmt: skip
        return _Inquiry(inner, self.site, for_error=True)

    def own(self, settings: Settings, chooser: Chooser) -> str | None:
        """Scheme, name and port that the site gives as its own."""
        return own_address(self.asking(chooser), settings)

    def asking(self, chooser: Chooser) -> Asking:
        asked = self.asked
        arrival = Arrival(
            asked.address, asked.port, asked.sealed, None, asked.host, asked.method, asked.path,
            asked.query, asked.client,
        )  # fmt: skip
        header = read_host(asked.host)
        address = Address(asked.path)
        host = self.site.host
        implied = chooser.implied(host)
        return Asking(arrival, host, header, address, asked.query, asked.method, implied)


def _filled(short: Short, like: Like, entries: Mapping[str, Entry | None]) -> Short:
    """The same of another host, with its own entries."""
    text = like.words.filled

    def own(entry: Entry) -> Entry:
        found = entries.get(entry.path)
        assert found is not None
        return found

    log = short.site.log
    return Short(
        ShortSite("httpd", like.host.label, like.host.place, log and text(log)),
        short.status,
        short.file and text(short.file),
        short.content_type,
        short.location and text(short.location),
        tuple([[own(entry) for entry in each] for each in short.passed]),
        short.read and own(short.read),
        short.indexed,
        [text(path) for path in short.looked],
    )


def _unknown(*_: object) -> NoReturn:
    raise LookupError


def _beginnings(addresses: Iterable[str | None]) -> tuple[str, ...] | None:
    """What addresses begin with that one of these takes; None where that cannot be told."""
    found = []
    for address in addresses:
        if address is None or "//" in address:
            return None
        found.append(address.rstrip("/"))
    return tuple(found)


def _binds(sections: Sequence[FileSection], name: str) -> bool:
    """Whether a section on names may bind this one."""
    return any(section.fits(name) is not False for section in sections)


def _alike(access: Access) -> object:
    """The same for rules that say the same, as those of a thousand sites do."""
    if access.unread or access.parts:
        return access
    if any(rule.children or rule.limited is not None for rule in access.rules):
        return access
    if any(rule.kind == "require expr" for rule in access.rules):
        return access
    return tuple((rule.kind, rule.args, rule.negated) for rule in access.rules)
