"""What settings come to for one request: who may, and which page goes out for an error.

The whole evaluation and the short answers both decide by this.
Source: httpd 2.4, mod_authz_core, mod_auth_basic, core ("ErrorDocument"); measured.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum

from ecumen.engines.httpd.access import Access, AccessOutcome
from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.settings import Settings
from ecumen.engines.tree import Directive


class Ruling(Enum):
    """What comes of a visitor by the rules of a place. LOGIN_UNUSED, _BROKEN: the server fails."""

    GRANTED = "granted"
    DENIED = "denied"
    LOGIN = "sign in first"
    LOGIN_UNKNOWN = "whether the sign-in holds is not known"
    LOGIN_UNUSED = "a way to sign in, and nothing that asks for it"
    LOGIN_BROKEN = "asked to sign in, and no way to"
    UNSURE = "a rule that is not evaluated"


def ruled(
    settings: Settings, judged: Callable[[Access], AccessOutcome | None], *, signed_in: bool
) -> Ruling:
    """judged: what the access rules come to, None where that is not known."""
    access = settings.access
    if access is None or not access.holds:
        # A way to sign in without any rule that asks for it is a mistake to the server.
        return Ruling.GRANTED if settings.auth_kind is None else Ruling.LOGIN_UNUSED
    match judged(access):
        case None:
            return Ruling.UNSURE
        case AccessOutcome.GRANTED:
            return Ruling.GRANTED
        case AccessOutcome.LOGIN:
            return _login(settings, signed_in)
    return Ruling.DENIED


def _login(settings: Settings, signed_in: bool) -> Ruling:
    choice = settings.auth_type
    if signed_in or (choice is not None and choice.value.lower() != "basic"):
        return Ruling.LOGIN_UNKNOWN
    if choice is None or settings.auth_name is None:
        return Ruling.LOGIN_BROKEN
    return Ruling.LOGIN


class Goes(Enum):
    """What goes out for an error."""

    OWN = "the server's own page"
    SENT = "the visitor is sent on"
    LOCAL = "an address of the site"
    UNKNOWN = "what is not worked out"


@dataclass(frozen=True, slots=True)
class ErrorPage:
    """where: an address, for what is neither the server's own nor unknown."""

    goes: Goes
    where: str
    directive: Directive


def error_page(settings: Settings, status: int) -> ErrorPage | None:
    """None where no line speaks of the status."""
    directive = settings.error_pages.get(status)
    if directive is None:
        return None
    page = "".join(words(directive.text)[1:2])
    goes = Goes.OWN
    if " " in page or page.lower() == "default":
        goes = Goes.OWN
    elif "%{" in page:
        goes = Goes.UNKNOWN
    elif "://" in page:
        # A sign-in cannot be asked for at another address.
        goes = Goes.OWN if status == 401 else Goes.SENT
    elif page.startswith("/"):
        goes = Goes.LOCAL
    return ErrorPage(goes, page, directive)
