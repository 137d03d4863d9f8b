"""A new site, proposed from two answers: whose it is, and by which address it is asked for.

All else is as most sites of this server have it, and each of it can be said otherwise. What comes
of it is a plan like any other; it is tried on the survey, and the site that is to be is followed
like one that is.
"""

from __future__ import annotations

import html
import ipaddress
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime

from ecumen.audit.scene import Scene, Site
from ecumen.engines.draft import LOCAL, SiteDraft, is_host_name
from ecumen.engines.engine import Engine, renewed
from ecumen.engines.sites import SiteSummary
from ecumen.errors import RequestError
from ecumen.founding.habits import OWN, WORKERS, Habits, Held, Written, filled, habits_of, words_of
from ecumen.operations import Plan, PlanGround
from ecumen.operations.acl import AclGrant
from ecumen.operations.file import File
from ecumen.operations.folder import Folder
from ecumen.operations.link import Link
from ecumen.operations.operation import Operation
from ecumen.operations.reload import Reload
from ecumen.operations.trial import Surveyed, done
from ecumen.passage import Follower, Passage
from ecumen.passage.front import request_to
from ecumen.rights import READ, SEARCH, WRITE
from ecumen.rights.walk import join
from ecumen.survey import Account, Kind, Survey

LEAST_PERSON = 1000  # numbers below are no people's (login.defs(5), "UID_MIN")
LONGEST_ORDER = 9


@dataclass(frozen=True, slots=True)
class Wish:
    """What is asked for. Beside owner and name all may be left to what is usual here.

    seen_by: networks, LOCAL for the server itself; () for everyone. file: the name of the file of
    its configuration.
    """

    owner: str
    name: str
    engine: str = ""
    root: str = ""
    names: tuple[str, ...] = ()
    bindings: tuple[tuple[str, int], ...] = ()
    log: str = ""
    file: str = ""
    seen_by: tuple[str, ...] = (LOCAL,)


@dataclass(frozen=True, slots=True)
class Clash:
    """What stands against a wish. about: which part of it. stops: it cannot be done so; else it is
    something to know.
    """

    about: str
    words: str
    stops: bool


@dataclass(frozen=True, slots=True)
class Proposal:
    """What would be made. said: of each part of the wish why it is so. texts: of the files that
    are written, by path. passage: of the first visitor, once all is done; inside: one on the server
    itself. file: of its configuration.
    """

    engine: str
    draft: SiteDraft | None
    said: dict[str, str]
    clashes: tuple[Clash, ...]
    operations: tuple[Operation, ...] = ()
    texts: dict[str, str] = field(default_factory=dict)
    passage: Passage | None = None
    inside: Passage | None = None
    file: str = ""

    @property
    def possible(self) -> bool:
        return bool(self.operations) and not any(clash.stops for clash in self.clashes)

    def plan(self, survey: Survey) -> Plan:
        """Raises ValueError where it cannot be done so."""
        if not self.possible or self.draft is None:
            raise ValueError(next(clash.words for clash in self.clashes if clash.stops))
        ground = PlanGround(survey.host, survey.taken_at)
        return Plan(f"A new site: {self.draft.names[0]}", ground, self.operations)


@dataclass(slots=True)
class Earlier:
    """What other sites of the same plan take: names, roots, what is above these, and files, each
    with the site that does; folders that they make; for each folder of files the number of the last
    one, and how many digits it has.
    """

    names: dict[str, str] = field(default_factory=dict)
    roots: dict[str, str] = field(default_factory=dict)
    above: dict[str, str] = field(default_factory=dict)
    files: dict[str, str] = field(default_factory=dict)
    folders: set[str] = field(default_factory=set)
    orders: dict[str, tuple[int, int]] = field(default_factory=dict)


def propose(scene: Scene, wish: Wish) -> Proposal:
    """Never raises for what is wished: what cannot be stands among the clashes."""
    habits = _habits(scene, wish.engine)
    if habits is None:
        return _nobodys(wish)
    return _Proposing(scene, wish, habits, Earlier()).made(tried=True)


def propose_beside(scene: Scene, wish: Wish, earlier: Earlier) -> Proposal:
    """The same for one of many, which are tried together: beside what the earlier ones take."""
    habits = _habits(scene, wish.engine)
    if habits is None:
        return _nobodys(wish)
    return _Proposing(scene, wish, habits, earlier).made(tried=False)


