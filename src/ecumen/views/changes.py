"""What changed between two surveys: sites, bindings, files, accounts, and what visitors meet.

What is alike on both is not listed. Of a subtree that came or went only the top is.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from ecumen.audit.finding import Finding
from ecumen.audit.scene import Scene, Site
from ecumen.survey import Account, Entry, Group, Kind, Survey, acl_text

MOST_LISTED = 1000


@dataclass(frozen=True, slots=True)
class Change:
    """One thing that came, went or is different.

    what: `new`, `gone` or `changed`. aspect: of what is different, in words; "" for the thing
    itself. within: how many lie in a folder that came or went with it.
    """

    what: str
    subject: str
    aspect: str = ""
    before: str = ""
    after: str = ""
    within: int = 0


@dataclass(frozen=True, slots=True)
class Changed:
    """Changes of one kind, in order; `more` stand behind those that are listed."""

    changes: list[Change]
    more: int


@dataclass(frozen=True, slots=True)
class Changes:
    """All that changed from one survey to another. passages: front pages that fare differently."""

    passages: Changed
    sites: Changed
    bindings: Changed
    files: Changed
    accounts: Changed
    findings: Changed


# A site's front page in words: what a visitor meets, and why.
Outcome = tuple[str, str]
Asked = Callable[[Scene, Site], Outcome]


def outcome_of(scene: Scene, site: Site) -> Outcome:
    """What a visitor of the front page meets, and why."""
    page = scene.page(site)
    return outcome_said(page.state, page.status, page.reason)


def outcome_said(state: str, status: int | None, reason: str) -> Outcome:
    """The status, or why there is none, and the reason."""
    if state == "unsure":
        return "not sure", reason
    return ("no answer" if status is None else str(status)), reason


def changes(
    before: Scene,
    after: Scene,
    found: tuple[Mapping[str, str], Mapping[str, str]],
    asked: Asked = outcome_of,
) -> Changes:
    """found: the titles of what was found on each, by key. asked: of front pages, where these are
    known already.
    """
    pairs = _pairs(before.hosts, after.hosts)
    everyone = pairs + _pairs(_personal(before), _personal(after))
    return Changes(
        passages=_cut(_passages(before, after, everyone, asked)),
        sites=_cut(_sites(everyone)),
        bindings=_cut(_bindings(before, after)),
        files=_cut(_files(before.survey, after.survey)),
        accounts=_cut(_accounts(before.survey, after.survey)),
        findings=_cut(_findings(*found)),
    )


def titles(findings: Iterable[Finding]) -> dict[str, str]:
    """What was found, by key."""
    return {finding.key: finding.title for finding in findings}


def _cut(changes: Iterable[Change]) -> Changed:
    listed = list(changes)
    return Changed(listed[:MOST_LISTED], max(0, len(listed) - MOST_LISTED))


# --- sites ---

_Pair = tuple[Site | None, Site | None]


def _personal(scene: Scene) -> list[Site]:
    return [site for site in scene.sites if site.summary.personal is not None]


def _pairs(before: list[Site], after: list[Site]) -> list[_Pair]:
    """Each site beside itself: known by engine, name and bindings, else by engine and name, else
    by where it is declared. Of several alike the first goes with the first.
    """
    left, right = list(before), list(after)
    found: list[_Pair] = []
    marks: tuple[Callable[[Site], object], ...] = (
        lambda site: site.subject,
        lambda site: (site.engine.kind, site.name),
        lambda site: (site.engine.kind, str(site.summary.place)),
    )
    for mark in marks:
        waiting: dict[object, list[Site]] = {}
        # Taken from the end below, so that of sites that look alike the first goes with the first.
        for site in reversed(right):
            waiting.setdefault(mark(site), []).append(site)
        rest = []
        for site in left:
            same = waiting.get(mark(site))
            if same:
                found.append((site, same.pop()))
            else:
                rest.append(site)
        taken = {pair[1] for pair in found}
        left, right = rest, [site for site in right if site not in taken]
    return found + [(site, None) for site in left] + [(None, site) for site in right]


def _name(site: Site) -> str:
    return f"{site.name} ({site.engine.kind})"


def _sites(pairs: list[_Pair]) -> Iterator[Change]:
    for before, after in pairs:
        if before is None:
            assert after is not None
            yield Change("new", _name(after), after=str(after.summary.place))
        elif after is None:
            yield Change("gone", _name(before), before=str(before.summary.place))
        else:
            was, now = _facts(before), _facts(after)
            for aspect, text in was.items():
                if text != now[aspect]:
                    yield Change("changed", _name(after), aspect, text, now[aspect])


def _facts(site: Site) -> dict[str, str]:
    """What a site is declared to be, in words."""
    summary = site.summary
    return {
        "name": site.name,
        "other names": " ".join(summary.names),
        "bindings": ", ".join(summary.bindings),
        "document root": summary.root or "",
        "index files": " ".join(summary.index),
        "log": summary.log or "",
        "file": summary.place.file,
    }


def _passages(before: Scene, after: Scene, pairs: list[_Pair], asked: Asked) -> Iterator[Change]:
    for was, now in pairs:
        if was is None or now is None:
            continue
        (status, why), (status_now, why_now) = asked(before, was), asked(after, now)
        # The same status for another reason is no change for a visitor; the finding that names the
        # reason is listed with the findings.
        if status != status_now:
            yield Change(
                "changed", _name(now), "front page", f"{status}: {why}", f"{status_now}: {why_now}"
            )


# --- bindings ---


def _bindings(before: Scene, after: Scene) -> Iterator[Change]:
    was, now = _doors(before), _doors(after)
    for door in sorted(was.keys() | now.keys()):
        if door not in now:
            yield Change("gone", door, before=was[door])
        elif door not in was:
            yield Change("new", door, after=now[door])
        elif was[door] != now[door]:
            yield Change("changed", door, "who listens, who is bound", was[door], now[door])


def _doors(scene: Scene) -> dict[str, str]:
    """Addresses and ports, with who listens there and how many sites of which engine are bound."""
    heard: dict[str, str] = {}
    for listener in scene.survey.listeners:
        heard[_door(listener.address, listener.port)] = listener.program or "a program"
    bound: dict[str, dict[str, int]] = {}
    for (number, address, port), sites in scene.bound.items():
        counts = bound.setdefault(_door(address, port), {})
        kind = scene.engines[number].kind
        counts[kind] = counts.get(kind, 0) + len(sites)
    return {
        door: "; ".join(
            [f"{heard[door]} listens" if door in heard else "no listener of its own"]
            + [f"{kind}: {count} bound" for kind, count in sorted(bound.get(door, {}).items())]
        )
        for door in heard.keys() | bound.keys()
    }


def _door(address: str, port: int | None) -> str:
    every = address in ("0.0.0.0", "*", "::", "[::]")
    return f"{'*' if every else address}:{'*' if port is None else port}"


# --- files ---


def _files(before: Survey, after: Survey) -> Iterator[Change]:
    """Everything that came, went or has other rights; folders come right before what is in them."""
    was, now = before.files, after.files
    # Plain sorting would put `/a-b` between `/a` and `/a/c`: the slash must come before every other
    # letter, or what lies in a folder would not follow it.
    paths = sorted(set(was.paths) | set(now.paths), key=lambda path: path.replace("/", "\0"))
    top: Change | None = None
    within = 0
    for path in paths:
        left, right = was.get(path), now.get(path)
        what = "gone" if right is None else "new" if left is None else "changed"
        if top is not None and what == top.what and path.startswith(f"{top.subject}/"):
            within += 1
            continue
        if top is not None:
            yield replace(top, within=within)
            top, within = None, 0
        if left is not None and right is not None:
            yield from _differences(path, left, right, before, after)
        elif left is not None:
            top = Change(what, path, before=_entry_words(left, before))
        elif right is not None:
            top = Change(what, path, after=_entry_words(right, after))
    if top is not None:
        yield replace(top, within=within)


def _entry_words(entry: Entry, survey: Survey) -> str:
    owner = f"{survey.user_name(entry.uid)}:{survey.group_name(entry.gid)}"
    return f"{entry.kind.value} {entry.mode:04o} {owner}"


def _differences(
    path: str, was: Entry, now: Entry, before: Survey, after: Survey
) -> Iterator[Change]:
    sides = [
        ("kind", was.kind.value, now.kind.value),
        ("mode", f"{was.mode:04o}", f"{now.mode:04o}"),
        ("owner", before.user_name(was.uid), after.user_name(now.uid)),
        ("group", before.group_name(was.gid), after.group_name(now.gid)),
        ("ACL", acl_text(was.acl or ()), acl_text(now.acl or ())),
        ("default ACL", acl_text(was.default_acl or ()), acl_text(now.default_acl or ())),
        ("marks", " ".join(was.flags), " ".join(now.flags)),
        ("context", was.context or "", now.context or ""),
        ("leads to", was.target or "", now.target or ""),
    ]
    different = [side for side in sides if side[1] != side[2]]
    for aspect, old, new in different:
        yield Change("changed", path, aspect, old, new)
    written = was.mtime != now.mtime or was.size != now.size
    # A folder's time follows from what came and went in it, which is listed itself.
    if not different and written and now.kind is Kind.FILE:
        yield Change("changed", path, "contents", f"{was.size} bytes", f"{now.size} bytes")


# --- accounts and findings ---


def _accounts(before: Survey, after: Survey) -> Iterator[Change]:
    yield from _named(
        {each.name: _account(each, before) for each in before.accounts},
        {each.name: _account(each, after) for each in after.accounts},
        "account",
    )
    yield from _named(
        {each.name: _group(each) for each in before.groups},
        {each.name: _group(each) for each in after.groups},
        "group",
    )


def _account(account: Account, survey: Survey) -> str:
    group = survey.group_name(account.gid)
    return f"number {account.uid}, group {group}, home {account.home}, shell {account.shell}"


def _group(group: Group) -> str:
    return f"number {group.gid}, members {' '.join(sorted(group.members)) or 'none'}"


def _named(was: Mapping[str, str], now: Mapping[str, str], kind: str) -> Iterator[Change]:
    for name in sorted(was.keys() | now.keys()):
        if name not in now:
            yield Change("gone", name, kind, before=was[name])
        elif name not in was:
            yield Change("new", name, kind, after=now[name])
        elif was[name] != now[name]:
            yield Change("changed", name, kind, was[name], now[name])


def _findings(was: Mapping[str, str], now: Mapping[str, str]) -> Iterator[Change]:
    for key, title in now.items():
        if key not in was:
            yield Change("new", title)
    for key, title in was.items():
        if key not in now:
            yield Change("gone", title)
