"""Sessions end when nobody uses them; a password that others know is good for one thing only."""

from __future__ import annotations

import time
from collections.abc import Callable

from django.conf import settings
from django.contrib.auth import logout
from django.http import HttpRequest, HttpResponse, JsonResponse

from ecumen_web.store.people import must_change

_SEEN, _KNOWN = "seen", "own password"
# Not at each request: that would write to the database.
_NOTED_EVERY = 6  # of the time after which a session ends, the part
_ALLOWED = ("/api/session", "/api/session/password")


def sessions(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware, behind that of authentication."""

    def handle(request: HttpRequest) -> HttpResponse:
        if not request.path.startswith("/api/") or not request.user.is_authenticated:
            return get_response(request)
        now = int(time.time())
        seen = int(request.session.get(_SEEN, now))
        if now - seen > settings.IDLE:
            logout(request)
            return get_response(request)
        if now - seen > settings.IDLE // _NOTED_EVERY or _SEEN not in request.session:
            request.session[_SEEN] = now
        if request.path not in _ALLOWED and not request.session.get(_KNOWN):
            if must_change(request.user):
                text = "Choose a password of your own first."
                return JsonResponse({"detail": text}, status=403)
            request.session[_KNOWN] = True
        return get_response(request)

    return handle
