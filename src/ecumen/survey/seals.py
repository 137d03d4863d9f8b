"""Certificates and keys, as a survey holds them: of a key no more than the digest of its public
half. Source: RFC 5280; RFC 7468 (PEM).
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Certificate:
    """One certificate. names: DNS names, in lower case. addresses: of its names, those that are IP
    addresses. begins, ends: seconds since 1970, UTC. key: its kind and size, as `RSA 2048`.
    key_digest, digest: SHA-256 of the public key (SubjectPublicKeyInfo) and of the whole, in hex.
    issuers: digests of certificates of the same survey that did issue it. anchored: whether one of
    the system's own authorities did. itself: whether it is signed with its own key. stapled:
    whether it asks for a proof of its state with every greeting (RFC 7633).
    """

    names: tuple[str, ...]
    addresses: tuple[str, ...]
    subject: str
    issuer: str
    begins: int
    ends: int
    key: str
    key_digest: str
    digest: str
    issuers: tuple[str, ...] = ()
    anchored: bool = False
    itself: bool = False
    stapled: bool = False


@dataclass(frozen=True, slots=True)
class SealFile:
    """A file that a configuration names as certificate or key, or as both.

    certificates: those in it, in their order. why: what is wrong with it as a file of certificates;
    "" for nothing. key_digest: of the public half of the key in it; key_why: what is wrong with it
    as a file of a key.
    """

    path: str
    certificates: tuple[Certificate, ...] = ()
    why: str = ""
    key_digest: str = ""
    key_why: str = ""
