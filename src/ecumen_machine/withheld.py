"""What is never a text of a survey, whatever includes it: password files, keys, what the kernel
makes up. And what is blacked out of texts that hold such a thing among other lines.

Source: crypt(5), shadow(5), RFC 7468 (PEM), RFC 7517 (JWK), the engines' password files.
"""

from __future__ import annotations

import os
import re
import time
from functools import cache, lru_cache

from ecumen_machine.handles import Reached

LARGEST_TEXT = 16 << 20  # bytes

_PASSWORDS = (
    "/etc/shadow", "/etc/shadow-", "/etc/gshadow", "/etc/gshadow-", "/etc/security/opasswd",
    "/etc/security/opasswd.old", "/etc/sudoers", "/etc/krb5.keytab", "/etc/ppp/chap-secrets",
    "/etc/ppp/pap-secrets", "/var/backups/shadow.bak", "/var/backups/gshadow.bak",
)  # fmt: skip
_KEY_NAME = re.compile(
    r"(?:.*\.(?:key|p12|pfx|jks|keystore|keytab|ppk|kdbx|gpg|asc)"
    r"|id_(?:rsa|dsa|ecdsa|ed25519)(?:_sk)?|ssh_host_\w+_key|\.pgpass|\.netrc|\.my\.cnf"
    r"|privkey\d*\.pem|shadow-?|gshadow-?)\Z",
    re.IGNORECASE,
)
_KEY_FOLDERS = ("/etc/ssl/private/", "/root/.ssh/", "/root/.gnupg/")

_B64 = rb"[./A-Za-z0-9]"
_HASH = (
    rb"\$1\$" + _B64 + rb"{1,8}\$" + _B64 + rb"{22}"
    rb"|\$apr1\$" + _B64 + rb"{1,8}\$" + _B64 + rb"{22}"
    rb"|\$(?:5|6)\$(?:rounds=\d{1,9}\$)?" + _B64 + rb"{1,16}\$" + _B64 + rb"{43,86}"
    rb"|\$2[abxy]?\$\d\d\$" + _B64 + rb"{53}"
    rb"|\$(?:y|gy|7)\$" + _B64 + rb"{1,64}\$" + _B64 + rb"{1,86}\$" + _B64 + rb"{43}"
    rb"|\$argon2(?:id?|d)\$v=\d{1,4}\$m=\d{1,9},t=\d{1,9},p=\d{1,9}\$[+/A-Za-z0-9]{4,88}\$[+/A-Za-z0-9]{16,200}"
    rb"|\$(?:pbkdf2|scrypt|sha1|md5)[-,\w]{0,32}\$[-./+=,\w]{1,64}(?:\$[-./+=,\w]{8,200}){1,2}"
    rb"|\{(?:S?SHA(?:256|384|512)?|S?MD5)\}[+/A-Za-z0-9]{16,200}={0,2}"
    rb"|\{(?:CRYPT|PBKDF2[-\w]{0,16}|ARGON2\w{0,2})\}\S{8,400}"
)
_A_HASH = re.compile(_HASH)
# name:hash, as the first thing on a line: nothing but a password file is written so.
_ENTRY = re.compile(rb"[ \t]*[^:\s#]{1,256}:[!*]?(?:" + _HASH + rb")")
# The old kinds are told by the shape of a whole file.
_OLD_ENTRY = re.compile(
    rb"[^:\s]{1,256}:(?:[!*]?[./A-Za-z0-9]{13}(?::[^\n]*)?|[^:\n]{0,256}:[0-9a-fA-F]{32})\s*"
)
_SHADOW = re.compile(rb"[^:\s]{1,64}:[^:\n]{0,512}:\d*:\d*:\d*:\d*:\d*:\d*:\d*\s*")
_KEY = re.compile(
    rb"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY(?: BLOCK)?-----|PuTTY-User-Key-File-\d"
    rb"|---- BEGIN SSH2 ENCRYPTED PRIVATE KEY ----"
)
_KEY_BLOCK = re.compile(
    rb"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY(?: BLOCK)?-----.*?"
    rb"(?:-----END [A-Z0-9 ]{0,40}PRIVATE KEY(?: BLOCK)?-----|\Z)",
    re.DOTALL,
)
_JWK = re.compile(rb'"kty"\s*:')
_JWK_SECRET = re.compile(rb'"(?:d|k)"\s*:\s*"[-\w]{16,}"')
_BINARY = (b"\x30\x82", b"\x30\x81", b"\x30\x80", b"\xfe\xed\xfe\xed", b"\x99\x01", b"\x95\x03")
BLACKED = b"[withheld]"


