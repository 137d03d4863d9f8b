"""Why requests failed: each is followed again on the survey, and where that comes to what the log
says, the gate that stops it is the cause.
"""

from __future__ import annotations

import hashlib
import ipaddress
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field, replace
from enum import StrEnum

from ecumen import codes
from ecumen.audit.checks.fronts import groups_of
from ecumen.audit.checks.states import changed_since
from ecumen.audit.finding import Finding
from ecumen.audit.scene import Scene, Site
from ecumen.causes.sources import shared_key
from ecumen.engines.sites import Block, Rung
from ecumen.errors import RequestError
from ecumen.passage import gates
from ecumen.passage.follow import Ran
from ecumen.passage.front import request_to
from ecumen.passage.request import Request, read_request
from ecumen.passage.words import say
from ecumen.survey import Entry

NANO = 1_000_000_000
AFTER = 60  # seconds by which clocks of files and of logs may differ


@dataclass(frozen=True, slots=True)
class FailedRequests:
    """Requests of one kind that failed, or whose name nobody claims. site: as in the ledger.

    host: "" where the line does not say it. client: one of the visitors.
    """

    site: str
    method: str
    path: str
    host: str
    status: int
    client: str


class CauseStanding(StrEnum):
    """How a cause stands to the survey."""

    EXPLAINED = "explained"
    DIFFERS = "differs"
    UNSURE = "unsure"


@dataclass(frozen=True, slots=True)
class Cause:
    """One reason for which requests fail. site: its name. gate, code: that stop them.

    place: what is in the way, or the folder that holds several such. url: one of the requests.
    findings: the keys of those that say the same. now: the status that would come now. before:
    what an earlier survey says of it.
    """

    key: str
    site: str
    declared_at: str
    status: int
    standing: CauseStanding
    gate: str
    code: str
    why: str
    place: str
    url: str
    findings: tuple[str, ...] = ()
    now: int | None = None
    before: str = ""


@dataclass(frozen=True, slots=True)
class DiskChange:
    """Something on disk that changed. what: in words; at: seconds since 1970, UTC."""

    what: str
    path: str
    at: int


@dataclass(slots=True)
class Explanation:
    """What explains one kind of request. place: what is in its own way. near: when the things on
    its way last changed, the latest first.
    """

    cause: Cause
    place: str
    near: list[DiskChange] = field(default_factory=list)


