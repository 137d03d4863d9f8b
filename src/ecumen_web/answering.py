"""Answers about surveys are worked out in processes of their own, which are ended where one takes
longer than the deadline or more than its share of memory: that costs this answer, and no other.

The process that serves settles who asks, and knows no survey. What it passes on is a request's
header and body, as JSON and bytes; what comes back are bytes.
"""

from __future__ import annotations

import io
import json
import logging
import os
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse
from rest_framework.exceptions import APIException

from ecumen.errors import EcumenError
from ecumen_web.apart import ready, started

# One at first, and as many as there are processors where more is asked at once. Where all have been
# busy with one answer for so long, another one is started, up to the most: whoever only has much to
# do is not helped by one that must read the survey first.
PATIENCE = 15.0  # seconds
USUAL = max(2, min(4, os.cpu_count() or 2))
MOST = USUAL + 4
STARTS_WITHIN = 60.0  # seconds
LARGEST_ANSWER = 256 << 20  # bytes
_ABOUT = "/api/surveys/"
_ASKS = ("GET", "HEAD")
# Sends a request and follows it; it changes nothing.
_ASKS_THE_SERVER = "/reply"
log = logging.getLogger("ecumen.answering")


class _GoneError(Exception):
    """The process ended, or did not answer in time."""


class _Answerer:
    """One process, asked by one thread at a time."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        with theirs:
            self._process: subprocess.Popen[bytes] = started("ecumen_web.answering", link=theirs)
        self._link = Connection(ours.detach())
        self._is_ready = False

    def ask(self, question: dict[str, Any], body: bytes, seconds: float) -> HttpResponse:
        """Raises _GoneError."""
        try:
            if not self._is_ready:
                if not self._link.poll(STARTS_WITHIN):
                    raise _GoneError("what works it out does not start")
                self._link.recv_bytes(16)
                self._is_ready = True
            self._link.send_bytes(json.dumps(question).encode())
            self._link.send_bytes(body)
            if not self._link.poll(seconds):
                raise _GoneError(f"this takes longer than {seconds:.0f} s")
            head = json.loads(self._link.recv_bytes(1 << 20))
            content = self._link.recv_bytes(LARGEST_ANSWER)
        except (EOFError, OSError) as error:
            raise _GoneError("this takes more than its share of memory or time") from error
        return HttpResponse(content, status=head["status"], headers=head["headers"])

    def is_there(self) -> bool:
        return self._process.poll() is None

    def end(self) -> None:
        self._link.close()
        self._process.kill()
        self._process.wait()


class Pool:
    """The processes that answer. Who was busy last is asked first: it knows the survey."""

    def __init__(self) -> None:
        self._deadline = float(settings.ANSWER_WITHIN)
        self._turn = threading.Condition()
        self._free = [_Answerer()]
        self._began: dict[_Answerer, float] = {}
        self._count = 1
        self._ended = False

    def answer(self, request: HttpRequest) -> HttpResponse:
        body = request.body
        answerer = self._taken()
        if answerer is None:
            return _given_up("everything that answers is busy: ask again in a minute")
        try:
            response = answerer.ask(_question(request), body, self._deadline)
        except _GoneError as why:
            log.error("given up: %s: %s", ascii(request.path), why)
            self._let_go(answerer)
            return _given_up(str(why))
        except BaseException:
            self._let_go(answerer)
            raise
        self._give_back(answerer)
        return response

    def know(self) -> None:
        """Has the survey that is asked about by most read beforehand, by one after the other of
        those that have nothing to do: a busy one reads it anyway.
        """
        for _ in range(self._count):
            with self._turn:
                answerer = self._free.pop() if self._free else None
                if answerer is None:
                    return
                self._began[answerer] = time.monotonic()
            try:
                answerer.ask({}, b"", self._deadline)
            except _GoneError:
                self._let_go(answerer)
            else:
                self._give_back(answerer, last=True)

    def _taken(self) -> _Answerer | None:
        """One that has nothing to do, or a new one; None where none was to be had in time."""
        until = time.monotonic() + self._deadline
        with self._turn:
            while not self._may_start():
                if self._free:
                    answerer = self._free.pop()
                    if answerer.is_there():
                        self._began[answerer] = time.monotonic()
                        return answerer
                    # It ended while it had nothing to do.
                    self._count -= 1
                    answerer.end()
                elif time.monotonic() > until:
                    return None
                else:
                    self._turn.wait(1.0)
            self._count += 1
        try:
            answerer = _Answerer()
        except BaseException:
            with self._turn:
                self._count -= 1
            raise
        with self._turn:
            self._began[answerer] = time.monotonic()
        return answerer

    def _may_start(self) -> bool:
        """Whether whoever asks is to start another one."""
        if self._free or self._count >= MOST:
            return False
        now = time.monotonic()
        stuck = len(self._began) == self._count and all(
            now - began > PATIENCE for began in self._began.values()
        )
        return self._count < USUAL or stuck

    def _let_go(self, answerer: _Answerer) -> None:
        """Of one that is of no use any more: whoever asks next starts another one."""
        answerer.end()
        with self._turn:
            self._began.pop(answerer)
            self._count -= 1
            self._turn.notify()

    def _give_back(self, answerer: _Answerer, *, last: bool = False) -> None:
        """last: the others are taken before it."""
        with self._turn:
            self._began.pop(answerer)
            if not self._ended and (self._count <= USUAL or not self._free):
                self._free.insert(0 if last else len(self._free), answerer)
                self._turn.notify()
                return
            self._count -= 1
        answerer.end()

    def close(self) -> None:
        with self._turn:
            self._ended = True
            free, self._free = self._free, []
        for answerer in free:
            answerer.end()


def _given_up(why: str) -> HttpResponse:
    return JsonResponse({"detail": f"Given up: {why}."}, status=503)


def _question(request: HttpRequest) -> dict[str, Any]:
    user = request.user
    said = {name: value for name, value in request.META.items() if isinstance(value, str)}
    return {
        "said": said,
        "user": {"pk": user.pk, "username": user.get_username(), "is_staff": user.is_staff},
    }


# The ones of this process: none where it works out answers itself, as in tests of the views.
_pools: list[Pool] = []


def start() -> Pool:
    """Has answers worked out apart from now on."""
    pool = Pool()
    _pools.append(pool)
    return pool


def know() -> None:
    """A survey is new, or the server is: what is asked first need not wait for it to be read."""
    if _pools:
        _pools[0].know()


def stop() -> None:
    while _pools:
        _pools.pop().close()


def answered_apart(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware, the last one: whoever is not signed in costs no process anything."""

    def handle(request: HttpRequest) -> HttpResponse:
        asks = request.method in _ASKS or (
            request.method == "POST" and request.path.endswith(_ASKS_THE_SERVER)
        )
        about = asks and request.path.startswith(_ABOUT) and request.user.is_authenticated
        if not _pools or not about:
            return get_response(request)
        return _pools[0].answer(request)

    return handle


