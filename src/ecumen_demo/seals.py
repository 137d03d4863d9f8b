"""The certificates of the town: all are made up, and none was ever issued."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from ecumen.survey import Certificate, SealFile

DAY = 86_400
FOLDER = "/etc/ssl/sites"
AUTHORITY = "CN=Estuary Authority B2,O=Estuary Authority"
ROOT = "CN=Estuary Authority Root,O=Estuary Authority"


@dataclass(frozen=True)
class SealedSite:
    """A site with a certificate. names: that it holds, where not the site's own. left: days until
    it ends. mode: of its key. whole: whether what is sent leads to its authority. plain: whether
    plain HTTP shows the site, too, and does not lead over.
    """

    name: str
    left: int = 61
    names: tuple[str, ...] = ()
    mode: int = 0o600
    whole: bool = True
    plain: bool = False
    rsa: bool = False


SITES = (
    SealedSite("ferry-tickets", left=9),
    SealedSite("harbour-shop", rsa=True),
    SealedSite("lantern-fund", names=("lantern-fund-2030.example", "fund-2030.example")),
    SealedSite("kiln-studio", left=48, whole=False),
    SealedSite("sluice-plans", left=33, plain=True),
    SealedSite("wrack-archive", left=74, mode=0o644),
)


def crt(site: SealedSite) -> str:
    return f"{FOLDER}/{site.name}.crt"


def key(site: SealedSite) -> str:
    return f"{FOLDER}/{site.name}.key"


def lines(site: SealedSite) -> list[str]:
    """What its block says of it."""
    files = [f"SSLCertificateFile {crt(site)}", f"SSLCertificateKeyFile {key(site)}"]
    return ["SSLEngine on", *files]


def files(now: int) -> tuple[SealFile, ...]:
    """As the survey holds them. now: seconds since 1970, UTC."""
    found = []
    for site in SITES:
        names = site.names or (f"{site.name}.example",)
        ends = now + site.left * DAY + 7 * 3600
        leaf = Certificate(
            names, (), f"CN={names[0]}", AUTHORITY, ends - 90 * DAY, ends,
            "RSA 2048" if site.rsa else "EC P-256", _digest(f"{site.name} key"),
            _digest(site.name), (_digest(AUTHORITY),),
        )  # fmt: skip
        held = (leaf, _between(now)) if site.whole else (leaf,)
        found.append(SealFile(crt(site), held, "", "", "it holds no key"))
        found.append(SealFile(key(site), (), "it holds no certificate", leaf.key_digest))
    return tuple(found)


def _between(now: int) -> Certificate:
    return Certificate(
        (), (), AUTHORITY, ROOT, now - 400 * DAY, now + 1400 * DAY, "EC P-384", _digest("b2 key"),
        _digest(AUTHORITY), (), anchored=True,
    )  # fmt: skip


def _digest(text: str) -> str:
    return hashlib.sha256(f"quay {text}".encode()).hexdigest()
