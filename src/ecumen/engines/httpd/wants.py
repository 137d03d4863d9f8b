"""What a survey must look at so that an httpd can be understood."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.overrides import asks_for
from ecumen.engines.httpd.seals import named_in
from ecumen.engines.httpd.server import Host, Section, Server, load
from ecumen.engines.httpd.settings import EMPTY
from ecumen.engines.httpd.way import personal_folder
from ecumen.engines.tree import Directive, Mistake, Source
from ecumen.rights.walk import join
from ecumen.survey import Account, EngineRecord

_LOADS = ("loadmodule", "loadfile")
# Of what is handed to a socket: `unix:PATH|URL`.
_SOCKET = re.compile(r"unix:(/[^|\s\"]+)\|")


class HttpdWants:
    """The configuration as it was read on the machine that is surveyed."""

    def __init__(self, source: Source, record: EngineRecord) -> None:
        self.server: Server = load(source, record, where_only=True)

    @property
    def _hosts(self) -> tuple[Host, ...]:
        return (self.server.main, *self.server.hosts)

    @property
    def files(self) -> Sequence[str]:
        """The files of the configuration, in the order in which they are read."""
        return self.server.tree.files

    @property
    def mistakes(self) -> Sequence[Mistake]:
        """Why the server would not load its configuration."""
        return [each for each in self.server.mistakes if not each.unread]

    def code(self) -> Iterator[str]:
        """What the configuration has the engine load as code."""
        for directive in self.server.tree.walk_where(lambda inner: inner.says(_LOADS)):
            name = directive.name.lower()
            if name not in ("loadmodule", "loadfile"):
                continue
            given = words(directive.text)
            given = given[1:2] if name == "loadmodule" else given
            yield from (p if p.startswith("/") else join(self.server.root, p) for p in given)

    def grounds(self, accounts: Sequence[Account]) -> Iterator[str]:
        """Folders out of which files may be served."""
        for host in self._hosts:
            if host.root:
                yield host.root
            for pattern in (host.by_name, host.programs_by_name):
                if pattern is not None and pattern.above:
                    yield pattern.above
            for alias in host.aliases:
                # Of a pattern's target only the part in front of the first capture is known.
                real = alias.real
                if alias.by_pattern:
                    real = real.partition("$")[0].rpartition("/")[0]
                if real.startswith("/"):
                    yield real.rstrip("/") or "/"
            yield from _personal(host, accounts)
        for directive in self.server.tree.walk_where(lambda inner: inner.says(("unix:/",))):
            if directive.name.lower() in ("proxypass", "proxypassmatch", "sethandler"):
                yield from _SOCKET.findall(directive.text)

    def texts(self) -> Iterator[tuple[str, str]]:
        """What rules of rewriting look things up in."""
        for host in self._hosts:
            yield from ((m.source, m.by) for m in host.maps.values() if m.kind in ("txt", "rnd"))

    def seals(self) -> Iterator[tuple[str, str]]:
        """Files of certificates and keys, each with the file that names it."""
        return named_in(self.server)

    def logs(self) -> Iterator[str | None]:
        """Where lines go, of requests and of errors."""
        for host in self._hosts:
            yield from (log.path for log in host.logs)
            yield host.errors

    def override_names(self) -> set[str]:
        """What per-folder override files are called."""
        return {name for host in self._hosts for name in host.override_names or (".htaccess",)}

    def override_folders(self, grounds: Iterable[str]) -> Iterator[str]:
        """Those above the grounds in which any host looks for them: all, where nothing is said of
        override files for `/`; else those in and below a folder for which a section says it.
        """
        everywhere = not all(self._closed(host) for host in self._hosts)
        plain, wild = self._openers()
        known: dict[str, bool] = {}

        def looked_into(folder: str) -> bool:
            if folder not in known:
                here = folder in plain or any(
                    each.fits_folder(folder) is not False for each in wild
                )
                known[folder] = here or (folder != "/" and looked_into(_around(folder)))
            return known[folder]

        for ground in grounds:
            folder = ground
            while folder.startswith("/") and folder != "/":
                folder = _around(folder)
                if everywhere or looked_into(folder):
                    yield folder

    def _openers(self) -> tuple[set[str], list[Section]]:
        """Sections that may have override files looked for: plain paths, and patterns."""
        sections = {id(s): s for host in self._hosts for s in host.folders if _opens(s.directive)}
        found = sections.values()
        wild = {section.pattern: section for section in found if section.wild}
        return {section.pattern for section in found if not section.wild}, list(wild.values())

    def _closed(self, host: Host) -> bool:
        """Whether the server looks for no override file in `/`, and so below only where it is told
        to anew.
        """
        merged = EMPTY
        for section in host.folders:
            if section.depth == 0 and section.fits_folder("/"):
                merged = section.settings.over(merged)
        return not asks_for(merged.override, merged.override_list)

    def names(self) -> Iterator[str]:
        """The names that sites claim, and are bound to."""
        for host in self.server.hosts:
            own = [host.name] if host.name else []
            bound = (binding.address for binding in host.bindings)
            yield from (name.lower() for name in (*own, *sorted(host.names), *bound))


def _around(folder: str) -> str:
    return folder.rpartition("/")[0] or "/"


def _opens(section: Directive) -> bool:
    """Whether a section speaks of override files otherwise than to close them."""
    return any(
        (
            each.name.lower() in ("allowoverride", "allowoverridelist")
            and each.text.strip().lower() != "none"
        )
        or _opens(each)
        for each in section.children or ()
    )


def _personal(host: Host, accounts: Sequence[Account]) -> Iterable[str]:
    """Folders in which personal sites may lie."""
    for pattern in host.user_folders.folders or ():
        for account in accounts:
            folder = personal_folder(pattern, account.name, account.home)
            if folder is not None and folder != "/":
                yield folder
