"""What stands in front of the application: how much a client may send, and what HEAD answers.

Source: RFC 9110, sections 9.3.2 and 15.5.14. A body is taken in before the application is asked, so
who may send a large one is settled as soon as the header is read.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable
from http.cookies import CookieError, SimpleCookie
from typing import Any

from django.conf import settings
from django.core import signing
from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser

USUAL_BODY = 1 << 20  # bytes
UPLOADS = "/api/surveys"
TICKET = "ecumen_upload"
_SALT = "ecumen.upload"

Application = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


def ticket(name: str) -> str:
    """Shows, without asking the database, that its bearer signed in."""
    return signing.dumps(name, salt=_SALT)


def _has_ticket(cookies: str) -> bool:
    try:
        found = SimpleCookie(cookies).get(TICKET)
        if found is not None:
            signing.loads(found.value, salt=_SALT, max_age=settings.SESSION_COOKIE_AGE)
            return True
    except (CookieError, signing.BadSignature):
        pass
    return False


class Parser(HTTPRequestParser):  # type: ignore[misc]
    """Reads a request; lets its body be large only for who signed in and uploads a survey."""

    adj: Adjustments

    def parse_header(self, header_plus: bytes) -> None:
        super().parse_header(header_plus)
        uploads = self.command == "POST" and self.path == UPLOADS
        if not uploads or not _has_ticket(self.headers.get("COOKIE", "")):
            self.adj = copy.copy(self.adj)
            self.adj.max_request_body_size = USUAL_BODY


class Channel(HTTPChannel):  # type: ignore[misc]
    parser_class = Parser


def to_clients(application: Application) -> Application:
    """The application without bodies in answers to HEAD: on a connection that is kept, they would
    be taken for the beginning of the next answer.
    """

    def answer(environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        body = application(environ, start)
        if environ["REQUEST_METHOD"] != "HEAD":
            return body
        close = getattr(body, "close", None)
        if close is not None:
            close()
        return []

    return answer
