"""Asks the agent."""

from __future__ import annotations

import json
import os
import socket
from typing import Any, Protocol

from ecumen_agent.protocol import LONGEST_LINE, SOCKET, AgentError, line


class Progress(Protocol):
    """doing: what, in words. done, total: of steps."""

    def __call__(self, doing: str, done: int, total: int) -> None: ...


def socket_path() -> str:
    """Where the agent listens, unless the environment says otherwise."""
    return os.environ.get("ECUMEN_AGENT", SOCKET)


def call(
    method: str,
    params: dict[str, Any],
    progress: Progress = lambda doing, done, total: None,
    path: str | None = None,
) -> Any:
    """One answer. Raises AgentError."""
    where = path or socket_path()
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as connection:
            connection.connect(where)
            with connection.makefile("rb") as stream:
                connection.sendall(line({"id": 1, "method": method, "params": params}))
                while text := stream.readline(LONGEST_LINE + 1):
                    data = json.loads(text)
                    if data.get("method") == "progress":
                        progress(**data["params"])
                    elif "error" in data:
                        raise AgentError(str(data["error"]["message"]))
                    else:
                        return data["result"]
    except (FileNotFoundError, ConnectionRefusedError) as error:
        words = f"no agent listens at {where}: start it as root with `ecumen agent`"
        raise AgentError(words) from error
    except PermissionError as error:
        raise AgentError(f"{where}: this account may not ask the agent") from error
    except OSError as error:
        raise AgentError(f"{where}: {error.strerror or error}") from error
    raise AgentError("the agent ended before it answered; its next start ends what was begun")
