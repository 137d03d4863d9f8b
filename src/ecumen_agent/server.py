"""Listens on the socket: who may ask, and what can be asked.

The kernel says who is at the other end, as of when that one connected; nothing in a message does.
Source: unix(7) (SO_PEERCRED), sd_listen_fds(3).
"""

from __future__ import annotations

import json
import logging
import os
import socket
import struct
import threading
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from ecumen.errors import EcumenError, PlanError
from ecumen.operations import read_plan
from ecumen_agent.applier import Applier, Outcome, RefusedError
from ecumen_agent.ledger import Record
from ecumen_agent.protocol import INTERNAL, LONGEST_LINE, METHOD, PARAMS, PARSE, REFUSED, REQUEST
from ecumen_agent.protocol import line as message
from ecumen_agent.taking import take

MOST_ENTRIES = 1000
MOST_CALLERS = 16
MOST_PAGES, LONGEST_PAGE = 100, 8000
AGAIN = 60  # seconds until what could not be taken back is tried again
LONGEST_WAIT = 24 * 3600  # seconds in which something may be kept
PATIENCE = 5  # seconds
_log = logging.getLogger(__name__)
Tell = Callable[[str, int, int], None]


class _WrongError(Exception):
    """A request that is answered with an error: its code, and words."""


@dataclass(frozen=True, slots=True)
class Caller:
    """Who is at the other end. uid: of when it connected."""

    uid: int
    name: str


class Server:
    """uids: whose requests are answered. surveys: the folder for those that are taken, which a
    group may read.
    """

    def __init__(
        self, applier: Applier, uids: frozenset[int], surveys: str = "", group: int = 0
    ) -> None:
        self._applier, self._uids, self._surveys, self._group = applier, uids, surveys, group
        self._taking = threading.Lock()
        self._room = threading.Semaphore(MOST_CALLERS)
        # One connection to the ledger for all; changes are made by one at a time anyhow.
        self._turn = threading.Lock()
        self._begun, self._given_up = threading.Event(), threading.Event()

    def serve(self, listening: socket.socket) -> None:
        """Answers for ever."""
        threading.Thread(target=self._watch, daemon=True).start()
        while True:
            connection, _ = listening.accept()
            if not self._room.acquire(blocking=False):
                connection.close()
                continue
            threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _watch(self) -> None:
        """Has taken back what nobody keeps in time."""
        while True:
            self._begun.clear()
            ledger = self._applier.ledger
            try:
                with self._turn:
                    outcomes = self._applier.lapse()
                    stuck, waits = bool(ledger.on_their_way()), ledger.waiting() is not None
                for outcome in outcomes:
                    _log.warning("entry %s: %s", outcome.entry, outcome.said)
            # A ledger that cannot be read now may be again; nothing else watches.
            except Exception:
                _log.exception("what nobody kept was not taken back")
                stuck = waits = True
            # By the clock on the wall, which may be set meanwhile.
            self._begun.wait(AGAIN if stuck else 1 if waits else None)

    def _talk(self, connection: socket.socket) -> None:
        try:
            with connection, connection.makefile("rwb") as stream:
                caller = _caller(connection)
                if caller.uid not in self._uids:
                    # A question is heard out before it is refused, or the refusal would be lost.
                    connection.settimeout(PATIENCE)
                    stream.readline(1 << 16)
                    words = f"account {caller.uid} may not ask the agent"
                    stream.write(_failure(None, REFUSED, words))
                    return
                while text := stream.readline(LONGEST_LINE + 1):
                    self._answered(text, caller, stream)
                    stream.flush()
        except OSError:
            # Whoever asked is gone. What was begun was ended all the same.
            return
        finally:
            self._room.release()

    def _answered(self, text: bytes, caller: Caller, stream: Any) -> None:
        def tell(doing: str, done: int, total: int) -> None:
            params = {"doing": doing, "done": done, "total": total}
            try:
                stream.write(message({"method": "progress", "params": params}))
                stream.flush()
            except OSError:
                # Nobody listens any more: the work goes on, and the ledger tells of it.
                return

        number = None
        try:
            number, method, params = _request(text)
            result = self._call(method, params, caller, tell)
        except _WrongError as error:
            code, words = error.args
            stream.write(_failure(number, code, words))
        except EcumenError as error:
            stream.write(_failure(number, REFUSED, str(error)))
        except Exception:
            _log.exception("a request failed")
            stream.write(_failure(number, INTERNAL, "the agent failed; its log says how"))
        else:
            stream.write(message({"id": number, "result": result}))

    def _call(self, method: str, params: dict[str, Any], caller: Caller, tell: Tell) -> Any:
        match method:
            case "apply":
                plan, who = _text(params, "plan"), _who(params, caller)
                try:
                    read = read_plan(plan)
                except PlanError as error:
                    raise _WrongError(PARAMS, str(error)) from error
                within = _number(params, "within", 0)
                if within > LONGEST_WAIT:
                    raise _WrongError(PARAMS, f"within: at most {LONGEST_WAIT} seconds")
                pages = _pages(params)
                with self._turn:
                    self._given_up.clear()
                    outcome = self._applier.apply(
                        read, who, self._while_wanted(tell), within, pages
                    )
                self._begun.set()
                return _told(outcome)
            case "cancel":
                # Of what is being done, before its next step; undo takes back what is done.
                self._given_up.set()
                return {}
            case "keep":
                with self._turn:
                    return _told(self._applier.keep(_number(params, "entry")))
            case "undo":
                with self._turn:
                    return _told(self._applier.undo(_number(params, "entry")))
            case "ledger":
                most = min(_number(params, "most", 100), MOST_ENTRIES)
                with self._turn:
                    return [entry_row(each) for each in self._applier.ledger.latest(most)]
            case "survey":
                # Changes may be made meanwhile: it is as of when it was taken.
                with self._taking:
                    return {"path": take(self._surveys, self._group, tell)}
            case "bounds":
                return asdict(self._applier.bounds)
        raise _WrongError(METHOD, f"the agent knows no {method!r}")

    def _while_wanted(self, tell: Tell) -> Tell:
        """As told, until somebody gives it up: then what was begun is taken back."""

        def step(doing: str, done: int, total: int) -> None:
            if self._given_up.is_set():
                raise RefusedError("it was cancelled")
            tell(doing, done, total)

        return step


