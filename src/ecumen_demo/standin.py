"""The stand-in server: answers requests as the core says that the surveyed one would."""

from __future__ import annotations

import re
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import TracebackType

from ecumen.audit.scene import Scene
from ecumen.errors import RequestError
from ecumen.passage import Follower, Passage, Request, read_request
from ecumen.survey import Survey, read_survey
from ecumen_demo.lines import DemoLine, written
from ecumen_demo.visitors import answered

OUTSIDE = "198.51.100.7"  # a visitor whose address is not told


class StandIn:
    """Listens on loopback while it is open. Requests name their site in the Host header."""

    def __init__(
        self, survey: Survey, port: int, logs: Path | None = None, state: Path | None = None
    ) -> None:
        """logs: the folder below which the access lines go, at the logs' own paths. state: a survey
        file that is written when the server is changed, and answered by from then on.
        """
        self._state, self._as_of = state, _changed_at(state)
        self.take(survey)
        self.logs = logs
        self._started = time.time()
        self._writing = threading.Lock()
        self.target = survey.outside_address
        handler = type("Handler", (_Handler,), {"stand_in": self})
        self.server = ThreadingHTTPServer(("127.0.0.1", port), handler)
        self.server.daemon_threads = True

    def _look(self) -> None:
        """Whether the server was changed meanwhile."""
        now = _changed_at(self._state)
        if self._state is not None and now != self._as_of:
            self._as_of = now
            with self._state.open("rb") as stream:
                self.take(read_survey(stream))

    def take(self, survey: Survey) -> None:
        """Answers as this survey says from now on."""
        self.scene = Scene(Follower(survey))
        self.follower = self.scene.follower

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.server.server_address[1]}/"

    def __enter__(self) -> StandIn:
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.server.shutdown()
        self.server.server_close()

    def ask(self, method: str, path: str, host: str | None, source: str | None = None) -> Passage:
        """The passage of a request from outside. path: with a whole address in its place the
        request comes to that one's port, else to port 80 (RFC 9112, section 3.2.2).
        """
        self._look()
        url = path if _is_whole(path) else f"http://{self.target}{path}"
        request = read_request(url, method=method, to=self.target, host=host or "", source=source)
        self._log(request)
        return self.follower.follow(request)

    def _log(self, request: Request) -> None:
        """The line that the server would write. The demo's clock goes on from the survey."""
        found = answered(self.scene, request) if self.logs is not None else None
        if found is None or self.logs is None:
            return
        at = self.scene.survey.taken_at + int(time.time() - self._started)
        headers = {name.lower(): value for name, value in request.headers.items()}
        line = DemoLine(
            at, request.source or OUTSIDE, request.method, request.path, found.status, found.size,
            headers.get("referer", "-"), headers.get("user-agent", "-"), found.site,
            request.host_header or "-",
        )  # fmt: skip
        path = self.logs / found.log.lstrip("/")
        with self._writing:
            path.parent.mkdir(parents=True, exist_ok=True)
            with path.open("a") as log:
                log.write(written(found.template, line))


_FOR = re.compile(r'for="?\[?([0-9A-Fa-f.:]+)')


def _is_whole(path: str) -> bool:
    return path.lower().startswith(("http://", "https://"))


def _changed_at(path: Path | None) -> int:
    return path.stat().st_mtime_ns if path is not None and path.exists() else 0


class _Handler(BaseHTTPRequestHandler):
    stand_in: StandIn
    protocol_version = "HTTP/1.1"
    server_version = "stand-in"
    sys_version = ""

    def _answer(self) -> None:
        try:
            source = _FOR.match(self.headers.get("Forwarded") or "")
            host = self.headers.get("Host")
            visitor = source[1] if source and _is_whole(self.path) else None
            passage = self.stand_in.ask(self.command, self.path, host, visitor)
        except RequestError as error:
            self.send_error(400, str(error))
            return
        if passage.status is None and _is_whole(self.path):
            # As the server would: no answer at all.
            self.close_connection = True
            return
        status = passage.status if passage.status is not None else 502
        body = f"{status} {passage.summary}\n".encode("utf-8", "backslashreplace")
        self.send_response(status)
        if passage.location:
            self.send_header("Location", passage.location)
        # The words are ours. A browser is told so, and what the real server would send stands in a
        # header of its own; who asks with a whole address gets the real one.
        if _is_whole(self.path):
            if passage.content_type:
                self.send_header("Content-Type", passage.content_type)
        else:
            self.send_header("Content-Type", "text/plain; charset=utf-8")
            self.send_header("X-Predicted-Type", passage.content_type or "")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    do_GET = do_HEAD = do_POST = do_OPTIONS = _answer  # noqa: N815 - named by the standard library

    def log_message(self, format: str, *args: object) -> None:
        return