def _nobodys(wish: Wish) -> Proposal:
    words = f"There is no {wish.engine or 'web server'} here whose sites could be learned from"
    return Proposal(wish.engine, None, {}, (Clash("engine", words, True),))


def _habits(scene: Scene, kind: str) -> Habits | None:
    """Of the engine that is asked for, or of the one with most sites."""
    found = [
        scene.once(f"habits {number}", lambda scene, engine=engine: habits_of(scene, engine))  # type: ignore[misc]
        for number, engine in enumerate(scene.engines)
        if kind in ("", engine.kind)
    ]
    return max(found, key=lambda each: each.sites, default=None)


class _Proposing:
    def __init__(self, scene: Scene, wish: Wish, habits: Habits, earlier: Earlier) -> None:
        self.earlier = earlier
        self.scene, self.survey, self.engine = scene, scene.survey, habits.engine
        self.wish, self.habits = wish, habits
        self.name = wish.name.strip().lower().rstrip(".")
        self.words = words_of(self.name, wish.owner)
        self.said: dict[str, str] = {}
        self.clashes: list[Clash] = []
        self.texts: dict[str, str] = {}
        self.file = self.link = ""

    def made(self, *, tried: bool) -> Proposal:
        return replace(self._made(tried=tried), file=self.file)

    def _made(self, *, tried: bool) -> Proposal:
        owner = self._owner()
        draft = self._draft()
        self._file()
        if owner is None or draft is None or any(clash.stops for clash in self.clashes):
            return self._proposal(draft)
        operations = tuple(self._operations(owner, draft))
        if any(clash.stops for clash in self.clashes):
            return self._proposal(draft)
        if tried:
            return self._tried(draft, operations)
        self._taken(draft, operations)
        kind = self.engine.kind
        return Proposal(kind, draft, self.said, tuple(self.clashes), operations, self.texts)

    def _taken(self, draft: SiteDraft, operations: Sequence[Operation]) -> None:
        """What those behind it must not take, too."""
        own = draft.names[0]
        self.earlier.names |= dict.fromkeys(draft.names, own)
        self.earlier.roots[draft.root] = own
        self.earlier.above |= dict.fromkeys(_above(draft.root), own)
        self.earlier.files |= {
            each.path: own for each in operations if isinstance(each, File | Link)
        }
        self.earlier.folders |= {each.path for each in operations if isinstance(each, Folder)}

    def _proposal(self, draft: SiteDraft | None) -> Proposal:
        return Proposal(self.engine.kind, draft, self.said, tuple(self.clashes))

    def _stop(self, about: str, words: str) -> None:
        self.clashes.append(Clash(about, words, True))

    def _warn(self, about: str, words: str) -> None:
        self.clashes.append(Clash(about, words, False))

    # --- the parts ---

    def _owner(self) -> Account | None:
        account = self.survey.account_by_name.get(self.wish.owner)
        if account is None:
            self._stop("owner", f"There is no account {self.wish.owner!r} on this server")
        elif account.uid == 0:
            self._stop("owner", "Files of root's are nobody's site: name a person's account")
        elif account.uid < LEAST_PERSON:
            self._warn("owner", f"{account.name} is no person's account (number {account.uid})")
        return account

    def _draft(self) -> SiteDraft | None:
        if not is_host_name(self.name) or "." not in self.name:
            self._stop("name", f"{self.wish.name!r} is no name that a visitor could ask for")
            return None
        names, bindings = self._names(), self._bindings()
        for name in names:
            self._claimed(name)
        root = self._root()
        log = self._log()
        if root is None:
            return None
        try:
            draft = SiteDraft(
                names, root, bindings, (), log, self.wish.seen_by, self._note(), self.habits.indent
            )
            # What the language cannot hold is told before anything is planned.
            self.engine.site_text(draft)
        except ValueError as error:
            self._stop("site", str(error))
            return None
        self._leads()
        return draft

    def _note(self) -> str:
        """Whose it is, and since when, in front of its configuration."""
        day = datetime.fromtimestamp(self.survey.taken_at, UTC).date()
        return f"For {self.wish.owner}, {day}" if self.wish.owner.isprintable() else ""

    def _names(self) -> tuple[str, ...]:
        both = self.habits.both_names
        if self.wish.names:
            return (self.name, *(n.lower() for n in self.wish.names if n.lower() != self.name))
        if both is None or not both.value or self.name.startswith("www."):
            return (self.name,)
        self.said["names"] = both.said
        return self.name, f"www.{self.name}"

    def _claimed(self, name: str) -> None:
        for site in self.scene.once("claimed names", claimed).get(name, ()):
            where = site.summary.place
            self._stop("name", f"{name} is claimed by {site.name} already ({where})")
        if name in self.earlier.names:
            self._stop("name", f"{name} is claimed by {self.earlier.names[name]} of the same plan")

    def _bindings(self) -> tuple[tuple[str, int], ...]:
        usual = self.habits.bindings
        if self.wish.bindings:
            bindings = self.wish.bindings
        elif usual is None:
            bindings = (("*", 80),)
        else:
            bindings = usual.value
            self.said["bindings"] = usual.said
        for address, port in bindings:
            self._listened(address, port)
        return bindings

    def _listened(self, address: str, port: int) -> None:
        if any(b.port == port and b.address in ("*", address) for b in self.engine.listens):
            return
        held = [each for each in self.survey.listeners if each.port == port]
        if held and held[0].program not in self.engine.programs:
            who = held[0].program or "another program"
            self._stop("bindings", f"Port {port} is held by {who}")
        elif any(b.port == port for other in self.scene.engines for b in other.listens):
            self._stop("bindings", f"Port {port} is another web server's here")
        elif self.engine.listens_by_site:
            # Its own line has the engine listen there.
            return
        else:
            self._stop(
                "bindings",
                f"{self.engine.kind} does not listen on port {port} here",
            )

    def _root(self) -> str | None:
        usual, root = self.habits.root, self.wish.root.rstrip("/")
        if not root and usual is None:
            self._stop("root", "The roots of the sites here follow no pattern: name a folder")
            return None
        if not root and usual is not None:
            root = filled(usual.value, self.words)
            self.said["root"] = usual.said
        if not root.startswith("/") or any(p in ("", ".", "..") for p in root.split("/")[1:]):
            self._stop("root", f"{root} is no whole path")
            return None
        entry = self.survey.files.get(root)
        if entry is not None and entry.kind is not Kind.DIR:
            self._stop("root", f"{root} is there already, and is no folder")
        elif entry is not None and self.survey.files.children(root):
            count = len(self.survey.files.children(root))
            self._warn("root", f"{root} is there already, with {count} entries: they will be seen")
        self._beside(root)
        return root

    def _beside(self, root: str) -> None:
        """Whether another site lies there, around it or within."""
        roots, above = self.scene.once("taken roots", _taken)

        def taken(path: str) -> str | None:
            return roots.get(path) or self.earlier.roots.get(path)

        for around in _above(root):
            other = taken(around)
            if other is not None:
                words = f"{root} lies within the root of {other}, which shows it, too"
                self._stop("root", words)
        if taken(root) is not None:
            self._stop("root", f"{root} is the root of {taken(root)}")
        inside = above.get(root) or self.earlier.above.get(root)
        if inside is not None:
            self._stop("root", f"The root of {inside} lies within {root}")

    def _log(self) -> str | None:
        usual = self.habits.log
        if self.wish.log:
            return self.wish.log
        if usual is None:
            return None
        self.said["log"] = usual.said
        return filled(usual.value, self.words)

    def _leads(self) -> None:
        """Where its name leads, as far as the survey knows."""
        record = self.survey.name_by_text.get(self.name)
        if record is None or record.addresses is None:
            words = f"It is not known here where {self.name} leads: its record is to be made"
            self._warn("name", words)
        elif not set(record.addresses) & set(self.survey.addresses):
            where = record.addresses[0] if record.addresses else "nowhere"
            self._warn("name", f"The name leads to {where}, which is not this server")

    # --- what is done ---

    def _operations(self, owner: Account, draft: SiteDraft) -> Iterator[Operation]:
        made: list[Operation] = list(self._folders(owner, draft.root))
        index = join(draft.root, self.habits.index)
        if not self.survey.files.children(draft.root):
            page = first_page(draft.names[0])
            self.texts[index] = page
            made.append(self._new_file(index, page, owner.uid, owner.gid))
        if draft.log is not None:
            made += self._log_folder(draft.log.rpartition("/")[0], made, owner)
        made += self._configuration(draft)
        return iter(made)

    def _folders(self, owner: Account, root: str) -> Iterator[Operation]:
        """From the first one that is not there."""
        parts = root.split("/")
        usual = self.habits.root
        known = usual is not None and filled(usual.value, self.words) == root
        first = len(parts) - len(self.habits.folders) + 1
        for depth in range(2, len(parts) + 1):
            path = "/".join(parts[:depth])
            if self.survey.files.get(path) is not None or path in self.earlier.folders:
                continue
            at = depth - first
            held = self.habits.folders[at] if known and at >= 0 else Held(False, OWN, 0o755)
            folder = self._folder(path, held, owner)
            yield folder
            worker = self.engine.worker
            if held.worker and worker is not None:
                rights = zip("rwx", (READ, WRITE, SEARCH), strict=True)
                bits = "".join(letter if held.worker & bit else "-" for letter, bit in rights)
                yield AclGrant.of(self.survey, folder.made(), f"user:{worker.name}:{bits}")

    def _log_folder(
        self, where: str, made: Sequence[Operation], owner: Account
    ) -> Iterator[Operation]:
        """Where each site has one of its own, it is made like theirs."""
        there = {each.path for each in made if isinstance(each, Folder)} | self.earlier.folders
        if self.survey.files.get(where) is not None or where in there:
            return
        above = where.rpartition("/")[0]
        if self.wish.log or (self.survey.files.get(above) is None and above not in there):
            self._stop("log", f"The folder {where} of its log is not there")
            return
        yield self._folder(where, self.habits.logs, owner)

    def _folder(self, path: str, held: Held, owner: Account) -> Folder:
        uid = 0 if held.root else owner.uid
        gid = owner.gid if held.group == OWN else 0
        if held.group == WORKERS and self.engine.worker is not None:
            groups = self.engine.worker.groups
            gid = min(groups)
        elif held.group not in (OWN, WORKERS):
            gid = int(held.group)
        return Folder(
            path, f"{held.mode:04o}", uid, gid,
            self.survey.user_name(uid), self.survey.group_name(gid),
        )  # fmt: skip

    def _file(self) -> None:
        """Where its configuration is written."""
        written = self.habits.written
        if written is None:
            words = (
                "The sites here have no files of their own: where a new one is read is not known"
            )
            self._stop("file", words)
            return
        if not self.wish.file:
            self.said["file"] = written.said
        where = written.value
        leaf = self.wish.file or self._leaf(where)
        if "/" in leaf or leaf in ("", ".", ".."):
            self._stop("file", f"{leaf!r} is no name of a file")
            return
        self.file = join(where.folder, leaf)
        self.link = join(where.enabled, leaf) if where.enabled else ""
        for each in filter(None, (self.file, self.link)):
            if self.survey.files.get(each) is not None or each in self.earlier.files:
                self._stop("file", f"{each} is there already")

    def _configuration(self, draft: SiteDraft) -> Iterator[Operation]:
        text = self.engine.site_text(draft)
        self.texts[self.file] = text
        yield self._new_file(self.file, text, 0, 0)
        written = self.habits.written
        if self.link and written is not None:
            yield Link(self.link, f"{written.value.link}{self.link.rpartition('/')[2]}")
        yield Reload(self.engine.kind, self.engine.programs[0])

    def _new_file(self, path: str, text: str, uid: int, gid: int) -> File:
        data = text.encode("utf-8", "surrogateescape")
        return File.of(Surveyed(self.survey), path, data, owner=uid, group=gid)

    def _leaf(self, where: Written) -> str:
        """Behind all others: what comes first answers what nobody claims."""
        folder = where.enabled or where.folder
        if folder not in self.earlier.orders:
            self.earlier.orders[folder] = _last(self.survey.files.children(folder))
        last, width = self.earlier.orders[folder]
        self.earlier.orders[folder] = last + 1, width
        order = f"{last + 1:0{width}}"
        return filled(where.file, {**self.words, "order": order})

    # --- what comes of it ---

    def _tried(self, draft: SiteDraft, operations: tuple[Operation, ...]) -> Proposal:
        """The site as it would be: whether it is read, and what its first visitor meets."""
        survey = done(self.survey, operations)
        engines = renewed(self.scene.engines, survey)
        follower = Follower(survey, engines)
        engine = engines[self.scene.engines.index(self.engine)]
        site = _site_of(engine, draft.names[0])
        if site is None:
            self._stop("file", f"{self.engine.kind} would not read the new file where it lies")
            return self._proposal(draft)
        for words in moved_defaults(self.survey, self.engine, engine):
            self._warn("file", words)
        outside = request_to(site, draft.names[0], "/")
        try:
            inside = replace(outside, source="127.0.0.1")
            passages = follower.follow(outside), follower.follow(inside)
        except RequestError as error:
            self._stop("name", str(error))
            return self._proposal(draft)
        return Proposal(
            self.engine.kind,
            draft,
            self.said,
            tuple(self.clashes),
            operations,
            self.texts,
            *passages,
        )