# --- the process ---


def _answers() -> Callable[[dict[str, Any], bytes], HttpResponse]:
    """What answers: the application behind everything that looks at who asks."""
    from django.contrib.auth.models import User
    from django.core.handlers.base import BaseHandler
    from django.core.handlers.wsgi import WSGIRequest

    from ecumen_web.api.bindings import lanes_of
    from ecumen_web.api.surveys import survey_of

    settings.MIDDLEWARE = []
    handler = BaseHandler()
    handler.load_middleware()

    def answer(question: dict[str, Any], body: bytes) -> HttpResponse:
        if not question:
            lanes_of(survey_of("latest").file)
            return HttpResponse()
        environ = question["said"] | {"wsgi.input": io.BytesIO(body), "wsgi.errors": io.StringIO()}
        request = WSGIRequest(environ)
        request.user = User(is_active=True, **question["user"])
        response = handler.get_response(request)
        assert isinstance(response, HttpResponse)
        return response

    return answer


def main() -> None:
    for number in (signal.SIGINT, signal.SIGTERM):
        # The server ends this process: what the terminal says is said to that.
        signal.signal(number, signal.SIG_IGN)
    # What this process starts is not to have its way to whoever asks.
    link = Connection(os.dup(0))
    nothing = os.open(os.devnull, os.O_RDONLY)
    os.dup2(nothing, 0)
    os.close(nothing)
    ready()
    answer = _answers()
    link.send_bytes(b"ready")
    while True:
        try:
            question = json.loads(link.recv_bytes())
            body = link.recv_bytes()
            try:
                response = answer(question, body)
            except (APIException, EcumenError) as error:
                # Of what nobody asked for: whoever asks is told.
                response = HttpResponse(str(error), status=404)
            head = {"status": response.status_code, "headers": dict(response.headers)}
            link.send_bytes(json.dumps(head).encode())
            link.send_bytes(response.content)
        except (EOFError, OSError):
            return


if __name__ == "__main__":
    main()
