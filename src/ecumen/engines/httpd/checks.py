"""What httpd's own check of its configuration says. Source: its messages; measured."""

from __future__ import annotations

import re

from ecumen.engines.tree import Place

_PLACE = re.compile(r"Syntax error on line (\d+) of ([^\n]+?):(?=\s)")
_CODE = re.compile(r"\A(?:\(\d+\)|AH\d{5}: )|(?<=: )AH\d{5}: ")
_NOISE = ("Action ", "The Apache error log", "Syntax OK", "[")
# What it ends with, whatever was said before.
_END = "Configuration check failed"


def first_fault(output: str, config: str) -> tuple[Place, str]:
    """Where it stops, and why. Places are nested: the innermost comes last, and its message behind
    it.
    """
    place, message = Place(config, 1), ""
    lines = output.splitlines()
    for number, line in enumerate(lines):
        match = None
        for match in _PLACE.finditer(f"{line}\n"):
            place = Place(match[2], int(match[1]))
        if match is not None:
            message = line[match.end() :].strip() or "".join(lines[number + 1 : number + 2])
            return place, message.strip()
    said = [line for line in lines if "Warning" not in line and not line.startswith(_NOISE)]
    said = [line for line in said if not line.endswith(_END)] or said
    return place, _CODE.sub("", said[-1]).strip() if said else "the check fails"