def moved_defaults(survey: Survey, before: Engine, then: Engine) -> Iterator[str]:
    """Where what nobody claims would be answered by another site than today."""
    for binding in then.listens:
        port = binding.port or 80
        address = survey.outside_address if binding.address == "*" else binding.address
        was, now = (each.answers(address, port, "nobody.invalid") for each in (before, then))
        if was != now:
            yield f"On port {port} it would answer what no site claims, in place of {was}"


def _last(names: Sequence[str]) -> tuple[int, int]:
    """The greatest number that a name begins with, and how many digits such have."""
    numbers = [name[: len(name) - len(name.lstrip("0123456789"))] for name in names]
    numbers = [each for each in numbers if 0 < len(each) <= LONGEST_ORDER]
    return max(map(int, numbers), default=0), max(map(len, numbers), default=3)


def claimed(scene: Scene) -> dict[str, list[Site]]:
    """The sites that claim a name."""
    found: dict[str, list[Site]] = {}
    for site in scene.hosts:
        for name in dict.fromkeys(claim.name for claim in site.summary.claims):
            found.setdefault(name, []).append(site)
    return found


def _taken(scene: Scene) -> tuple[dict[str, str], dict[str, str]]:
    """The site whose root a folder is, and one whose root lies in it."""
    roots = {
        site.summary.root.rstrip("/"): site.name
        for site in reversed(scene.hosts)
        if site.summary.root
    }
    return roots, {around: name for root, name in roots.items() for around in _above(root)}


