"""The page of each check: what it means, why it matters, how to mend it, when to accept it."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from importlib import resources


@dataclass(frozen=True, slots=True)
class PageSection:
    """One section of a page. text: plain, paragraphs apart by an empty line."""

    title: str
    text: str


@cache
def page_of(id: str) -> tuple[PageSection, ...]:
    """The sections of a check's page, in their order. Raises KeyError for no such check."""
    # The id may come of an address that somebody typed: its form is looked at before the file is.
    file = resources.files("ecumen.audit").joinpath("pages", f"{id}.md")
    if not re.fullmatch(r"[a-z]+\.[a-z-]+", id) or not file.is_file():
        raise KeyError(id)
    parts = re.split(r"^## (.+)$", file.read_text("utf-8"), flags=re.MULTILINE)
    return tuple(
        PageSection(title.strip(), text.strip())
        for title, text in zip(parts[1::2], parts[2::2], strict=True)
    )
