"""The edge where codes and facts become sentences."""

from __future__ import annotations

import logging

from ecumen.codes import Code, Facts

_log = logging.getLogger(__name__)


class _Facts(dict[str, object]):
    """The facts of a sentence. One that is missing is a fault of ours, and told plainly."""

    def __missing__(self, key: str) -> object:
        _log.error("a sentence lacks its fact %s", key)
        return _Unknown(f"(not known: {key})")


class _Unknown(str):
    """Whatever it was to be: a mode, a moment, a type."""

    def __format__(self, spec: str) -> str:
        return str(self)


def say(code: Code, facts: Facts) -> str:
    """The reason behind a code, in words."""
    return code.reason.format_map(_Facts(facts))


def mend(code: Code, facts: Facts) -> str:
    """What would mend it; "" where nothing would."""
    return code.mend.format_map(_Facts(facts))