def _above(path: str) -> Iterator[str]:
    """The folders around a path, but for `/`."""
    parts = path.split("/")
    yield from ("/".join(parts[:depth]) for depth in range(2, len(parts)))


def _site_of(engine: Engine, name: str) -> SiteSummary | None:
    """Looked for from behind, where new ones stand."""
    parts = (engine.sites_of(number) for number in reversed(range(engine.blocks)))
    return next((s for part in parts for s in part if s.asked_as.lower() == name), None)


_PAGE = """\
<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>{name}</title>
<style>
  body {{ font: 1rem/1.5 system-ui, sans-serif; max-width: 34rem; margin: 20vh auto }}
</style>
<h1>{name}</h1>
<p>This site is new. What belongs here goes into the folder in which this page lies; then this
page can go.</p>
</html>
"""


def first_page(name: str) -> str:
    """The page of a site that has none yet."""
    return _PAGE.format(name=html.escape(name))


def opening(scene: Scene, site: Site, seen_by: Sequence[str]) -> tuple[Operation, ...]:
    """The operations that let others in to a site that was made here. Raises LookupError, which
    says why not, and ValueError for what is no network.
    """
    for network in seen_by:
        if network != LOCAL:
            ipaddress.ip_network(network)
    file = site.summary.place.file
    now = site.engine.reopened("\n".join(scene.text(file)), seen_by)
    if now is None:
        raise LookupError(f"{file} was written by hand: who is let in is to be said there")
    path = scene.walker.walk(file).physical or file
    looking = Surveyed(scene.survey)
    changed = File.of(looking, path, now.encode("utf-8", "surrogateescape"))
    return changed, Reload(site.engine.kind, site.engine.programs[0])
