"""What certificates and keys say, read by a process that may do nothing: whoever wrote them may be
anybody, and a key is nobody's business. What comes back of a key is the digest of its public half.

Source: RFC 5280; RFC 7468 (PEM); measured for what the engines and OpenSSL make of odd files.
"""

from __future__ import annotations

import hashlib
import json
import re
import warnings
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from typing import IO, TYPE_CHECKING, Any

from ecumen.survey import Certificate, SealFile
from ecumen_machine.nobody import said_by_nobody

if TYPE_CHECKING:
    from cryptography import x509

LARGEST = 1 << 18  # bytes of one file
WITHIN = 60.0  # seconds for all of them
# Whom this system trusts, by its own bundle.
ANCHORS = ("/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt")
_MOST_ISSUERS = 8  # tried for one certificate
_MOST_NAMES, _LONGEST = 1000, 300
_BLOCK = re.compile(
    rb"-----BEGIN (?:X509 |TRUSTED )?CERTIFICATE-----.*?"
    rb"-----END (?:X509 |TRUSTED )?CERTIFICATE-----",
    re.DOTALL,
)
_KEY = re.compile(
    rb"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY-----.*?-----END [A-Z0-9 ]{0,40}PRIVATE KEY-----",
    re.DOTALL,
)


def read_apart(files: Sequence[tuple[str, bytes]]) -> list[SealFile]:
    """What each file holds, in their order; of those that are not read in time, that."""
    if not files:
        return []
    rows = said_by_nobody(lambda stream: _tell(files, stream), WITHIN)
    return [_file(path, rows[at] if at < len(rows) else "") for at, (path, _) in enumerate(files)]


def _file(path: str, row: str) -> SealFile:
    try:
        data = json.loads(row)
        certificates = tuple(
            Certificate(**{**each, **{name: tuple(each[name]) for name in _LISTS}})
            for each in data.pop("certificates")
        )
        return SealFile(path, certificates, **data)
    except (ValueError, TypeError, KeyError):
        return SealFile(path, (), "it was not read in time", "", "it was not read in time")


_LISTS = ("names", "addresses", "issuers")


# --- in the process that may do nothing ---


def _tell(files: Sequence[tuple[str, bytes]], stream: IO[str]) -> None:
    # Of what is odd in a certificate of anybody's there is nothing to be said here.
    warnings.simplefilter("ignore")
    for row in _rows(files):
        stream.write(json.dumps(row) + "\n")


def _rows(files: Iterable[tuple[str, bytes]]) -> list[dict[str, Any]]:

    read = [(*_certificates(data), *_key(data)) for _, data in files]
    everyone: dict[bytes, list[x509.Certificate]] = defaultdict(list)
    known = set[bytes]()
    for found, *_ in read:
        for each in found:
            mark = _mark(each)
            if mark not in known:
                known.add(mark)
                everyone[each.subject.public_bytes()].append(each)
    anchors = _anchors() if known else {}
    told: dict[bytes, dict[str, Any] | None] = {}
    rows = []
    for found, why, digest, key_why in read:
        facts = []
        for each in found:
            mark = _mark(each)
            if mark not in told:
                told[mark] = _facts(each, everyone, anchors)
            if told[mark] is None:
                why = why or "it holds a certificate that cannot be read"
            else:
                facts.append(told[mark])
        rows.append({"certificates": facts, "why": why, "key_digest": digest, "key_why": key_why})
    return rows


def _mark(certificate: x509.Certificate) -> bytes:
    from cryptography.hazmat.primitives.hashes import SHA256

    return certificate.fingerprint(SHA256())


def _certificates(data: bytes) -> tuple[list[x509.Certificate], str]:
    from cryptography import x509

    found: list[x509.Certificate] = []
    for block in _BLOCK.findall(data):
        # Behind the certificate such a block holds what it is trusted for; servers read it all the
        # same.
        if b"TRUSTED" in block[:40]:
            return found, "it holds a block of a kind that is not read here"
        try:
            found.append(x509.load_pem_x509_certificate(block.replace(b" X509 ", b" ")))
        except ValueError:
            return found, f"its certificate number {len(found) + 1} is broken"
    return found, "" if found else "it holds no certificate"


