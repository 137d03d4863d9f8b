"""What the certificates of a site are worth to who asks for a name: which one is shown, whether it
holds the name, is whole and in time, and whether its key is its own.

Source: RFC 9525 (names), RFC 5280 (times, chains), RFC 8446, section 4.2.3 (a client offers both
kinds of keys, and servers built on OpenSSL take the shorter one); measured with openssl s_client.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from ecumen.engines.sites import SealPair
from ecumen.survey import Certificate, SealFile, Survey

DAY = 86_400
# What renews certificates does so when a third of their time is left, or thirty days: one of which
# less is left was forgotten.
_SHARE, _AT_MOST = 0.25, 21 * DAY


@dataclass(frozen=True, slots=True)
class Shown:
    """A certificate that may be shown. certificate: None where its file holds none, or is not
    known; why: what is wrong with the file.
    """

    pair: SealPair
    file: SealFile | None
    certificate: Certificate | None

    @property
    def why(self) -> str:
        return "" if self.file is None else self.file.why


@dataclass(frozen=True, slots=True)
class Chain:
    """How a certificate comes to somebody who is trusted. state: `whole`; `itself`, it vouches for
    itself; `order`, whole, but not sent in its order; `cut`, a certificate is missing;
    `stranger`, it ends at an authority that this system does not know; `unknown`. links: those
    that lead there, the nearest first; lacks: the name of the authority that is missing.
    """

    state: str
    links: tuple[Certificate, ...] = ()
    lacks: str = ""


_COMMON = re.compile(r"(?:^|,)CN=((?:[^,\\]|\\.)*)")


def called(name: str) -> str:
    """What somebody is called for short, by a name as in RFC 4514."""
    found = _COMMON.search(name)
    return re.sub(r"\\(.)", r"\1", found[1]) if found else name


def shown(survey: Survey, pairs: Sequence[SealPair]) -> list[Shown]:
    """The certificates of a site, that first which a usual client gets. Of two for one kind of key
    the last one stands.
    """
    found: dict[str, Shown] = {}
    for pair in pairs:
        file = survey.seal_by_path.get(pair.certificate) if pair.stands else None
        certificate = file.certificates[0] if file is not None and file.certificates else None
        kind = "" if certificate is None else certificate.key.partition(" ")[0]
        found[kind] = Shown(pair, file, certificate)
    return sorted(found.values(), key=lambda each: _is_long(each.certificate))


def _is_long(certificate: Certificate | None) -> bool:
    return certificate is None or certificate.key.startswith("RSA")


def holds(certificate: Certificate, name: str) -> str | None:
    """The name of the certificate under which it holds a name that is asked for, or an address;
    None where a client would refuse it.
    """
    try:
        address = str(ipaddress.ip_address(name.strip("[]")))
    except ValueError:
        plain = name.lower().removesuffix(".")
        if plain in certificate.names:
            return plain
        # The star stands for one label, the first; and not for all of a top-level name.
        wild = f"*.{plain.partition('.')[2]}"
        return wild if wild.count(".") > 1 and wild in certificate.names else None
    return address if address in certificate.addresses else None


def chain_of(survey: Survey, one: Shown) -> Chain:
    """How the certificate that is shown comes to somebody whom this system trusts, by what is sent
    with it.
    """
    if one.file is None or one.certificate is None:
        return Chain("unknown")
    files = (survey.seal_by_path.get(path) for path in one.pair.more)
    sent = [*one.file.certificates[1:], *(c for file in files if file for c in file.certificates)]
    here, links, inside = one.certificate, list[Certificate](), set[str]()
    while not here.anchored:
        if here.itself:
            return Chain("stranger" if links else "itself", tuple(links))
        inside.add(here.digest)
        known = [each for each in sent if each.digest in here.issuers and each.digest not in inside]
        if not known:
            return _open(survey, tuple(links), here)
        here = known[0]
        links.append(here)
    # What stands behind the last one that is needed, as the root itself, does no harm.
    in_order = links == sent[: len(links)]
    return Chain("whole" if in_order else "order", tuple(links))


def _open(survey: Survey, links: tuple[Certificate, ...], last: Certificate) -> Chain:
    if any(gap.what == "authorities" for gap in survey.gaps):
        return Chain("unknown", links)
    return Chain("cut", links, called(last.issuer))


def key_fault(survey: Survey, one: Shown) -> str:
    """Why the key does not serve its certificate; "" where it does, or nothing is known."""
    file = survey.seal_by_path.get(one.pair.key) if one.pair.stands else None
    if file is None:
        return ""
    if file.key_why:
        # Who locks a key has the server told how to open it.
        return "" if "password" in file.key_why else file.key_why
    if one.certificate is not None and file.key_digest != one.certificate.key_digest:
        return "it does not belong to the certificate"
    return ""


def state_of(certificate: Certificate, now: int) -> str:
    """`over`, `not-yet`, `soon` for one of which too little is left, or `in-time`. now: seconds
    since 1970, UTC.
    """
    if certificate.begins > now:
        return "not-yet"
    left = certificate.ends - now
    if left < 0:
        return "over"
    whole = certificate.ends - certificate.begins
    return "soon" if left < min(_SHARE * whole, _AT_MOST) else "in-time"


def day_of(moment: int) -> str:
    """The day of a moment (seconds since 1970, UTC), as 2031-04-15."""
    return f"{datetime.fromtimestamp(moment, UTC):%Y-%m-%d}"