def _caller(connection: socket.socket) -> Caller:
    packed = connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12)
    _, uid, _ = struct.unpack("=iII", packed)
    return Caller(uid, f"account {uid}")


def _who(params: dict[str, Any], caller: Caller) -> str:
    """Whoever is signed in at the caller's, as that one says, and who that one is."""
    named = params.get("who", "")
    if not isinstance(named, str) or len(named) > 200:
        raise _WrongError(PARAMS, "who: a short text")
    return f"{named} ({caller.name})" if named else caller.name


def _request(text: bytes) -> tuple[Any, str, dict[str, Any]]:
    if len(text) > LONGEST_LINE:
        raise _WrongError(REQUEST, f"a request of more than {LONGEST_LINE} bytes")
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise _WrongError(PARSE, f"no JSON: {error}") from error
    if not isinstance(data, dict) or data.get("jsonrpc") != "2.0":
        raise _WrongError(REQUEST, "no request of JSON-RPC 2.0")
    method, params = data.get("method"), data.get("params", {})
    if not isinstance(method, str) or not isinstance(params, dict):
        raise _WrongError(REQUEST, "no request of JSON-RPC 2.0 with its parameters by name")
    number = data.get("id")
    return number if isinstance(number, int | str) else None, method, params


def _text(params: dict[str, Any], name: str) -> str:
    value = params.get(name)
    if not isinstance(value, str):
        raise _WrongError(PARAMS, f"{name}: a text")
    return value


def _number(params: dict[str, Any], name: str, default: int | None = None) -> int:
    value = params.get(name, default)
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value < 1 << 53:
        raise _WrongError(PARAMS, f"{name}: a number")
    return value


def _pages(params: dict[str, Any]) -> list[tuple[str, str]]:
    """Pages that must be served where a plan is tried out, each with the address to ask at."""
    given = params.get("pages", [])
    plain = isinstance(given, list) and len(given) <= MOST_PAGES
    if not plain or not all(_is_page(each) for each in given):
        raise _WrongError(PARAMS, f"pages: at most {MOST_PAGES} pairs of a page and an address")
    return [(page, address) for page, address in given]


def _is_page(pair: object) -> bool:
    if not isinstance(pair, list) or len(pair) != 2:
        return False
    return all(isinstance(each, str) and len(each) <= LONGEST_PAGE for each in pair)


def _failure(number: Any, code: int, words: str) -> bytes:
    return message({"id": number, "error": {"code": code, "message": words}})


def _told(outcome: Outcome) -> dict[str, Any]:
    return asdict(outcome)


def entry_row(record: Record) -> dict[str, Any]:
    """An entry of the ledger as it is told."""
    return {
        "id": record.id,
        "at": record.at,
        "who": record.who,
        "title": record.plan.title,
        "state": record.state,
        "said": record.said,
        "steps": [each.describe() for each in record.plan.operations],
        "why": record.plan.why,
        "until": record.until,
    }


def listening(path: str, group: int) -> socket.socket:
    """The socket that the system hands over, or a new one that a group may connect to."""
    given = _handed_over()
    if given is not None:
        return given
    if os.path.lexists(path):
        # Of an agent that was killed; one that lives holds the lock of its ledger's folder.
        os.unlink(path)
    found = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    before = os.umask(0o177)
    try:
        found.bind(path)
    finally:
        os.umask(before)
    os.chown(path, 0, group)
    os.chmod(path, 0o660)
    found.listen(MOST_CALLERS)
    return found


def _handed_over() -> socket.socket | None:
    if os.environ.get("LISTEN_PID") != str(os.getpid()):
        return None
    for name in ("LISTEN_PID", "LISTEN_FDNAMES"):
        os.environ.pop(name, None)
    if os.environ.pop("LISTEN_FDS", "") != "1":
        raise EcumenError("exactly one socket is to be handed over")
    os.set_inheritable(3, False)
    return socket.socket(fileno=3)
