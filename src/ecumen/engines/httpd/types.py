"""The content type of a file by its endings.

Source: httpd 2.4, mod_mime ("Files with Multiple Extensions") and core ("ForceType",
"AddDefaultCharset").
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from ecumen.engines.httpd.settings import Ending, Settings
from ecumen.engines.tree import Place

ERROR_PAGE = "text/html; charset=iso-8859-1"
# Only to a type that is one in its form something can be added (mod_mime, analyze_ct).
_WHOLE = re.compile(r"[^/;\s]+/[^/;\s]+")
_CHARSET = re.compile(r"\s*;\s*charset=[^;]*", re.IGNORECASE)
_NEEDS_CHARSET = ("text/plain", "text/html")


@dataclass(frozen=True, slots=True)
class Typed:
    """type: None where none is sent. handler: what would produce the content, or None.

    encoded: an ending names a coding. odd: an ending is not known. spoken: one names a language.
    """

    type: str | None
    handler: str | None
    by: str
    ending: Ending | None = None
    handler_place: Place | None = None
    encoded: bool = False
    odd: bool = False
    spoken: bool = False


def type_of(
    name: str, settings: Settings, types: Mapping[str, str], by_rule: str | None = None
) -> Typed:
    """name: the file's name without its folder. by_rule: a type that a rule of rewriting gives."""
    kind: str | None = None
    charset = handler = None
    by, decided = "", None
    encoded = odd = spoken = False
    place: Place | None = None
    # The part before the first dot is the name; dots in front belong to it.
    stem = name.lstrip(".")
    for ending in stem.split(".")[1:]:
        if not ending:
            continue
        key = ending.lower()
        known = settings.endings.get(key)
        hit = False
        if (known is None or known.type is None) and key in types:
            kind, hit, by, decided = types[key], True, key, None
        if known is not None:
            if known.type:
                kind, hit, by, decided = known.type, True, key, known
            if known.charset:
                charset, hit = known.charset, True
            if known.language or known.encoding or known.filter:
                hit = True
            encoded = encoded or bool(known.encoding)
            spoken = spoken or bool(known.language)
            if known.handler:
                handler, place, hit = known.handler, known.place, True
        if not hit:
            # An ending that is not known takes nothing back: `page.html.bak` is still a page.
            odd = True
    if kind is not None and charset is not None and _WHOLE.match(kind):
        kind = f"{_CHARSET.sub('', kind)}; charset={charset}"
    forced = settings.forced_type
    if forced is not None and forced.value.lower() != "none":
        kind, by, decided = forced.value, "", None
    if by_rule is not None:
        kind, by, decided = by_rule, "", None
    kind = _with_default_charset(kind, settings)
    return Typed(kind, handler, by, decided, place, encoded, odd, spoken)


def _with_default_charset(kind: str | None, settings: Settings) -> str | None:
    default = settings.default_charset
    if kind is None or default is None or default.value.lower() == "off":
        return kind
    charset = "iso-8859-1" if default.value.lower() == "on" else default.value
    if kind in _NEEDS_CHARSET:
        return f"{kind}; charset={charset}"
    return kind
