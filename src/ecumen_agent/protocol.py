"""JSON-RPC 2.0 on a Unix socket, a line for each message: what both sides know of it.

Source: JSON-RPC 2.0 specification (2013). Answers come in the order of the requests; before an
answer, notifications `progress` may tell how far it is.
"""

from __future__ import annotations

import json
from typing import Any

from ecumen.errors import EcumenError

LONGEST_LINE = 64 << 20  # bytes: a plan that changes a hundred thousand files
SOCKET = "/run/ecumen/agent.sock"

# Codes of errors: those of the specification, and ours.
PARSE, REQUEST, METHOD, PARAMS, INTERNAL = -32700, -32600, -32601, -32602, -32603
REFUSED = 1


class AgentError(EcumenError):
    """What the agent answers in place of a result, or why it does not answer."""


def line(message: dict[str, Any]) -> bytes:
    """A message as it is sent; names that are no UTF-8 are escaped (RFC 8259, section 7)."""
    return json.dumps({"jsonrpc": "2.0", **message}).encode("ascii") + b"\n"