_MOMENT = 0.1  # seconds


@cache
def _made_up() -> frozenset[int]:
    """The devices of what the kernel makes up, wherever it is mounted."""
    found = set()
    for path in ("/proc", "/sys", "/dev", "/sys/kernel/security", "/sys/fs/selinux"):
        try:
            found.add(os.stat(path).st_dev)
        except OSError:
            continue
    return frozenset(found - {os.stat("/").st_dev})


def _passwords() -> set[tuple[int, int]]:
    """Of the accounts' password files, by device and inode: another name makes no difference. For
    as long as nobody could have changed them but in the same moment.
    """
    return _passwords_at(int(time.monotonic() / _MOMENT))


@lru_cache(maxsize=1)
def _passwords_at(moment: int) -> set[tuple[int, int]]:
    found = set()
    for path in _PASSWORDS:
        try:
            info = os.stat(path)
        except OSError:
            continue
        found.add((info.st_dev, info.st_ino))
    return found


def place_withheld(found: Reached) -> str:
    """Why nothing may be read there, by where it lies and what it is called; "" where it may."""
    if found.info.st_dev in _made_up() or found.path.startswith(("/proc/", "/sys/", "/dev/")):
        return "the kernel makes it up as one looks"
    if (found.info.st_dev, found.info.st_ino) in _passwords() or found.path in _PASSWORDS:
        return "a password file is never read"
    leaf = found.path.rpartition("/")[2]
    if _KEY_NAME.match(leaf) or found.path.startswith(_KEY_FOLDERS):
        return "a key file is never read"
    return ""


def content_withheld(data: bytes) -> str:
    """Why a text is not kept, by what it holds; "" where it may be kept."""
    if data[:2] in _BINARY or data[:4] in _BINARY:
        return "it looks like a key, not like a configuration"
    # Also what was written in two bytes a letter, or with other ends of lines.
    plain = data.replace(b"\0", b"").replace(b"\r", b"\n").lstrip(b"\xef\xbb\xbf\xff\xfe")
    lines = [line for line in plain.split(b"\n") if line.strip() and not line.startswith(b"#")]
    if not lines:
        return ""
    if any(map(_KEY.search, lines[:20])) and _KEY_BLOCK.search(plain):
        outside = _KEY_BLOCK.sub(b"", plain)
        rest = [x for x in outside.split(b"\n") if x.strip() and not x.startswith(b"#")]
        if len(rest) < 2 or all(b"-----" in x or len(x.split()) == 1 for x in rest[:8]):
            return "it holds a private key"
    if any(map(_ENTRY.match, lines)):
        return "it holds password hashes"
    if all(map(_OLD_ENTRY.fullmatch, lines[:1000])) or all(map(_SHADOW.fullmatch, lines[:1000])):
        return "it has the form of a password file"
    if _JWK.search(plain) and _JWK_SECRET.search(plain):
        return "it holds a private key"
    if b"\0" in data and (_KEY.search(plain) or _A_HASH.search(plain)):
        # Only what stands in single bytes can be blacked out.
        return "it holds a key or a password hash"
    return ""


def blacked(data: bytes) -> bytes:
    """A text without keys and password hashes that stand among other lines; lines keep their
    numbers.
    """
    if b"PRIVATE KEY" in data:
        data = _KEY_BLOCK.sub(lambda key: BLACKED + b"\n" * key[0].count(b"\n"), data)
    if b"$" in data or b"{" in data:
        data = _A_HASH.sub(BLACKED, data)
    return data
