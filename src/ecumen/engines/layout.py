"""Folders of sites in pairs: what is written, and links to what is enabled.

Source: the layout of Debian's packages of both engines.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ecumen.survey import EngineRecord, Survey

_AVAILABLE, _ENABLED = "-available", "-enabled"


@dataclass(frozen=True, slots=True)
class SiteFolders:
    """available: where sites are written; enabled: where a link to one has it read. name: of the
    former, as a link beside it says it.
    """

    name: str
    available: str
    enabled: str


def paired_folders(survey: Survey, record: EngineRecord) -> Iterator[SiteFolders]:
    """The pairs beside the main file of which the survey knows all that is enabled."""
    base = record.config.rpartition("/")[0]
    for name in survey.files.children(base):
        if not name.endswith(_AVAILABLE) or not name.startswith("sites"):
            continue
        enabled = f"{base}/{name.removesuffix(_AVAILABLE)}{_ENABLED}"
        folder = survey.files.get(enabled)
        # Without a whole list of the folder, what is not seen there might be enabled all the same.
        if folder is not None and folder.listed:
            yield SiteFolders(name, f"{base}/{name}", enabled)


def enabled_folders(survey: Survey, record: EngineRecord) -> Iterator[str]:
    """Folders of links to what is enabled: sites, modules and the like."""
    base = record.config.rpartition("/")[0]
    for name in survey.files.children(base):
        if name.endswith(_ENABLED):
            yield f"{base}/{name}"
