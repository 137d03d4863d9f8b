"""Where names lead: by the hosts file, by this system's own resolver, and by what is published.

What a resolver answers is read by a process that may do nothing. Source: hosts(5),
nsswitch.conf(5), getaddrinfo(3); RFC 1035.
"""

from __future__ import annotations

import json
import socket
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from typing import IO, Any

from ecumen.survey import HOSTS_FILE, NameRecord, parse_hosts
from ecumen_machine.nobody import said_by_nobody

# Looking names up must not hold the survey up: what has no answer by then is not known (seconds).
# As long as answers come there is more time.
SILENT, WITHIN = 6.0, 60.0
AT_ONCE = 200  # names
_ONE = 3.0  # seconds for one question to the name service

Progress = Callable[[str, int], None]


def hosts_file(services: Callable[[str], Sequence[str]]) -> Iterator[NameRecord]:
    """hosts(5). A name leads to what all its lines say; an address is called by the first name of
    the first line that has it, where that file is asked first (nsswitch.conf(5)). services: what is
    asked for names of a kind, in order.
    """
    try:
        with open(HOSTS_FILE, "rb") as stream:
            lines = parse_hosts(stream.read())
    except OSError:
        return
    seen: dict[str, list[str]] = {}
    own: dict[str, str] = {}
    for address, names in lines:
        for name in map(str.lower, names):
            seen.setdefault(name, []).append(address)
            own.setdefault(address, name)
    ordered = list(services("hosts"))[:1] == ["files"]
    for name, addresses in seen.items():
        first = tuple(each for each in dict.fromkeys(addresses) if own[each] == name)
        yield NameRecord(name, tuple(addresses), "hosts", first if ordered else ())


def looked_up_apart(names: Sequence[str], progress: Progress) -> dict[str, dict[str, Any]]:
    """For each name `addresses`, by the system's resolver, `published`, by the name service, and
    `aliases`, names that it stands for there. What was not said in time is left out.
    """
    if not names:
        return {}
    lines = said_by_nobody(
        lambda stream: _tell(names, stream), WITHIN + 4, lambda n: progress("looking up names", n)
    )
    return dict(_answers(lines, set(names)))


def _answers(lines: Sequence[str], asked: set[str]) -> Iterator[tuple[str, dict[str, Any]]]:
    for line in lines:
        try:
            name, answer = json.loads(line)
        except ValueError:
            continue
        if name in asked and isinstance(answer, dict):
            yield name, answer


def record_of(name: str, answer: dict[str, Any]) -> NameRecord:
    """As the survey holds it."""
    addresses, published = answer.get("addresses"), answer.get("published")
    return NameRecord(
        name,
        None if addresses is None else tuple(map(str, addresses)),
        published=None if published is None else tuple(map(str, published)),
        aliases=tuple(map(str, answer.get("aliases", ()))),
    )


# --- in the process that may do nothing ---


def _tell(names: Sequence[str], stream: IO[str]) -> None:
    for name, answer in _looked_up(names):
        stream.write(json.dumps([name, answer]) + "\n")
        stream.flush()


def _looked_up(names: Iterable[str]) -> Iterator[tuple[str, dict[str, Any]]]:
    """As the answers come."""
    pool = ThreadPoolExecutor(max_workers=AT_ONCE)
    tasks: dict[Future[dict[str, Any]], str] = {pool.submit(_look_up, each): each for each in names}
    left, until = set(tasks), time.monotonic() + WITHIN
    while left and time.monotonic() < until:
        done, left = wait(left, timeout=SILENT, return_when=FIRST_COMPLETED)
        if not done:
            break
        for task in done:
            yield tasks[task], task.result()


def _look_up(name: str) -> dict[str, Any]:
    published, aliases = _published(name)
    return {"addresses": _resolved(name), "published": published, "aliases": aliases}


def _resolved(name: str) -> list[str] | None:
    try:
        rows = socket.getaddrinfo(name, None, type=socket.SOCK_STREAM)
    except socket.gaierror as error:
        known = error.errno in (socket.EAI_NONAME, getattr(socket, "EAI_NODATA", -5))
        return [] if known else None
    except (OSError, UnicodeError):
        return None
    return list(dict.fromkeys(str(row[4][0]) for row in rows))


def _published(name: str) -> tuple[list[str] | None, list[str]]:
    """Addresses of both kinds; None where nobody says."""
    import dns.exception
    import dns.rdatatype
    import dns.resolver

    found, aliases = list[str](), dict[str, None]()
    for kind in (dns.rdatatype.A, dns.rdatatype.AAAA):
        try:
            answer = dns.resolver.resolve(
                f"{name.rstrip('.')}.", kind, raise_on_no_answer=False, lifetime=_ONE
            )
        except dns.resolver.NXDOMAIN:
            return [], []
        except (dns.exception.DNSException, OSError, UnicodeError):
            return None, []
        for each in answer.chaining_result.cnames:
            for item in each:
                aliases[str(item.target).rstrip(".").lower()] = None
        if answer.rrset is not None:
            found += [item.address for item in answer.rrset]
    return found, list(aliases)
