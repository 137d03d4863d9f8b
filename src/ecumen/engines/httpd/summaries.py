"""Every site as configured, with a request that is meant for it."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property, lru_cache

from ecumen.engines.folders import folders_at, is_name
from ecumen.engines.httpd.alike import Alike, Like
from ecumen.engines.httpd.choice import Resolve
from ecumen.engines.httpd.hosting import FolderPattern
from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.server import Host, Server, is_silent
from ecumen.engines.httpd.way import personal_folder
from ecumen.engines.sites import (
    Door,
    LogKeeping,
    Named,
    PersonalGround,
    Proof,
    SiteSummary,
    proof_of,
)
from ecumen.engines.tree import Place
from ecumen.logs.template import COMMON
from ecumen.survey import Survey

_OFFER = ("userdir",)
_BY_NAME = ("virtualdocumentroot",)


class Summaries:
    """The sites of one server."""

    def __init__(
        self, survey: Survey, server: Server, resolve: Resolve, alike: Alike | None = None
    ) -> None:
        self.alike = alike
        self.survey = survey
        self.server = server
        self.resolve = resolve

    @cached_property
    def _hosts(self) -> list[Host]:
        return list(self.server.hosts) or [self.server.main]

    @property
    def blocks(self) -> int:
        """How many there are that sites come of: the virtual hosts, and the accounts."""
        return len(self._hosts) + 1

    def of(self, number: int) -> list[SiteSummary]:
        """A virtual host, in file order, with its folders that are sites; behind the last one the
        personal sites.
        """
        if number < len(self._hosts):
            host = self._hosts[number]
            like = None if self.alike is None or host.later is None else self.alike.of(host)
            if like is not None and like.kind.sites > 1 and like.alike.by_name is None:
                return [_filled(like.once("summary", self._summary), like)]
            base = self._summary(host)
            return [base, *self._in_folders(host, base)]
        # Of the accounts only those that have a folder have a site.
        return [ground.site for ground in self.personal if ground.folder in self.survey.files]

    def _summary(self, host: Host) -> SiteSummary:
        address, port = self._asked_at(host)
        literal = f"[{address}]" if ":" in address else address
        return SiteSummary(
            name=host.label,
            place=host.place,
            bindings=tuple(str(binding) for binding in host.bindings),
            names=host.all_names,
            root=_root_of(host),
            address=address,
            port=port,
            asked_as=host.name or next(iter(sorted(host.names)), literal),
            sealed=host.sealed is not None,
            doors=tuple(self._doors(host)),
            claims=tuple(_claims(host)),
            index=("index.html",) if host.settings.index is None else host.settings.index,
            log=next((log.path for log in host.logs if not log.conditional), None),
            kept=self._kept(host),
            errors=host.errors if (host.errors or "").startswith("/") else None,
        )

    def _in_folders(self, host: Host, base: SiteSummary) -> Iterator[SiteSummary]:
        """The folders to which a name can lead, by the pattern that says where they lie."""
        pattern = host.by_name
        if pattern is None or pattern.by_address or not pattern.above:
            return
        endings = [name.lstrip("*") for name in host.wild_names if name.startswith("*.")]
        place = pattern.directive.place
        own = (*((host.name.lower(),) if host.name else ()), *sorted(host.names))
        for folder in _folders(self.survey, pattern):
            name = pattern.name_of(folder, own, endings)
            # The block's own name is told of the block.
            if name is not None and is_name(name) and name != base.asked_as.lower():
                claims = (Named(name, place),)
                yield replace(
                    base, name=name, names=(name,), root=folder, asked_as=name, claims=claims
                )

    def unled(self) -> Iterator[tuple[Place, str]]:
        """Folders in which a pattern's sites lie and to which no name leads: what it puts in is in
        small letters.
        """
        inherited = self.server.main.by_name is not None
        for host in self.server.hosts or (self.server.main,):
            if not inherited and is_silent(host, _BY_NAME):
                continue
            pattern = host.by_name
            if pattern is not None and not pattern.by_address and pattern.above:
                for folder in _folders(self.survey, pattern):
                    if any(text != text.lower() for text in pattern.put_in(folder)):
                        yield host.place, folder

    def _kept(self, host: Host) -> LogKeeping | None:
        log = next((log for log in host.logs if not log.conditional), None)
        if log is None:
            return None
        # Without a format the last one stands that was given no name, else the common one.
        template = self.server.formats.get(log.form, log.form) or COMMON
        own = host is self.server.main or host.logs is not self.server.main.logs
        return LogKeeping(proof_of(log.directive), template, own)

    def _doors(self, host: Host) -> Iterator[Door]:
        for binding in host.bindings:
            literal = binding.address == "*" or _is_literal(binding.address)
            addresses = (binding.address,) if literal else self.resolve(binding.address) or ()
            for address in addresses:
                yield Door(address, binding.port, binding.place, host.sealed is not None)

    @cached_property
    def _heard(self) -> tuple[set[int | None], int]:
        """The ports that are listened on, and the first one."""
        usual = next((b.port for b in self.server.listens if b.port), None) or 80
        return {binding.port for binding in self.server.listens}, usual

    def _asked_at(self, host: Host) -> tuple[str, int]:
        """An address and port on which this site is bound, those that are listened on first."""
        heard, usual = self._heard
        bound = next((b for b in host.bindings if b.port is None or b.port in heard), None)
        if bound is None and host.bindings:
            bound = host.bindings[0]
        port = bound.port if bound is not None and bound.port else usual
        address = bound.address if bound is not None else "*"
        resolved = (address,) if _is_literal(address) else self.resolve(address) or ()
        if resolved:
            return resolved[0], port
        wanted = [b.address for b in self.server.listens if b.port == port and b.address != "*"]
        return next(iter(wanted), self.survey.outside_address), port

    @cached_property
    def personal(self) -> list[PersonalGround]:
        """Every account with the folder in which its personal site lies, or would lie."""
        home = next(filter(self._offers, self._hosts), None)
        return [] if home is None else list(self._grounds(home))

    def _offers(self, host: Host) -> bool:
        """Whether a host offers personal sites: of thousands that say nothing of it none needs to
        be worked out.
        """
        asked = self.server.main if is_silent(host, _OFFER) else host
        return asked.user_folders.folders is not None

    def _grounds(self, host: Host) -> Iterator[PersonalGround]:
        base, folders = self._summary(host), host.user_folders
        for account in self.survey.accounts:
            found = (
                personal_folder(pattern, account.name, account.home)
                for pattern in folders.folders or ()
            )
            likely = [folder for folder in found if folder is not None]
            if not likely:
                continue
            folder = next((each for each in likely if each in self.survey.files), likely[0])
            site = replace(
                base,
                name=f"~{account.name}",
                root=folder,
                path=f"/~{account.name}/",
                personal=account.name,
            )
            off = folders.off_for(account.name)
            line = off or folders.folders_line
            proof = proof_of(line) if line is not None else None
            yield PersonalGround(account.name, folder, off is None, proof, site)


def _filled(summary: SiteSummary, like: Like) -> SiteSummary:
    """The same of another host of its kind."""
    host, fill = like.host, like.fill
    kept = summary.kept
    if kept is not None:
        line = kept.line
        place = None if line.place is None else fill.at(line.place)
        kept = LogKeeping(Proof(place, fill.text(line.text)), kept.template, kept.own)
    return SiteSummary(
        name=host.label,
        place=host.place,
        bindings=summary.bindings,
        names=host.all_names,
        root=fill.maybe(summary.root),
        address=summary.address,
        port=summary.port,
        asked_as=host.name or summary.asked_as,
        sealed=summary.sealed,
        doors=tuple(
            Door(door.address, door.port, fill.at(door.place), door.sealed)
            for door in summary.doors
        ),
        claims=tuple(_claims(host)),
        index=summary.index,
        log=fill.maybe(summary.log),
        kept=kept,
        errors=fill.maybe(summary.errors),
    )


def _folders(survey: Survey, pattern: FolderPattern) -> Iterator[str]:
    levels = pattern.pattern.removeprefix(pattern.above).strip("/").split("/")
    return folders_at(survey, pattern.above, [None if "%" in part else part for part in levels])


def _root_of(host: Host) -> str | None:
    """The document root, for the block's own name where a name says where it lies."""
    pattern = host.by_name
    if pattern is None or not pattern.pattern:
        return host.root
    name = host.name if not pattern.by_address else None
    return pattern.folder(name.lower(), 80) if name else pattern.above or None


def _claims(host: Host) -> Iterator[Named]:
    if host.name and host.name_line is not None:
        yield Named(host.name.lower(), host.name_line.place)
    for line in host.alias_lines:
        for name in words(line.text):
            yield Named(name.lower(), line.place, not any(c in name for c in "*?"))


@lru_cache(maxsize=4096)
def _is_literal(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
