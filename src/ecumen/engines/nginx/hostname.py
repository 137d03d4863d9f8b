"""The Host header: what the server accepts, and the name that it takes from it.

Source: nginx, "How nginx processes a request"; measured.
"""

from __future__ import annotations


def read_host(header: str) -> str | None:
    """The name in lower case, without port and one dot at its end; None where it is refused."""
    value = header.strip(" \t")
    end = len(value)
    dot = -2
    state = ""
    for at, char in enumerate(value):
        if char == ".":
            if dot == at - 1:
                return None
            dot = at
        elif char == ":":
            if state == "":
                end = at
                state = "port"
        elif char == "[":
            if at == 0:
                state = "literal"
        elif char == "]":
            if state == "literal":
                end = at + 1
                state = "port"
        elif char == "/" or char <= " " or char == "\x7f":
            return None
    if dot == end - 1:
        end -= 1
    return value[:end].lower() if end > 0 else None
