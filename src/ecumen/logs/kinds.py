"""What was asked for, and where visitors came from: by names alone."""

from __future__ import annotations

import re
from functools import lru_cache

_KINDS = {
    "page": "html htm xhtml shtml php asp aspx jsp cgi pl py md",
    "style": "css less scss",
    "script": "js mjs map wasm",
    "picture": "jpg jpeg png gif webp avif svg ico bmp tif tiff",
    "font": "woff woff2 ttf otf eot",
    "document": "pdf odt ods odp doc docx xls xlsx ppt pptx epub ics txt rtf csv",
    "sound and film": "mp3 ogg oga opus flac wav m4a mp4 webm ogv mov avi m3u8 ts",
    "archive": "zip gz tgz xz bz2 zst 7z rar tar iso",
    "data": "json xml rss atom yaml yml toml sql",
}
_BY_ENDING = {ending: kind for kind, endings in _KINDS.items() for ending in endings.split()}
OTHER = "other"
_MOST = 200_000


@lru_cache(maxsize=_MOST)
def kind_of(path: str) -> str:
    """By its ending. A folder, and what has no ending, is a page."""
    name = path.rpartition("/")[2]
    stem, dot, ending = name.rpartition(".")
    if not dot or not (stem or ending):
        return "page"
    return _BY_ENDING.get(ending.lower(), OTHER)


# Query parameters and hosts by which pages that look things up are known.
_SEARCHES = re.compile(
    r"://(?:[^/?#]*[./])?(?:search|suche|find)\.|://[^/?#]*search[^/?#]*|/(?:search|find|suche)\b"
    r"|[?&](?:q|query|search|wd|text|p|keywords?)=",
    re.IGNORECASE,
)
_HOST = re.compile(r"[a-z][a-z0-9+.-]*://([^/?#:@]+|\[[^\]]*\])", re.IGNORECASE)


@lru_cache(maxsize=_MOST)
def referrer_of(text: str, own: frozenset[str]) -> tuple[str, str]:
    """Where a visitor came from: `none`, `inside`, `search` or `outside`; and from whom.

    own: the names of the site itself.
    """
    match = _HOST.match(text)
    if match is None:
        return "none", ""
    host = match[1].lower()
    if host in own or host.removeprefix("www.") in own:
        return "inside", text.partition("?")[0]
    return ("search" if _SEARCHES.search(text) else "outside"), host
