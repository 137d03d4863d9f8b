"""Answers about surveys are kept as long as nothing in the records changes: what a survey says
never does, and whatever is read, loaded or accepted is written down.

Source: sqlite3, "PRAGMA data_version" (what others wrote), `total_changes` (what this connection
wrote).
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable

from django.db import connection
from django.http import HttpRequest, HttpResponse

MOST = 400  # answers
LARGEST = 8 << 20  # bytes of one
_ABOUT = "/api/surveys/"


class _Seen(threading.local):
    """The state of the records as a thread's own connection saw it last."""

    stamp: tuple[int, int] = (-1, -1)


_seen = _Seen()
_turn = threading.Lock()
# The bodies, with the headers that the view gave: what others add belongs to one request, as a
# session's cookie does.
_answers: OrderedDict[tuple[object, ...], tuple[bytes, dict[str, str]]] = OrderedDict()


def _stamp() -> tuple[int, int]:
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA data_version")
        (version,) = cursor.fetchone()
    return int(version), int(connection.connection.total_changes)


def kept(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware, behind those that settle who asks."""

    def handle(request: HttpRequest) -> HttpResponse:
        if request.method != "GET" or not request.path.startswith(_ABOUT):
            return get_response(request)
        stamp = _stamp()
        if stamp != _seen.stamp:
            # Whoever looks for an answer has looked for changes before.
            with _turn:
                _answers.clear()
            _seen.stamp = stamp
        user = request.user
        key = (
            user.is_authenticated, user.is_staff, request.get_full_path(),
            request.headers.get("Accept-Encoding"), request.headers.get("If-None-Match"),
        )  # fmt: skip
        with _turn:
            known = _answers.get(key)
            if known is not None:
                _answers.move_to_end(key)
                return HttpResponse(known[0], headers=known[1])
        response = get_response(request)
        plain = not response.streaming and not response.cookies and len(response.content) <= LARGEST
        # What was written meanwhile may be in it or not.
        if response.status_code == 200 and plain and _stamp() == stamp:
            with _turn:
                _answers[key] = (response.content, dict(response.headers))
                if len(_answers) > MOST:
                    _answers.popitem(last=False)
        return response

    return handle
