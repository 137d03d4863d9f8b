"""Countries of visitors' addresses, only where the administrator gives a database of them.

Source: the MMDB file format, version 2.0. What such databases say of an address differs: a country
stands as a text, or in a record with its name or its code.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

import maxminddb
from django.conf import settings

from ecumen.errors import EcumenError

UNKNOWN = "not known"
Country = Callable[[str], str]


class CountriesError(EcumenError):
    """The database cannot be used; says which and why."""


def countries() -> Country | None:
    """What tells an address's country; None where no database is set. Raises CountriesError."""
    path: Path | None = settings.COUNTRIES
    if path is None:
        return None
    try:
        return _opened(path, path.stat().st_mtime_ns)
    except (OSError, ValueError, maxminddb.InvalidDatabaseError) as error:
        raise CountriesError(f"ECUMEN_COUNTRIES: {path} is no MMDB file ({error})") from error


@lru_cache(maxsize=1)
def _opened(path: Path, changed_at: int) -> Country:
    """changed_at: a newer file of the same name is opened anew."""
    # In memory: a file that is replaced while it is mapped would end the process.
    reader = maxminddb.open_database(path, maxminddb.MODE_MEMORY)

    @lru_cache(maxsize=100_000)
    def country(address: str) -> str:
        try:
            return _named(reader.get(address)) or UNKNOWN
        except (ValueError, maxminddb.InvalidDatabaseError):
            # A name in place of an address, or a record that cannot be read.
            return UNKNOWN

    return country


def _named(record: object) -> str:
    """The name of a country in a record, else its code; "" where there is none."""
    if not isinstance(record, dict):
        return record if isinstance(record, str) else ""
    for key in ("country", "country_name", "registered_country", "country_code", "iso_code"):
        found = record.get(key)
        if isinstance(found, str) and found:
            return found
        if isinstance(found, dict):
            names = found.get("names")
            name = names.get("en") if isinstance(names, dict) else found.get("name")
            code = found.get("iso_code") or found.get("code")
            if isinstance(name or code, str) and (name or code):
                return str(name or code)
    return ""
