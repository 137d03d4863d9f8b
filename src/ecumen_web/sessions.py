"""Sessions end when nobody uses them; a password that others know is good for one thing only."""

from __future__ import annotations

import time
from collections.abc import Callable

from django.conf import settings
from django.contrib.auth import logout
from django.core.cache import cache
from django.http import HttpRequest, HttpResponse, JsonResponse

from ecumen_web.store.people import must_change

_SEEN, _KNOWN = "seen", "own password"
# Kept in memory, and written down only so often that a server that starts anew knows it, too:
# whatever is written has all answers worked out anew.
_NOTED_EVERY = 2  # of the time after which a session ends, the part
_ALLOWED = ("/api/session", "/api/session/password")
# A screen that nobody looks at asks this by itself, every few seconds.
_NOBODYS = ("/api/jobs",)


def sessions(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware, behind that of authentication."""

    def handle(request: HttpRequest) -> HttpResponse:
        if not request.path.startswith("/api/") or not request.user.is_authenticated:
            return get_response(request)
        now = int(time.time())
        noted = int(request.session.get(_SEEN, 0))
        key = f"{_SEEN}-{request.session.session_key}"
        if now - cache.get(key, noted or now) > settings.IDLE:
            logout(request)
            return get_response(request)
        if request.path not in _NOBODYS:
            cache.set(key, now, settings.SESSION_COOKIE_AGE)
            if now - noted > settings.IDLE // _NOTED_EVERY:
                request.session[_SEEN] = now
        if request.path not in _ALLOWED and not request.session.get(_KNOWN):
            if must_change(request.user):
                text = "Choose a password of your own first."
                return JsonResponse({"detail": text}, status=403)
            request.session[_KNOWN] = True
        return get_response(request)

    return handle