class Explainer:
    """Explains failures on one survey. earlier: a scene of the same server from before."""

    def __init__(
        self,
        scene: Scene,
        findings: Iterable[Finding],
        earlier: Callable[[], Scene | None] = lambda: None,
    ) -> None:
        self.scene = scene
        self._earlier = earlier
        self._groups: dict[str, list[Finding]] = defaultdict(list)
        self._by_site: dict[str, list[Finding]] = defaultdict(list)
        self._by_path: dict[str, list[Finding]] = defaultdict(list)
        for finding in findings:
            self._groups[finding.group].append(finding)
            if finding.id.startswith("context."):
                self._by_path[finding.subject].append(finding)
            for name in finding.sites:
                self._by_site[name].append(finding)
        self.sites: dict[str, Site] = {}
        self._writers: dict[str, list[Site]] = defaultdict(list)
        for site in scene.hosts:
            self.sites.setdefault(site.subject, site)
            if site.summary.log is not None:
                self._writers[shared_key(site.summary.log)].append(site)

    def explain(self, asked: FailedRequests) -> Explanation | None:
        """None where the log holds no request that can be asked again."""
        best: Explanation | None = None
        for site in self._candidates(asked):
            request = _request(site, asked)
            if request is None:
                continue
            told = self._told(site, request, asked)
            if told.cause.standing is CauseStanding.EXPLAINED:
                return told
            if best is None or best.cause.standing is CauseStanding.DIFFERS:
                best = told
        return best

    def _candidates(self, asked: FailedRequests) -> list[Site]:
        known = self.sites.get(asked.site)
        return [known] if known is not None else self._writers.get(asked.site, [])

    def _told(self, site: Site, request: Request, asked: FailedRequests) -> Explanation:
        ran = self.scene.follower.run(request)
        outcome = ran.outcome
        if outcome.decided and _same(outcome.status, asked.status):
            return self._explained(site, request, asked, ran)
        near = list(self._changes(ran))
        standing = CauseStanding.DIFFERS if outcome.decided else CauseStanding.UNSURE
        gate, why, code = "", "", ""
        if not outcome.decided and outcome.doubts:
            gate, doubt = outcome.doubts[0]
            why, code = say(doubt.code, doubt.facts), doubt.code
        elif outcome.blocks:
            gate, block = outcome.blocks[0]
            why, code = _words(block), block.code
        before = ""
        findings: tuple[str, ...] = ()
        if standing is CauseStanding.DIFFERS:
            before = self._before(site, request, asked)
            findings = self._unread(site)
        cause = Cause(
            _key(site.subject, asked.status, standing, gate, code, ""), site.name,
            str(site.summary.place), asked.status, standing, gate, code, why, "", request.url,
            findings, outcome.status, before,
        )  # fmt: skip
        return Explanation(cause, "", near)

    def _explained(
        self, site: Site, request: Request, asked: FailedRequests, ran: Ran
    ) -> Explanation:
        outcome = ran.outcome
        if outcome.blocks:
            gate, block = outcome.blocks[0]
            where = block.path
            group = _holds(block)
            cause = Cause(
                _key(site.subject, asked.status, gate, block.code, group), site.name,
                str(site.summary.place), asked.status, CauseStanding.EXPLAINED, gate, block.code,
                _words(block), group, request.url, self._findings(site, block),
                outcome.status,
            )  # fmt: skip
            return Explanation(cause, where, list(self._changes(ran)))
        # Something goes out: another site's page, for a name that nobody claims; or a status that
        # a line of the configuration gives.
        other = bool(asked.host) and asked.status < 400
        by = gates.site.GATE if other else gates.way.GATE
        gate, part = by.name, ran.at(by)
        words = say(part.code, part.facts) if part.code else ""
        if other:
            words = f"No site claims {asked.host}, so {site.name} answers"
        cause = Cause(
            _key(site.subject, asked.status, gate, part.code, asked.host), site.name,
            str(site.summary.place), asked.status, CauseStanding.EXPLAINED, gate, part.code, words,
            asked.host if other else "", request.url,
            self._claims(asked.host) if other else (), outcome.status,
        )  # fmt: skip
        return Explanation(cause, cause.place, list(self._changes(ran)))

    def _findings(self, site: Site, block: Block) -> tuple[str, ...]:
        found = [f.key for group in groups_of(block) for f in self._groups.get(group, ())]
        if not found:
            found = [f.key for f in self._by_site.get(site.name, ()) if _about(f, site, block)]
        if not found and block.code.gate == "context":
            found = [f.key for f in self._by_path.get(block.path, ())]
        return tuple(dict.fromkeys(found))

    def _unread(self, site: Site) -> tuple[str, ...]:
        """Where the engine has not read the site's file since it changed, it still does what the
        file said before.
        """
        file = site.summary.place.file
        real = self.scene.walker.walk(file).entry
        paths = {file, real.path if real is not None else file}
        changed = {path for path, _ in changed_since(self.scene, site.engine)}
        if not changed & paths:
            return ()
        rows = self._groups.values()
        return tuple(f.key for group in rows for f in group if f.id == "state.not-reloaded")

    def _claims(self, host: str) -> tuple[str, ...]:
        name = host.partition(":")[0]
        groups = (f for group in self._groups.values() for f in group)
        return tuple(
            f.key for f in groups if f.id == "claim.nobody" and f.subject.split()[0] == name
        )

    def _before(self, site: Site, request: Request, asked: FailedRequests) -> str:
        """What an earlier survey says of the request, where that is what the log says too."""
        earlier = self._earlier()
        if earlier is None:
            return ""
        outcome = earlier.follower.run(request).outcome
        if not outcome.decided or outcome.status != asked.status or not outcome.blocks:
            return ""
        _, block = outcome.blocks[0]
        return _words(block)

    # --- what changed on the way ---

    def _changes(self, ran: Ran) -> Iterator[DiskChange]:
        now, outcome = ran.now, ran.outcome
        entries: dict[str, Entry] = {}
        for part in ran.results.values():
            for item in part.picture:
                if isinstance(item, Rung):
                    entries[item.entry.path] = item.entry
        for _, block in outcome.blocks[:1]:
            for proof in block.proofs:
                if proof.entry is not None:
                    entries[proof.entry.path] = proof.entry
        files = {
            proof.place.file for _, b in outcome.blocks[:1] for proof in b.proofs if proof.place
        }
        if now.handling is not None:
            files.add(now.handling.site_place.file)
        for file in files:
            entry = self._file(file)
            if entry is not None:
                entries[entry.path] = entry
        changes = [_change(entry) for entry in entries.values()]
        yield from sorted(changes, key=lambda change: -change.at)

    def _file(self, path: str) -> Entry | None:
        """What a path leads to: a configuration is often enabled by a link."""
        return self.scene.walker.walk(path).entry


