"""Certificates and keys, as a host names them.

Source: mod_ssl ("SSLCertificateFile", "SSLCertificateKeyFile", "SSLCertificateChainFile"), and its
ssl_engine_config.c: what the server as a whole names stands in front of a host's own.
"""

from __future__ import annotations

from collections.abc import Iterator

from ecumen.engines.httpd.draft import flat
from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.server import Host, Server
from ecumen.engines.sites import SealPair
from ecumen.engines.tree import Directive

_CERTIFICATE, _KEY = "sslcertificatefile", "sslcertificatekeyfile"
_CHAINS = ("sslcertificatechainfile", "sslcacertificatefile")


def pairs_of(server: Server, host: Host) -> list[SealPair]:
    """The certificates of a host, in the order in which they are taken."""
    lines = (
        host.certificates if host is server.main else server.main.certificates + host.certificates
    )
    certificates = _named(lines, _CERTIFICATE)
    keys = [_path(server, each) for each in _named(lines, _KEY)]
    # Of each kind the last one that is said stands, and the server completes a chain out of both.
    more = tuple(_path(server, found[-1]) for name in _CHAINS if (found := _named(lines, name)))
    return [
        SealPair(
            _path(server, line),
            # Without a line of its own the key stands with the certificate.
            keys[number] if number < len(keys) else _path(server, line),
            line.place,
            line.quoted,
            more,
        )
        for number, line in enumerate(certificates)
    ]


def named_in(server: Server) -> Iterator[tuple[str, str]]:
    """All files that are named, each with the file that names it."""
    for host in (server.main, *server.hosts):
        for line in host.certificates:
            if words(line.text):
                yield _path(server, line), line.place.file


def _named(lines: list[Directive], name: str) -> list[Directive]:
    return [each for each in lines if each.name.lower() == name and words(each.text)]


def _path(server: Server, line: Directive) -> str:
    return server.reader.absolute(words(line.text)[0])


# --- which requests a connection that was sealed for another host may bring ---

_WHAT_MATTERS = ("sslciphersuite", "sslverifydepth", "sslverifyclient", "sslcacertificatepath")
_PROTOCOLS = ("tlsv1", "tlsv1.1", "tlsv1.2", "tlsv1.3")


def refuses(server: Server, shown: Host, host: Host) -> bool:
    """Whether a host refuses what comes over a connection that another host was shown for (421).
    Source: mod_ssl ("SSLVHostSNIPolicy"), ssl_engine_kernel.c; measured with 2.4.71.
    """
    policy = _word(server, server.main, "sslvhostsnipolicy") or "secure"
    if policy == "insecure":
        return False
    if policy == "authonly":
        return _asking(server, shown) != _asking(server, host)
    return policy == "strict" or _setting(server, shown) != _setting(server, host)


# By which it is told whether a host says anything of clients' certificates, in small letters.
ASKS = ("sslverifyclient",)


def all_ask(server: Server) -> bool:
    """Whether the server as a whole says anything of clients' certificates."""
    return any(each.name.lower() in ASKS for each in flat(server.said))


def wants_certificate(server: Server, host: Host) -> Directive | None:
    """The line by which a host lets nobody connect without a certificate."""
    line = _said(server, host, "sslverifyclient")
    return line if line is not None and _first_word(line) in ("require", "on") else None


def _first_word(line: Directive) -> str:
    return "".join(words(line.text)[:1]).lower()


def must_be_named(server: Server, host: Host) -> bool:
    """Whether a host wants its name in the greeting."""
    return _word(server, host, "sslstrictsnivhostcheck") == "on"


def _asking(server: Server, host: Host) -> tuple[str, ...]:
    """How clients' certificates are asked for."""
    names = ("sslverifyclient", "sslverifydepth", "sslcacertificatefile", "sslcacertificatepath")
    return tuple(_said_text(server, host, name) for name in names)


def _setting(server: Server, host: Host) -> tuple[object, ...]:
    """What must be alike. By what is written: two copies of one certificate are two."""
    if host.sealed is None:
        return (None,)
    pairs = pairs_of(server, host)
    authorities = _said(server, host, "sslcacertificatefile")
    return (
        [(each.certificate, each.key) for each in pairs],
        authorities and _path(server, authorities),
        _protocols(server, host),
        *(_said_text(server, host, name) for name in _WHAT_MATTERS),
    )


def _protocols(server: Server, host: Host) -> frozenset[str]:
    """The versions that are spoken; what is not said of them is as by default: all."""
    line = _said(server, host, "sslprotocol")
    found = set[str]() if line is not None else set(_PROTOCOLS)
    for word in words(line.text.lower()) if line is not None else ():
        bare = word.lstrip("+-")
        meant = set(_PROTOCOLS) if bare == "all" else {bare}
        if word.startswith("-"):
            found -= meant
        else:
            found = found | meant if word.startswith("+") else meant
    return frozenset(found)


def _said(server: Server, host: Host, name: str) -> Directive | None:
    """The last line that says something, of the host or of the server as a whole."""
    own = host.directive.children if host.directive is not None else None
    for lines in (own or (), server.said):
        found = [each for each in flat(lines) if each.name.lower() == name]
        if found:
            return found[-1]
    return None


def _said_text(server: Server, host: Host, name: str) -> str:
    line = _said(server, host, name)
    return "" if line is None else " ".join(words(line.text))


def _word(server: Server, host: Host, name: str) -> str:
    return _said_text(server, host, name).lower()
