"""Redirects: of a host, of a folder, of an override file.

Source: httpd 2.4, mod_alias ("Redirect", "RedirectMatch"); measured.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.uri import escaped
from ecumen.engines.numbers import atoi
from ecumen.engines.tree import Directive
from ecumen.patterns import Hit, Regex, TooCostly, compiled, is_refused

_WORDS = {"permanent": 301, "temp": 302, "seeother": 303, "gone": 410}
LONGEST_TEXT = 64 << 10  # letters, with captures put in
_URL = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://")


@dataclass(frozen=True, slots=True)
class Redirect:
    """fake: the address that it takes, None for whatever a section holds. target: None for a
    status alone. by_pattern: fake is a pattern; regex None then is one that is not evaluated.
    """

    fake: str | None
    by_pattern: bool
    regex: Regex | None
    target: str | None
    status: int
    directive: Directive


class RedirectError(Exception):
    """The server refuses this line. The text says why."""


def read_redirect(directive: Directive, in_folder: bool) -> Redirect:
    """in_folder: in a section or an override file, where one argument is enough.

    Raises RedirectError.
    """
    given = words(directive.text)
    name = directive.name.lower()
    by_pattern = name == "redirectmatch"
    most, least = (3, 2) if by_pattern else (2, 2) if name != "redirect" else (3, 1)
    if not least <= len(given) <= most:
        raise RedirectError(f"{directive.name} takes other arguments")
    status = 301 if name == "redirectpermanent" else 302
    known = 0
    word = given[0].lower()
    if word in _WORDS:
        status, known = _WORDS[word], -1 if word == "gone" else 1
    elif word[:1].isascii() and word[:1].isdecimal():
        status = atoi(word)
        known = 1 if 300 <= status < 400 else -1
    if len(given) == 3 and not known:
        raise RedirectError("Redirect: invalid first argument (of three)")
    if in_folder and len(given) == 1 and known < 0:
        return Redirect(None, False, None, None, status, directive)
    if in_folder and ((known > 0 and len(given) == 2) or (not known and len(given) == 1)):
        return Redirect(None, False, None, given[-1], status, directive)
    fake, target = (given[1:2], given[2:3]) if known else (given[0:1], given[1:2])
    if not fake:
        raise RedirectError("Redirect takes other arguments")
    return _checked(fake[0], target[0] if target else None, by_pattern, status, directive)


def _checked(
    fake: str, target: str | None, by_pattern: bool, status: int, directive: Directive
) -> Redirect:
    if 300 <= status < 400:
        if target is None:
            raise RedirectError("URL to redirect to is missing")
        if not by_pattern and not _URL.match(target) and not target.startswith("/"):
            raise RedirectError("Redirect to non-URL")
    elif target is not None:
        raise RedirectError("Redirect URL not valid for this status")
    if by_pattern and is_refused(fake):
        raise RedirectError("Regular expression could not be compiled.")
    regex = compiled(fake) if by_pattern else None
    return Redirect(fake, by_pattern, regex, target, status, directive)


@dataclass(frozen=True, slots=True)
class Sent:
    """What a redirect makes of an address. location: None for a status alone, or where only the
    site's own name is missing to make it whole.
    """

    status: int
    location: str | None
    redirect: Redirect


def find_redirect(
    redirects: Sequence[Redirect], path: str, query: str | None, own: str | None
) -> Sent | Redirect | None:
    """The first that takes this address; a Redirect is one of which that is not worked out.

    path: decoded. own: scheme, name and port that the site gives as its own; "" where visitors are
    sent on without them ("RedirectRelative").
    """
    for redirect in redirects:
        found = _found(redirect, path)
        if found is None:
            continue
        if isinstance(found, Redirect):
            return found
        return _sent(redirect, found, query, own)
    return None


def _found(redirect: Redirect, path: str) -> str | Redirect | None:
    if redirect.fake is None:
        target = redirect.target or ""
        return redirect if "%{" in target or "$" in target else _escaped_target(target)
    if not redirect.by_pattern:
        length = alias_length(redirect.fake, path)
        return (redirect.target or "") + escaped(path[length:]) if length else None
    if redirect.regex is None:
        return redirect
    try:
        hit = redirect.regex.search(path)
        return None if hit is None else _escaped_target(put_groups(redirect.target or "", hit))
    except TooCostly:
        return redirect


def _escaped_target(target: str) -> str:
    """Query and fragment are left as they are."""
    head, mark, fragment = target.partition("#")
    path, question, query = head.partition("?")
    return escaped(path) + (f"?{query}" if question and query else "") + mark + fragment


def _sent(
    redirect: Redirect, location: str, query: str | None, own: str | None
) -> Sent | Redirect | None:
    if not 300 <= redirect.status < 400:
        return Sent(redirect.status, None, redirect)
    if location.startswith("/"):
        if own is None:
            return Sent(redirect.status, None, redirect)
        location = own + location
    elif not _URL.match(location):
        return Sent(500, None, redirect)
    if query is not None and "?" not in location:
        location = f"{location}?{query}"
    return Sent(redirect.status, location, redirect)


def put_groups(text: str, hit: Hit) -> str:
    """`$1` becomes what the first group took; a backslash in front of anything keeps it.

    Raises TooCostly for what grows beyond all addresses.
    """
    out: list[str] = []
    at = size = 0
    while at < len(text):
        size += len(out[-1]) if out else 0
        if size > LONGEST_TEXT:
            raise TooCostly("with its captures the text grows too long")
        char = text[at]
        if char == "$" and text[at + 1 : at + 2].isdecimal():
            out.append(hit.group(int(text[at + 1])))
            at += 2
            continue
        if char == "\\" and at + 1 < len(text):
            at += 1
        out.append(text[at])
        at += 1
    return "".join(out)


def alias_length(fake: str, path: str) -> int:
    """How many characters of `path` the prefix `fake` takes; 0 where it does not fit.

    Slashes of any number match slashes of any number; the last component must match whole.
    """
    at = here = 0
    while here < len(fake):
        if fake[here] == "/":
            if at >= len(path) or path[at] != "/":
                return 0
            while here < len(fake) and fake[here] == "/":
                here += 1
            while at < len(path) and path[at] == "/":
                at += 1
        elif at < len(path) and path[at] == fake[here]:
            at, here = at + 1, here + 1
        else:
            return 0
    if not fake.endswith("/") and at < len(path) and path[at] != "/":
        return 0
    return at
