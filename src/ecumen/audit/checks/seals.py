"""Certificates and their keys: names that are not held, ends, chains, keys that others may read;
and the same name in plain HTTP.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from ecumen.audit.check import MOST_SHOWN, Found, changed_modes, check, mended
from ecumen.audit.finding import Impact
from ecumen.audit.scene import Front, Scene, Site
from ecumen.audit.seals import Greeting, arrival_of, by_file, greetings, pairs
from ecumen.audit.users import is_person
from ecumen.engines.sealing import DAY, Shown, called, chain_of, day_of, holds, key_fault, state_of
from ecumen.errors import RequestError
from ecumen.passage import read_request
from ecumen.passage.verdict import Evidence
from ecumen.rights.decide import READ, subjects_of
from ecumen.rights.table import AccessTable, Crowd
from ecumen.survey import Entry

PLAIN, SEALED = 80, 443


@check("seal.other-name", Impact.OUTAGE, "The certificate does not hold the site's name")
def other_name(scene: Scene) -> Iterator[Found]:
    refused: dict[Site, list[Greeting]] = defaultdict(list)
    for each in greetings(scene):
        if each.certificate is not None and holds(each.certificate, each.name) is None:
            refused[each.site].append(each)
    for site, found in refused.items():
        names = list(dict.fromkeys(each.name for each in found))
        first = found[0]
        assert first.certificate is not None
        held = ", ".join([*first.certificate.names, *first.certificate.addresses][:MOST_SHOWN])
        many = f" and {len(names) - 1} more" if len(names) > 1 else ""
        yield Found(
            site.subject,
            [site],
            [_line(first.all[0]), Evidence(text=f"it holds {held or 'no name'}")],
            f"The certificate that is shown for {names[0]}{many} does not hold that name",
            group=first.all[0].pair.certificate,
            remedies=mended(
                f"Give {site.name} a certificate that holds {', '.join(names[:MOST_SHOWN])}",
                "Take names out of the site that nobody asks for",
            ),
            addresses=len(names),
        )


@check("seal.ending", Impact.OUTAGE, "A certificate is past its end, or near it")
def ending(scene: Scene) -> Iterator[Found]:
    now = scene.survey.taken_at
    for path, (one, sites) in by_file(scene).items():
        certificate = one.certificate
        assert certificate is not None
        match state_of(certificate, now):
            case "not-yet":
                said, impact = f"begins on {day_of(certificate.begins)} only", Impact.OUTAGE
            case "over":
                said, impact = f"ended on {day_of(certificate.ends)}", Impact.OUTAGE
            case "soon":
                days = (certificate.ends - now) // DAY
                when = "today" if not days else "tomorrow" if days == 1 else f"in {days} days"
                said, impact = f"ends {when}, on {day_of(certificate.ends)}", Impact.UPKEEP
            case _:
                continue
        yield Found(
            path,
            sites,
            [_line(one), Evidence(text=f"issued by {called(certificate.issuer)}")],
            f"The certificate of {_named(sites)} {said}",
            impact=impact,
            remedies=mended("Have it renewed, and the engine reloaded"),
            addresses=len(sites),
        )


@check("seal.key", Impact.OUTAGE, "Key and certificate do not belong together, or one is missing")
def key(scene: Scene) -> Iterator[Found]:
    """The engine that runs holds what it read before: the next start, or reload, fails."""
    seen: dict[tuple[str, str], tuple[Shown, str, list[Site]]] = {}
    for site, one in pairs(scene):
        fault = f"{one.pair.certificate}: {one.why}" if one.why else ""
        if not fault and (why := key_fault(scene.survey, one)):
            fault = f"{one.pair.key}: {why}"
        if fault:
            pair = one.pair.certificate, one.pair.key
            seen.setdefault(pair, (one, fault, []))[2].append(site)
    for (certificate, key), (one, fault, sites) in seen.items():
        yield Found(
            f"{certificate} {key}",
            sites,
            [_line(one), Evidence(text=fault)],
            f"{_named(sites)} cannot be sealed with what it names: {fault}",
            remedies=mended("Put the certificate and the key in place that belong together"),
            addresses=len(sites),
        )


@check("seal.key-open", Impact.EXPOSURE, "A private key is readable by more than it needs",
       needs=("files",))  # fmt: skip
def key_open(scene: Scene) -> Iterator[Found]:
    """By persons and by the engines' workers: the engine reads it as root, before it answers."""
    keys: dict[str, tuple[Entry, Shown, list[Site]]] = {}
    for site, one in pairs(scene):
        file = scene.survey.seal_by_path.get(one.pair.key)
        entry = scene.walker.walk(one.pair.key).entry
        if file is None or not file.key_digest or entry is None:
            continue
        sites = keys.setdefault(entry.path, (entry, one, []))[2]
        if site not in sites:
            sites.append(site)
    if not keys:
        return
    people = {account.name for account in scene.survey.accounts if is_person(account)}
    subjects = [each for each in subjects_of(scene.survey) if each.name in people]
    workers = [each.worker for each in scene.engines if each.worker is not None]
    table = AccessTable(scene.survey.files, Crowd([*subjects, *workers]))
    rows = np.array([table.files.row(path) for path in keys], np.int64)
    reads = table.members(table.allowed(READ, rows))
    everyone = [*subjects, *workers]
    for number, (entry, one, sites) in enumerate(keys.values()):
        who = [
            each.name
            for at, each in enumerate(everyone)
            if reads[number, at] and each.uid not in (0, entry.uid)
        ]
        names = list(dict.fromkeys(who))
        if not names:
            continue
        others = f" and {len(names) - 1} more" if len(names) > 1 else ""
        yield Found(
            entry.path,
            sites,
            [scene.entry(entry), _line(one)],
            f"{names[0]}{others} may read {entry.path}, the private key of {_named(sites)}",
            remedies=changed_modes("Let its owner alone read it", [entry], "go-rwx"),
            accounts=len(names),
        )


