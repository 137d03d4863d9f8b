"""What nginx's own check of its configuration says. Source: its messages; measured."""

from __future__ import annotations

import re

from ecumen.engines.tree import Place

_FAULT = re.compile(r"\[emerg\](?: \d+#\d+:)? (.*)")
_PLACE = re.compile(r" in (/.*):(\d+)\Z")


def first_fault(output: str, config: str) -> tuple[Place, str]:
    """Where it stops, and why."""
    for line in output.splitlines():
        match = _FAULT.search(line)
        if match is None:
            continue
        at = _PLACE.search(match[1])
        if at is None:
            return Place(config, 1), match[1]
        return Place(at[1], int(at[2])), match[1][: at.start()]
    return Place(config, 1), "the check fails"
