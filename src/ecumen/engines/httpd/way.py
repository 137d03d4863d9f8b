"""From the address to a path on disk: alias, personal site, document root.

Source: httpd 2.4, "Mapping URLs to Filesystem Locations", mod_alias, mod_userdir; measured.
"""

from __future__ import annotations

from dataclasses import dataclass

from ecumen.engines.httpd.server import Alias, Host, clean
from ecumen.engines.httpd.uri import Address
from ecumen.engines.patterns import compiled, found
from ecumen.engines.sites import Answer, Block, Doubt, Mapped, Part, Phase, Proof, Rank, proof_of
from ecumen.rights import Walker
from ecumen.survey import Survey

_RANK = Rank(Phase.MAPPING)


@dataclass(slots=True)
class Way:
    """filename: None where the request ends here (an error or a redirect)."""

    part: Part
    filename: str | None = None


def find_way(survey: Survey, host: Host, walker: Walker | None, address: Address) -> Way:
    """The path on disk that an address leads to at this site."""
    part = Part("way.root", {"address": address.path})
    if address.problem:
        facts = {"address": address.path}
        rank = Rank(Phase.ADDRESS)
        part.blocks.append(Block(address.problem, rank, address.status, facts))
        return Way(part)
    path = address.path
    aliased = _through_aliases(host, path, part)
    if aliased is not None:
        return Way(part, aliased)
    way = _personal(survey, host, walker, path, part)
    if way is not None:
        return way
    if host.root is None:
        part.doubts.append(Doubt("way.no-root", _RANK))
        return Way(part)
    filename = _joined(host.root, path)
    proof = proof_of(host.root_line) if host.root_line else None
    part.picture.append(Mapped("root", path, filename, proof))
    part.facts |= {"path": filename, "root": host.root}
    part.proofs += [proof] if proof else []
    return Way(part, filename)


def _joined(folder: str, path: str) -> str:
    return f"{folder.rstrip('/')}{path}" or "/"


# --- aliases and what stands beside them ---


def _through_aliases(host: Host, path: str, part: Part) -> str | None:
    for kinds in (("upstream",), ("redirect",), ("alias", "script", "pattern")):
        for alias in host.aliases:
            if alias.kind not in kinds:
                continue
            length = _touches(alias, path)
            if length == 0:
                continue
            if alias.kind != "alias" or length is None:
                code = {"upstream": "way.upstream", "redirect": "way.redirect"}.get(
                    alias.kind, "way.not-evaluated"
                )
                facts = {"directive": alias.directive.name}
                part.doubts.append(Doubt(code, _RANK, facts, (proof_of(alias.directive),)))
                if alias.kind != "script" or length is None:
                    continue
            return _aliased(alias, path, length, part)
    return None


def _aliased(alias: Alias, path: str, length: int, part: Part) -> str:
    filename = alias.real + path[length:]
    slash = "/" if filename.endswith("/") else ""
    filename = clean(filename).rstrip("/") + slash
    proof = proof_of(alias.directive)
    part.code = "way.alias"
    part.facts |= {"path": filename, "alias": alias.fake}
    part.picture.append(Mapped("alias", path, filename, proof))
    part.proofs.append(proof)
    return filename


def _touches(alias: Alias, path: str) -> int | None:
    """How much of the path an alias takes; 0: none of it, None: that is not evaluated."""
    if alias.kind == "pattern" or (alias.kind == "redirect" and alias.real):
        pattern = compiled(alias.fake or alias.real)
        return 0 if pattern is not None and not found(pattern, path) else None
    if not alias.fake:
        return None
    return alias_length(alias.fake, path)


def alias_length(fake: str, path: str) -> int:
    """How many characters of `path` the prefix `fake` takes; 0 where it does not fit.

    Slashes of any number match slashes of any number; the last component must match whole.
    """
    at = here = 0
    while here < len(fake):
        if fake[here] == "/":
            if at >= len(path) or path[at] != "/":
                return 0
            while here < len(fake) and fake[here] == "/":
                here += 1
            while at < len(path) and path[at] == "/":
                at += 1
        elif at < len(path) and path[at] == fake[here]:
            at, here = at + 1, here + 1
        else:
            return 0
    if not fake.endswith("/") and at < len(path) and path[at] != "/":
        return 0
    return at


