"""Folders that are sites: the name that is asked for says where a server's root lies, by a variable
or by what a pattern takes of it.

Source: nginx, ngx_http_core_module ("root", "server_name": named captures), ngx_http_map_module.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace

from ecumen.engines.folders import folders_at, is_name
from ecumen.engines.nginx.server import Map, Server, Whole
from ecumen.engines.nginx.texts import Text
from ecumen.engines.sites import Named, SiteSummary
from ecumen.engines.tree import Place
from ecumen.patterns import Hit, TooCostly
from ecumen.survey import Survey

_NAME = frozenset(("host", "http_host"))
_DEEPEST = 5  # maps that look up maps
_TOKEN = re.compile(
    r"\(\?P?<(?P<name>\w+)>|(?P<open>\((?:\?:)?)|\\(?P<plain>[.\-])|(?P<text>[\w-])|[\^$]"
)
_UP_TO_CLOSING = re.compile(r"(?:[^()\\[]|\\.|\[[^\]]*\])*\)")
# A server that answers for a name, and what its pattern took of it.
Answers = Callable[[str], tuple[Server | None, Hit | None]]


def sites_in_folders(
    survey: Survey, whole: Whole, server: Server, base: SiteSummary, answers: Answers
) -> Iterator[SiteSummary]:
    """The folders that are there and to which a name leads, each as a site of its own. base: the
    server's own summary. Each name is tried forwards: it is this server that answers for it, and
    this folder to which that leads.
    """
    root = server.conf.root
    if root.path.constant or root.alias is not None or not root.path.source.startswith("/"):
        return
    place = root.line.place if root.line is not None else server.place
    shape = _shape(root.path)
    tables = _looked_up(whole, root.path)
    for folder in _folders(survey, root.path):
        found = shape.fullmatch(folder)
        if found is None:
            continue
        for name in map(str.lower, _names(tables, server, root.path, found.groups())):
            answered, hit = answers(name) if is_name(name) else (None, None)
            if answered is server and _led(whole, root.path, name, hit) == folder:
                if name != base.asked_as:
                    yield _site(base, name, folder, place)
                break


def folders_unled(survey: Survey, server: Server) -> Iterator[str]:
    """Folders beside those that are sites to which no name leads: what is put in of a name that is
    asked for is in small letters (ngx_http_validate_host).
    """
    root = server.conf.root
    variables = {each.name for each in root.path.pieces if each.name}
    groups = {
        name for _, regex in server.patterns if regex is not None for name in regex.code.names
    }
    if root.alias is not None or not variables or not variables <= {"host", *groups}:
        return
    shape = _shape(root.path)
    for folder in _folders(survey, root.path):
        found = shape.fullmatch(folder)
        if found is not None and any(text != text.lower() for text in found.groups()):
            yield folder


def _site(base: SiteSummary, name: str, folder: str, place: Place) -> SiteSummary:
    return replace(
        base, name=name, names=(name,), root=folder, asked_as=name, claims=(Named(name, place),)
    )


def _folders(survey: Survey, root: Text) -> Iterator[str]:
    levels = "".join("$" if each.name else each.text for each in root.pieces).strip("/").split("/")
    return folders_at(survey, "/", [None if "$" in level else level for level in levels])


def _shape(root: Text) -> re.Pattern[str]:
    """What all folders look like: one group for each variable."""
    pieces = ("([^/]*)" if each.name else re.escape(each.text) for each in root.pieces)
    return re.compile("".join(pieces).removesuffix("/"))


# For a variable that is looked up: the names that come to each text. Made once: both may be many.
_Tables = Mapping[str, Mapping[str, Sequence[str]]]


def _looked_up(whole: Whole, root: Text) -> _Tables:
    found: dict[str, dict[str, list[str]]] = {}
    for variable in {each.name for each in root.pieces if each.name}:
        table = whole.maps.get(variable)
        if isinstance(table, Map):
            names = found[variable] = {}
            for name, text in table.exact.items():
                if text.constant:
                    names.setdefault(text.source, []).append(name)
    return found


def _names(tables: _Tables, server: Server, root: Text, said: Sequence[str]) -> Iterator[str]:
    """Names that may lead there, the likeliest first."""
    variables = [each.name for each in root.pieces if each.name]
    endings = [name.lstrip("*") for name in server.names if name.startswith(("*.", "."))]
    for variable, text in zip(variables, said, strict=True):
        yield from tables.get(variable, {}).get(text, ())
        if variable in _NAME:
            yield text
        for ending in endings:
            yield f"{text}{ending}"
    groups = dict(zip(variables, said, strict=True))
    for written, _ in server.patterns:
        name = _spelled(written.lstrip("~*"), groups)
        if name:
            yield name


def _spelled(pattern: str, groups: Mapping[str, str]) -> str | None:
    """A name that a plain pattern fits where its groups take these texts, by name or number; what
    need not be there is left out. None for what is not so plain.
    """
    out, at, number = [], 0, 0
    while at < len(pattern):
        token = _TOKEN.match(pattern, at)
        if token is None:
            return None
        at = token.end()
        if token["name"] or token["open"]:
            counts = token["open"] != "(?:"
            number += counts
            end = _closing(pattern, at)
            if end is None:
                return None
            may_lack = pattern[end + 1 : end + 2] in ("?", "*")
            text = groups.get(token["name"] or "", groups.get(str(number)) if counts else None)
            if text is None and not may_lack:
                return None
            out.append(text or "")
            at = end + 1 + may_lack
        else:
            out.append(token["plain"] or token["text"] or "")
    return "".join(out)


def _closing(pattern: str, at: int) -> int | None:
    """Where the group ends that begins in front; None where another one stands in it."""
    end = _UP_TO_CLOSING.match(pattern, at)
    return end.end() - 1 if end is not None else None


def _led(whole: Whole, root: Text, name: str, hit: Hit | None) -> str | None:
    """The folder that a name leads to; None where it hangs on more than that."""

    def value(variable: str, deep: int = 0) -> str:
        if variable in _NAME:
            return name
        if hit is not None and (variable.isdecimal() or variable in hit.named):
            return hit.group(int(variable)) if variable.isdecimal() else hit.named[variable]
        table = whole.maps.get(variable)
        if not isinstance(table, Map) or table.patterns or deep >= _DEEPEST:
            raise LookupError(variable)
        key = table.source.value(lambda each: value(each, deep + 1)).lower()
        if table.hosts and key not in table.exact:
            raise LookupError(variable)
        return table.exact.get(key, table.default).value(lambda each: value(each, deep + 1))

    try:
        return root.value(value).rstrip("/")
    except (LookupError, TooCostly):
        return None
