"""An authority of the tests' own: a root, one below it, and certificates for any names."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import cached_property
from ipaddress import ip_address
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.x509.oid import NameOID

Key = ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey
NOW = datetime.now(UTC)


@dataclass
class Issued:
    """A certificate with its key. chain: those above it, the nearest first, without the root."""

    certificate: x509.Certificate
    key: Key
    chain: list[Issued] = field(default_factory=list)

    @property
    def pem(self) -> bytes:
        return self.certificate.public_bytes(serialization.Encoding.PEM)

    @property
    def whole(self) -> bytes:
        return b"".join(each.pem for each in (self, *self.chain))

    @property
    def key_pem(self) -> bytes:
        return self.key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )

    @property
    def digest(self) -> str:
        return self.certificate.fingerprint(SHA256()).hex()

    def put(self, folder: Path, name: str, pem: bytes | None = None) -> tuple[Path, Path]:
        """Writes both, and says where."""
        crt, key = folder / f"{name}.crt", folder / f"{name}.key"
        crt.write_bytes(self.whole if pem is None else pem)
        key.write_bytes(self.key_pem)
        key.chmod(0o600)
        return crt, key


@dataclass
class Authority:
    """Issues certificates."""

    name: str = "the Tests"

    @cached_property
    def root(self) -> Issued:
        return _issued(f"Root of {self.name}", new_key(), None, (), authority=True)

    @cached_property
    def middle(self) -> Issued:
        return _issued(f"Middle of {self.name}", new_key(), self.root, (), authority=True)

    def issue(
        self,
        *names: str,
        days: tuple[int, int] = (-1, 30),
        rsa_bits: int = 0,
        key: Key | None = None,
    ) -> Issued:
        """days: from when to when, counted from now."""
        made = _issued(names[0], key or new_key(rsa_bits), self.middle, names, days=days)
        made.chain = [self.middle]
        return made


def by_itself(*names: str) -> Issued:
    """A certificate that vouches for itself."""
    return _issued(names[0], new_key(), None, names)


def new_key(rsa_bits: int = 0) -> Key:
    if rsa_bits:
        return rsa.generate_private_key(65537, rsa_bits)
    return ec.generate_private_key(ec.SECP256R1())


def _issued(
    subject: str,
    key: Key,
    by: Issued | None,
    names: tuple[str, ...],
    *,
    days: tuple[int, int] = (-1, 30),
    authority: bool = False,
) -> Issued:
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject)])
    issuer = name if by is None else by.certificate.subject
    begins, ends = (NOW + timedelta(days=each) for each in days)
    builder = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(ends)
        .add_extension(x509.BasicConstraints(authority, None), True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), False)
    )
    if names:
        held = [_general(each) for each in names]
        builder = builder.add_extension(x509.SubjectAlternativeName(held), False)
    return Issued(builder.sign(by.key if by else key, SHA256()), key)


def _general(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ip_address(name))
    except ValueError:
        return x509.DNSName(name)