# --- personal sites ---


def _personal(
    survey: Survey, host: Host, walker: Walker | None, path: str, part: Part
) -> Way | None:
    settings = host.user_folders
    if settings.folders is None or not path.startswith("/~"):
        return None
    name, slash, rest = path[2:].partition("/")
    behind = slash + rest
    if name in ("", ".", ".."):
        return None
    if name.lower() in settings.off:
        proof = proof_of(settings.off[name.lower()])
        part.picture.append(Mapped("personal-off", path, path, proof))
        part.facts["account"] = name
        return None
    if settings.all_off and name.lower() not in settings.on:
        line = settings.all_off_line
        part.picture.append(Mapped("personal-off", path, path, proof_of(line) if line else None))
        part.facts["account"] = name
        return None
    for number, pattern in enumerate(settings.folders):
        last = number == len(settings.folders) - 1
        way = _candidate(survey, host, walker, path, name, behind, pattern, last, part)
        if way is not None:
            return way
    return None


def personal_folder(pattern: str, name: str, home: str) -> str | None:
    """Where a pattern has the personal site of an account; None where that is elsewhere."""
    if ":" in pattern:
        return None
    before, star, after = pattern.partition("*")
    if star:
        return clean(f"{before}{name}{after}") if pattern.startswith("/") else None
    if pattern.startswith("/"):
        return clean(f"{pattern}/{name}")
    return clean(f"{home}/{pattern}") if home.startswith("/") else None


def _candidate(
    survey: Survey,
    host: Host,
    walker: Walker | None,
    path: str,
    name: str,
    behind: str,
    pattern: str,
    last: bool,
    part: Part,
) -> Way | None:
    line = host.user_folders.folders_line
    proof = proof_of(line) if line else None
    absolute = pattern.startswith("/")
    prefix, star, tail = pattern.partition("*")
    if star:
        if not absolute and ":" in prefix:
            return _elsewhere(part, proof, path, f"{prefix}{name}{behind}")
        if not absolute:
            proofs = (proof,) if proof else ()
            part.doubts.append(Doubt("way.not-evaluated", _RANK, {"directive": pattern}, proofs))
            return None
        folder = f"{prefix}{name}{tail}"
    elif absolute:
        folder = f"{pattern}/{name}"
    elif ":" in pattern:
        return _elsewhere(part, proof, path, f"{pattern}/{name}{behind}")
    else:
        account = survey.account_by_name.get(name)
        if account is None and any(gap.what == "accounts" for gap in survey.gaps):
            proofs = (proof,) if proof else ()
            part.doubts.append(Doubt("way.account-unknown", _RANK, {"account": name}, proofs))
        if account is None:
            part.picture.append(Mapped("personal-nobody", path, path, proof))
            return None
        folder = f"{account.home}/{pattern}"
    if not last:
        walk = walker.walk(folder) if walker else None
        if walk is None or walk.problem == "unseen":
            doubt = Doubt("way.personal-unseen", _RANK, {"path": folder}, (proof,) if proof else ())
            part.doubts.append(doubt)
        elif walk.problem or walk.blocked:
            part.picture.append(Mapped("personal-missing", path, folder, proof))
            return None
    filename = clean(folder).rstrip("/") + behind
    part.code = "way.personal"
    part.facts |= {"account": name, "path": filename}
    part.picture.append(Mapped("personal", path, filename, proof))
    part.proofs += [proof] if proof else []
    return Way(part, filename)


def _elsewhere(part: Part, proof: Proof | None, path: str, location: str) -> Way:
    part.code = "way.personal-elsewhere"
    part.facts["location"] = location
    part.picture.append(Mapped("personal-elsewhere", path, location, proof))
    part.answer = Answer(302, _RANK, "text/html; charset=iso-8859-1", location)
    return Way(part)
