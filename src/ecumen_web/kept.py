"""Answers about surveys are kept as long as nothing in the records changes: what a survey says
never does, and whatever is read, loaded or accepted is written down.

Source: sqlite3, "PRAGMA data_version".
"""

from __future__ import annotations

import sqlite3
import threading
from collections import OrderedDict
from collections.abc import Callable

from django.conf import settings
from django.db import connection
from django.http import HttpRequest, HttpResponse

MOST = 400  # answers
LARGEST = 8 << 20  # bytes of one
_ABOUT = "/api/surveys/"


class _Answers:
    """Bodies, with the headers that the view gave: what others add belongs to one request, as a
    session's cookie does.
    """

    def __init__(self) -> None:
        self._turn = threading.Lock()
        self._answers: OrderedDict[tuple[object, ...], tuple[bytes, dict[str, str]]] = OrderedDict()
        # One that writes nothing, and so sees what all others write.
        self._watching: sqlite3.Connection | None = None
        self._state: tuple[int] | None = None

    def state(self) -> object:
        """Of the records: another one, once something was written down. Forgets what was so."""
        with self._turn:
            if self._watching is None:
                path = str(settings.DATABASES["default"]["NAME"])
                self._watching = sqlite3.connect(path, timeout=20, check_same_thread=False)
            state = self._watching.execute("PRAGMA data_version").fetchone()
            if state != self._state:
                self._answers.clear()
                self._state = state
            return state

    def get(self, key: tuple[object, ...]) -> HttpResponse | None:
        with self._turn:
            known = self._answers.get(key)
            if known is None:
                return None
            self._answers.move_to_end(key)
            return HttpResponse(known[0], headers=known[1])

    def put(self, key: tuple[object, ...], response: HttpResponse) -> None:
        with self._turn:
            self._answers[key] = (response.content, dict(response.headers))
            if len(self._answers) > MOST:
                self._answers.popitem(last=False)


_answers = _Answers()


def kept(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware, behind those that settle who asks."""

    def handle(request: HttpRequest) -> HttpResponse:
        if request.method != "GET" or not request.path.startswith(_ABOUT):
            return get_response(request)
        if connection.in_atomic_block:
            # What was written within it is to be seen, and nobody else has it yet.
            return get_response(request)
        state = _answers.state()
        user = request.user
        key = (
            user.is_authenticated, user.is_staff, request.get_full_path(),
            request.headers.get("Accept-Encoding"), request.headers.get("If-None-Match"),
        )  # fmt: skip
        known = _answers.get(key)
        if known is not None:
            return known
        response = get_response(request)
        plain = not response.streaming and not response.cookies and len(response.content) <= LARGEST
        # What was written meanwhile may be in it or not.
        if response.status_code == 200 and plain and _answers.state() == state:
            _answers.put(key, response)
        return response

    return handle
