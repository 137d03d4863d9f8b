"""Certificates and keys, as a server names them.

Source: ngx_http_ssl_module ("ssl_certificate", "ssl_certificate_key"); measured: what stands in a
server takes the place of all that stands around it, certificate and key together.
"""

from __future__ import annotations

import posixpath
from collections.abc import Iterator, Sequence

from ecumen.engines.nginx.lexer import Line
from ecumen.engines.nginx.server import Server, Whole
from ecumen.engines.sites import SealPair

_CERTIFICATE, _KEY = "ssl_certificate", "ssl_certificate_key"
# Of what is made for each greeting, given as it stands, or held by a device, no file is known.
_NO_FILE = ("data:", "engine:", "store:")


def pairs_of(whole: Whole, server: Server, folder: str) -> list[SealPair]:
    """The certificates of a server, the first one first. folder: of the main configuration, from
    which files are named.
    """
    return _pairs(server.line.children or (), folder) or _pairs(whole.said, folder)


def asks_for_certificates(whole: Whole, server: Server) -> Line | None:
    """The line by which a server asks who connects for a certificate; None where it does not."""
    for lines in (server.line.children or (), whole.said):
        said = [each for each in lines if each.name == "ssl_verify_client" and each.args]
        if said:
            return None if said[-1].args[0] == "off" else said[-1]
    return None


def named_in(whole: Whole, folder: str) -> Iterator[tuple[str, str]]:
    """All files that are named, each with the file that names it."""
    for lines in (whole.said, *(server.line.children or () for server in whole.servers)):
        for pair in _pairs(lines, folder):
            if pair.stands:
                yield pair.certificate, pair.place.file
                yield pair.key, pair.place.file


def _pairs(lines: Sequence[Line], folder: str) -> list[SealPair]:
    certificates = [each for each in lines if each.name == _CERTIFICATE and each.args]
    keys = [each.args[0] for each in lines if each.name == _KEY and each.args]
    found = []
    for line, key in zip(certificates, keys, strict=False):
        both = (line.args[0], key)
        stands = not any("$" in each or each.startswith(_NO_FILE) for each in both)
        certificate, own = (posixpath.join(folder, each) if stands else each for each in both)
        found.append(SealPair(certificate, own, line.place, line.quoted, (), stands))
    return found
