"""The engines' own library of regular expressions, called with the engines' own options.

Source: pcre2api(3), pcre2limits(3); which options and limits the servers use: measured by listening
to their calls. The library counts its limit anew for each place at which a match may begin, so a
limit alone is no bound: it is set by the length of the text here, and what goes over it is left to
another process, which is ended when its time is up (`patterns.apart`).
"""

from __future__ import annotations

import ctypes as c
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from functools import cache
from typing import Any, NamedTuple

# pcre2.h
CASELESS, DOLLAR_ENDONLY, DOTALL, DUPNAMES = 0x8, 0x10, 0x20, 0x40
_ANCHORED = 0x80000000
_NO_MATCH, _JIT_STACK, _LIMITS = -1, -46, (-47, -53, -63)
_UTF_FIRST, _UTF_LAST = -3, -28
_ALL_OPTIONS, _NAME_COUNT, _NAME_SIZE, _NAME_TABLE = 0, 17, 18, 19
_UNSET = c.c_size_t(-1).value

STEPS = 50_000  # of matching, shared out to all places at which a match may begin
LONGEST = 2048  # bytes of text that are looked through from each place in this process
LONGEST_ANCHORED = 64 << 10  # bytes of one that are looked through from its beginning alone
HEAP = 8192  # KiB
ENGINES_STEPS, ENGINES_HEAP = 10_000_000, 20_000_000  # the library's own, which the engines keep
LONGEST_PATTERN = 64_000  # bytes

_Pointer, _Size, _Number = c.c_void_p, c.c_size_t, c.c_uint32


class MatchKind(Enum):
    """What came of matching. LIMIT: the engine itself gives up; NO_UTF8: it refuses the text, of
    which a pattern wants to be UTF-8; UNKNOWN: not worked out.
    """

    MATCH = "match"
    NONE = "none"
    LIMIT = "limit"
    NO_UTF8 = "no UTF-8"
    UNKNOWN = "unknown"


class MatchOutcome(NamedTuple):
    """spans: of the whole match and of each group, in bytes; None for a group not taken."""

    kind: MatchKind
    spans: tuple[tuple[int, int] | None, ...] = ()


NONE, LIMIT, NO_UTF8, UNKNOWN = (
    MatchOutcome(kind)
    for kind in (MatchKind.NONE, MatchKind.LIMIT, MatchKind.NO_UTF8, MatchKind.UNKNOWN)
)


def _library() -> c.CDLL | None:
    for name in ("libpcre2-8.so.0", "libpcre2-8.so"):
        try:
            # Calls are bounded and short: others would wait longer for their turn than for these.
            return c.PyDLL(name)
        except OSError:
            continue
    return None


_lib = _library()


def _declared(name: str, result: object, *arguments: object) -> Callable[..., int]:
    if _lib is None:
        return lambda *_: 0
    function = getattr(_lib, f"{name}_8")
    function.restype = result
    if arguments:
        function.argtypes = arguments
    return function  # type: ignore[no-any-return]


_compile = _declared(
    "pcre2_compile", _Pointer, c.c_char_p, _Size, _Number, c.POINTER(c.c_int), c.POINTER(_Size),
    _Pointer,
)  # fmt: skip
_free = _declared("pcre2_code_free", None, _Pointer)
_info = _declared("pcre2_pattern_info", c.c_int, _Pointer, _Number, _Pointer)
_jit = _declared("pcre2_jit_compile", c.c_int, _Pointer, _Number)
# What it takes is not declared, as looking each argument over takes longer than a match.
_match = _declared("pcre2_match", c.c_int)
_data_for = _declared("pcre2_match_data_create_from_pattern", _Pointer, _Pointer, _Pointer)
_data_free = _declared("pcre2_match_data_free", None, _Pointer)
_spans_of = _declared("pcre2_get_ovector_pointer", c.POINTER(_Size), _Pointer)
_count_of = _declared("pcre2_get_ovector_count", _Number, _Pointer)
_context = _declared("pcre2_match_context_create", _Pointer, _Pointer)
_set_steps = _declared("pcre2_set_match_limit", c.c_int, _Pointer, _Number)
_set_depth = _declared("pcre2_set_depth_limit", c.c_int, _Pointer, _Number)
_set_heap = _declared("pcre2_set_heap_limit", c.c_int, _Pointer, _Number)


def is_there() -> bool:
    """Whether the library can be used."""
    return _lib is not None


def _limited(steps: int, heap: int) -> int:
    context = _context(None)
    _set_steps(context, steps)
    _set_depth(context, steps)
    _set_heap(context, heap)
    return context


