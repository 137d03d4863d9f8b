"""What a survey must look at so that an nginx can be understood."""

from __future__ import annotations

import posixpath
from collections.abc import Iterable, Iterator, Sequence

from ecumen.engines.nginx.seals import named_in
from ecumen.engines.nginx.server import Whole, load
from ecumen.engines.tree import Mistake, Source
from ecumen.rights.walk import join
from ecumen.survey import Account, EngineRecord


class NginxWants:
    """The configuration as it was read on the machine that is surveyed."""

    def __init__(self, source: Source, record: EngineRecord) -> None:
        self.whole: Whole = load(source, record)
        self.root = record.root
        self.folder = posixpath.dirname(record.config)

    @property
    def files(self) -> Sequence[str]:
        """The files of the configuration, in the order in which they are read."""
        return self.whole.reading.files

    @property
    def mistakes(self) -> Sequence[Mistake]:
        """Why the engine would not load its configuration."""
        return [each for each in self.whole.mistakes if not each.unread]

    def code(self) -> Iterator[str]:
        """What the configuration has the engine load as code."""
        for line in self.whole.reading.lines:
            if line.name == "load_module" and line.args:
                path = line.args[0]
                yield path if path.startswith("/") else join(self.root, path)

    def grounds(self, accounts: Sequence[Account]) -> Sequence[str]:
        """Folders out of which files may be served, and sockets that requests are handed to."""
        return self.whole.grounds()

    def texts(self) -> Sequence[tuple[str, str]]:
        """All that it looks things up in stands in its configuration."""
        return ()

    def seals(self) -> Iterator[tuple[str, str]]:
        """Files of certificates and keys, each with the file that names it."""
        return named_in(self.whole, self.folder)

    def logs(self) -> Iterator[str | None]:
        """Where lines go, of requests and of errors."""
        for server in self.whole.servers:
            yield from (log.path for log in server.conf.logs)
            yield server.conf.errors

    def override_folders(self, grounds: Iterable[str]) -> Iterable[str]:
        """There are no override files."""
        return ()

    def override_names(self) -> set[str]:
        """What per-folder override files are called: there are none."""
        return set()

    def names(self) -> Iterator[str]:
        """The names that sites claim."""
        for server in self.whole.servers:
            yield from server.names
