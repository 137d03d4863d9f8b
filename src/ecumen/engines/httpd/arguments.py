"""How many arguments a line has, as the server counts them before its modules see any.

Source: httpd 2.4, server/config.c (invoke_cmd, ap_getword_conf). Which directive takes how many is
the last column of `directives.tsv`, as the server tells it.
"""

from __future__ import annotations

from ecumen.engines.httpd.lexer import words

_NUMBERS = ("no", "one", "two", "three")


def fault(name: str, text: str, takes: str) -> str:
    """What the server says of a line with too few or too many; "" where it takes them.

    takes: as in the table. An argument that must be there must not be empty, in quotes either.
    """
    if takes == "-":
        return ""
    given = words(text)
    if takes == "flag":
        # Whatever stands behind it is not looked at.
        right = bool(given) and given[0].lower() in ("on", "off")
        return "" if right else f"{name} must be On or Off"
    least, _, most = takes.partition("-")
    there = len(given) >= int(least) and all(given[: int(least) if most else 1])
    if there and (not most or len(given) <= int(most)):
        return ""
    if not most:
        plural = "" if least == "1" else "s"
        return f"{name} requires at least {_NUMBERS[int(least)]} argument{plural}"
    count = _NUMBERS[int(least)] if least == most else f"{least} to {most}"
    return f"{name} takes {count} argument{'' if most == '1' else 's'}"