# Answers to a condition or for a part of a file go with what goes out whole (RFC 9110, sections
# 13.2 and 14.2).
_OF_A_FILE = frozenset((200, 206, 304))


def _same(predicted: int | None, logged: int) -> bool:
    return predicted == logged or (predicted == 200 and logged in _OF_A_FILE)


def before(changes: Iterable[DiskChange], moment: int) -> DiskChange | None:
    """The last change before something began."""
    found = [change for change in changes if change.at <= moment + AFTER]
    return max(found, key=lambda change: change.at, default=None)


def since(changes: Iterable[DiskChange], moment: int) -> list[DiskChange]:
    """What changed after something was last seen, the earliest first."""
    return sorted((c for c in changes if c.at > moment), key=lambda change: change.at)


def _change(entry: Entry) -> DiskChange:
    # The inode changes with the contents; where it changed later, that was something else.
    if entry.ctime > entry.mtime:
        return DiskChange("its mode or owner was changed", entry.path, entry.ctime // NANO)
    return DiskChange("it was written", entry.path, entry.mtime // NANO)


def _holds(block: Block) -> str:
    """What several such have in common: what is missing or closed in one folder is one cause."""
    if block.path:
        return block.path.rpartition("/")[0] or "/"
    place = next((proof.place for proof in block.proofs if proof.place is not None), None)
    return "" if place is None else str(place)


def _about(finding: Finding, site: Site, block: Block) -> bool:
    """Whether a finding of the site is about its root, where that is in the way."""
    root = (site.summary.root or "").rstrip("/")
    path = block.path.rstrip("/")
    if finding.id == "root.missing":
        return bool(root) and (path == root or path.startswith(f"{root}/"))
    if finding.id.startswith("index."):
        return block.code == codes.SERVE_NO_INDEX and path == root
    if finding.id.startswith("context."):
        return block.code.gate == "context"
    return False


def _request(site: Site, asked: FailedRequests) -> Request | None:
    """The request as it came, of the visitor who made it: who asks decides which rule is in the
    way. Where the log does not say the address, of anybody outside.
    """
    try:
        name = asked.host.partition(":")[0] or site.summary.asked_as
        if "://" in asked.path:
            base = read_request(asked.path, to=site.summary.address, method=asked.method or "GET")
        else:
            front = request_to(site.summary, name, "/")
            path = asked.path or "/"
            url = front.url.removesuffix("/") + path
            base = replace(front, path=path, url=url, method=asked.method or "GET")
    except RequestError:
        return None
    if not base.path.startswith("/"):
        return None
    try:
        return replace(base, source=str(ipaddress.ip_address(asked.client)))
    except ValueError:
        return base


def _words(block: Block) -> str:
    """What stops it. One of many visitors was asked for, and addresses are shown to few."""
    whom = {"client": "the visitor"} if "client" in block.facts else {}
    return say(block.code, {**block.facts, **whom})


def _key(*parts: object) -> str:
    data = "\0".join(str(part) for part in parts).encode("utf-8", "surrogateescape")
    return hashlib.sha256(data).hexdigest()[:16]