@cache
def _limits(places: int) -> c.c_void_p:
    """A context of limits for a text with so many places at which a match may begin."""
    return _Pointer(_limited(STEPS // places, HEAP))


# Arguments as C takes them, made once: making them takes as long as a short match.
@cache
def _size(length: int) -> c.c_size_t:
    return _Size(length)


_NOTHING, _NO_OPTIONS = _Size(0), _Number(0)
_Block = tuple[c.c_void_p, Any, int]


@dataclass(eq=False)
class CompiledPattern:
    """A compiled pattern. names: of groups, by number; of several of one name all are there."""

    source: bytes
    options: int
    handle: c.c_void_p
    anchored: bool
    names: dict[str, tuple[int, ...]] = field(default_factory=dict)
    # Blocks for results that nobody uses at the moment.
    _kept: list[_Block] = field(default_factory=list)

    def __del__(
        self, free: Callable[..., int] = _free, data_free: Callable[..., int] = _data_free
    ) -> None:
        for data, *_ in self._kept:
            data_free(data)
        free(self.handle)

    def match(self, text: bytes) -> MatchOutcome:
        """Within the bounds of this process; UNKNOWN beyond."""
        length = len(text)
        if length > LONGEST:
            if not self.anchored or length > LONGEST_ANCHORED:
                return UNKNOWN
            size = _Size(length)
        else:
            size = _size(length)
        outcome = self.matched(text, size, _limits(1 if self.anchored else length + 1))
        return UNKNOWN if outcome is LIMIT else outcome

    def matched(
        self, text: bytes, size: c.c_size_t, limits: c.c_void_p, options: c.c_uint32 = _NO_OPTIONS
    ) -> MatchOutcome:
        """With these limits, and for as long as it takes."""
        kept = self._kept
        block = kept.pop() if kept else self._block()
        code = _match(self.handle, text, size, _NOTHING, options, block[0], limits)
        if code == _NO_MATCH:
            outcome = NONE
        elif code >= 0:
            ends = block[1][: 2 * block[2]]
            spans = zip(ends[::2], ends[1::2], strict=True)
            outcome = MatchOutcome(
                MatchKind.MATCH, tuple(None if s[0] == _UNSET else s for s in spans)
            )
        else:
            # It would hold on to the memory that matching took.
            _data_free(block[0])
            if code in _LIMITS:
                return LIMIT
            return NO_UTF8 if _UTF_LAST <= code <= _UTF_FIRST else UNKNOWN
        kept.append(block)
        return outcome

    def _block(self) -> _Block:
        data = _Pointer(_data_for(self.handle, None))
        return data, _spans_of(data), _count_of(data)


_NO_JIT = _Number(0x2000)


def compiled(source: bytes, options: int) -> CompiledPattern | None:
    """None for what the library refuses, and where it is missing."""
    if _lib is None or len(source) > LONGEST_PATTERN:
        return None
    error, at = c.c_int(), _Size()
    handle = _compile(source, len(source), options, c.byref(error), c.byref(at), None)
    if not handle:
        return None
    found = _Number()
    _info(handle, _ALL_OPTIONS, c.byref(found))
    return CompiledPattern(
        source, options, _Pointer(handle), bool(found.value & _ANCHORED), _names(handle)
    )


def _names(handle: int) -> dict[str, tuple[int, ...]]:
    count, size, table = _Number(), _Number(), c.c_void_p()
    _info(handle, _NAME_COUNT, c.byref(count))
    if not count.value:
        return {}
    _info(handle, _NAME_SIZE, c.byref(size))
    _info(handle, _NAME_TABLE, c.byref(table))
    raw = c.string_at(table.value or 0, count.value * size.value)
    found: dict[str, tuple[int, ...]] = {}
    for at in range(0, len(raw), size.value):
        number = int.from_bytes(raw[at : at + 2], "big")
        name = raw[at + 2 : at + size.value].partition(b"\0")[0].decode("utf-8", "surrogateescape")
        found[name] = (*found.get(name, ()), number)
    return found


def as_the_engines_do(source: bytes, options: int, text: bytes) -> MatchOutcome:
    """With the limits that the engines have, which takes long: for a process that can be ended.

    Code that the library makes for the processor counts fewer steps: where that gives up already,
    so does the engine, and one knows it sooner.
    """
    code = compiled(source, options)
    if code is None:
        return UNKNOWN
    limits = _Pointer(_limited(ENGINES_STEPS, ENGINES_HEAP))
    size = _Size(len(text))
    if _jit(code.handle, 1) == 0 and code.matched(text, size, limits) is LIMIT:
        return LIMIT
    return code.matched(text, size, limits, _NO_JIT)