@check("seal.chain", Impact.OUTAGE, "The chain as sent is incomplete or out of order")
def chain(scene: Scene) -> Iterator[Found]:
    for path, (one, sites) in by_file(scene).items():
        found = chain_of(scene.survey, one)
        if found.state not in ("cut", "order"):
            continue
        cut = found.state == "cut"
        said = f"{found.lacks} is not sent" if cut else "what is sent is not in its order"
        yield Found(
            path,
            sites,
            [_line(one), Evidence(text=said)],
            f"The certificate of {_named(sites)} does not lead to anybody trusted: {said}"
            if cut
            else f"The chain of {_named(sites)} is not sent in its order",
            impact=Impact.OUTAGE if cut else Impact.UPKEEP,
            remedies=mended("Put the certificates of the issuer behind it, the nearest first"),
            addresses=len(sites),
        )


@check("seal.plain-beside", Impact.EXPOSURE, "A sealed name answers in plain HTTP, too")
def plain_beside(scene: Scene) -> Iterator[Found]:
    told = set[Site]()
    for each in greetings(scene):
        if each.port != SEALED or each.site in told or not _claimed(scene, each):
            continue
        plain, sealed = (_asked(scene, each, scheme) for scheme in ("http", "https"))
        if plain is None or sealed is None or not (plain.decided and sealed.decided):
            continue
        # The very page of the one at the other: what leads over, or is there for machines alone, is
        # no page.
        if plain.status != 200 or sealed.status != 200:
            continue
        told.add(each.site)
        yield Found(
            each.site.subject,
            [each.site],
            [scene.asked(plain), scene.asked(sealed)],
            f"{each.name} answers in plain HTTP beside TLS, and does not lead over",
            group=each.site.engine.kind,
            remedies=mended(f"Lead who asks for http://{each.name}/ over to https"),
            addresses=1,
        )


@check("seal.circle", Impact.OUTAGE, "Plain HTTP and TLS lead to each other")
def circle(scene: Scene) -> Iterator[Found]:
    told = set[Site]()
    for each in greetings(scene):
        if each.port != SEALED or each.site in told or not _claimed(scene, each):
            continue
        there, back = (_asked(scene, each, scheme) for scheme in ("http", "https"))
        if there is None or back is None or not (there.decided and back.decided):
            continue
        if _leads(there) == ("https", each.name, "/") and _leads(back) == ("http", each.name, "/"):
            told.add(each.site)
            yield Found(
                each.site.subject,
                [each.site],
                [scene.asked(there), scene.asked(back)],
                f"http://{each.name}/ leads to https, and that leads back",
                group=each.site.engine.kind,
                remedies=mended("Keep the one that leads to https, and take the other away"),
                addresses=1,
            )


def _claimed(scene: Scene, each: Greeting) -> bool:
    """Whether a site claims the name in plain HTTP."""
    arrival = arrival_of(each.address, PLAIN, each.name, sealed=False)
    heard = (e for e in scene.engines if any(bound.port == PLAIN for bound in e.listens))
    return any(engine.claims(arrival) for engine in heard)


def _asked(scene: Scene, each: Greeting, scheme: str) -> Front | None:
    try:
        return scene.ask(read_request(f"{scheme}://{each.name}/", to=each.address))
    except RequestError:
        return None


def _leads(front: Front) -> tuple[str, str, str] | None:
    location = front.answer.location if front.answer is not None else None
    try:
        there = read_request(location) if location else None
    except RequestError:
        return None
    return None if there is None else (there.scheme, there.name.lower(), there.path)


def _line(one: Shown) -> Evidence:
    return Evidence(one.pair.place.file, one.pair.place.line, one.pair.text)


def _named(sites: list[Site]) -> str:
    more = len(sites) - 1
    return sites[0].name + (f" and {more} more" if more else "")