def _key(data: bytes) -> tuple[str, str]:
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    block = _KEY.search(data)
    if block is None:
        return "", "it holds no key"
    try:
        # Whether the numbers of a key make a good one is not asked: that takes 70 ms each.
        key = load_pem_private_key(block[0], None, unsafe_skip_rsa_key_validation=True)
    except TypeError:
        return "", "its key is locked with a password"
    except (ValueError, UnsupportedAlgorithm):
        return "", "its key is broken"
    return _public(key.public_key()), ""


def _public(key: Any) -> str:
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    data = key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return hashlib.sha256(data).hexdigest()


def _facts(
    certificate: x509.Certificate,
    everyone: Mapping[bytes, Sequence[x509.Certificate]],
    anchors: Mapping[bytes, Sequence[x509.Certificate]],
) -> dict[str, Any] | None:
    from cryptography import x509
    from cryptography.exceptions import UnsupportedAlgorithm

    try:
        names, addresses, stapled = _named(certificate)
        key, name = certificate.public_key(), certificate.issuer.public_bytes()
        return {
            "names": names,
            "addresses": addresses,
            "subject": certificate.subject.rfc4514_string()[:_LONGEST],
            "issuer": certificate.issuer.rfc4514_string()[:_LONGEST],
            "begins": int(certificate.not_valid_before_utc.timestamp()),
            "ends": int(certificate.not_valid_after_utc.timestamp()),
            "key": _kind(key),
            "key_digest": _public(key),
            "digest": _mark(certificate).hex(),
            "issuers": [
                _mark(each).hex()
                for each in everyone.get(name, ())[:_MOST_ISSUERS]
                if each != certificate and _issued(certificate, each)
            ],
            "anchored": any(
                _issued(certificate, each) for each in anchors.get(name, ())[:_MOST_ISSUERS]
            ),
            "itself": _issued(certificate, certificate),
            "stapled": stapled,
        }
    except (ValueError, UnsupportedAlgorithm, x509.InvalidVersion):
        return None


def _named(certificate: x509.Certificate) -> tuple[list[str], list[str], bool]:
    from cryptography import x509

    names, addresses, stapled = list[str](), list[str](), False
    for extension in certificate.extensions:
        value = extension.value
        if isinstance(value, x509.SubjectAlternativeName):
            names = [each.lower() for each in value.get_values_for_type(x509.DNSName)]
            addresses = [str(each) for each in value.get_values_for_type(x509.IPAddress)]
        elif isinstance(value, x509.TLSFeature):
            stapled = x509.TLSFeatureType.status_request in value
    return [each[:_LONGEST] for each in names[:_MOST_NAMES]], addresses[:_MOST_NAMES], stapled


def _kind(key: Any) -> str:
    from cryptography.hazmat.primitives.asymmetric import ec, rsa

    if isinstance(key, rsa.RSAPublicKey):
        return f"RSA {key.key_size}"
    if isinstance(key, ec.EllipticCurvePublicKey):
        curve = {"secp256r1": "P-256", "secp384r1": "P-384", "secp521r1": "P-521"}
        return f"EC {curve.get(key.curve.name, key.curve.name)}"
    return type(key).__name__.removeprefix("_").removesuffix("PublicKey")


def _issued(certificate: x509.Certificate, by: x509.Certificate) -> bool:
    from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm

    try:
        certificate.verify_directly_issued_by(by)
    except (ValueError, TypeError, InvalidSignature, UnsupportedAlgorithm):
        return False
    return True


def _anchors() -> dict[bytes, list[x509.Certificate]]:
    from cryptography import x509

    found: dict[bytes, list[x509.Certificate]] = defaultdict(list)
    for path in ANCHORS:
        try:
            with open(path, "rb") as stream:
                blocks = _BLOCK.findall(stream.read())
        except OSError:
            continue
        for block in blocks:
            with suppress(ValueError):
                each = x509.load_pem_x509_certificate(block)
                found[each.subject.public_bytes()].append(each)
        break
    return found
