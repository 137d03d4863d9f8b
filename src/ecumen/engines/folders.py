"""Folders that lie where a pattern says that sites do."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from ecumen.rights.walk import join
from ecumen.survey import Kind, Survey

# As visitors can ask for them (RFC 1123, section 2.1), and underscores. A folder may be called
# anything, by whoever may write around it.
_NAME = re.compile(r"(?!\.)[a-z0-9._-]{1,253}")


def is_name(text: str) -> bool:
    """Whether a text can be a name that somebody asks for."""
    return _NAME.fullmatch(text) is not None


def folders_at(survey: Survey, above: str, levels: Sequence[str | None]) -> Iterator[str]:
    """The folders below one, by the parts of a path: None for one that hangs on a name, which must
    be there; others need not be.
    """
    if not levels:
        yield above
    elif levels[0] is not None:
        yield from folders_at(survey, join(above, levels[0]), levels[1:])
    else:
        for name in sorted(survey.files.children(above)):
            entry = survey.files.get(join(above, name))
            # A link may lead to a folder.
            if entry is not None and entry.kind in (Kind.DIR, Kind.LINK):
                yield from folders_at(survey, entry.path, levels[1:])
