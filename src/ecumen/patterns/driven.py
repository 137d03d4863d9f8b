"""Texts that may drive a pattern over the limit of matching.

Where one text can be taken by a repeat in many ways, and what stands behind it does not follow, the
library tries them all. Such texts are made from the outline of a pattern (its groups, branches and
repeats); whether one does it, and what a single piece of it takes, is for the library to say.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import islice

from ecumen.patterns import pcre

_COUNTS = (40, 400)
_ENDS = ("!", "", "/!", "~")
MOST = 40  # texts for one pattern
LONGEST = 2000  # letters of a pattern that is looked at
LONGEST_SAMPLE = 1000
_DEEPEST = 20
_BRANCHES = 3
_FEW = 10  # a repeat of no more than so many is no way to drive a pattern
_TRIED = "ax0-_./ A%b"
_ENDLESS = 1 << 16


@dataclass(slots=True)
class PatternGroup:
    """Branches in brackets. looks: takes nothing, but looks at what stands around."""

    looks: bool = False
    branches: list[list[PatternPiece]] = field(default_factory=lambda: [[]])


@dataclass(slots=True)
class PatternPiece:
    """One piece with its repeat. what: a group, or the text of what takes one letter or none."""

    what: PatternGroup | str
    least: int = 1
    most: int = 1


# pcre2pattern(3): escapes, classes, the beginnings of groups, repeats; else a letter.
_TOKEN = re.compile(
    r"""(?P<quoted> \\Q.*?(?:\\E|$) )
    |(?P<one> \\x\{\w*\} | \\x\w{0,2} | \\[pP](?:\{\^?\w*\}|\w) | \\o\{\w*\} | \\c. | \\.
      | \[\^?\]?(?: \[:\^?\w+:\] | \\. | [^\]\\] )*\] )
    |(?P<note> \(\?\#[^)]*\) | \(\?[a-zA-Z^-]*\) | \(\*[A-Z0-9_=]+\) )
    |(?P<looks> \(\?(?:=|!|<=|<!) )
    |(?P<group> \((?:\?(?:[:>|]|P?<\w+>|'\w+'|[a-zA-Z^-]*:))? )
    |(?P<end> \) )
    |(?P<branch> \| )
    |(?P<repeat> (?:[*+?] | \{(?P<least>\d+)(?P<to>,(?P<most>\d*))?\}) [+?]? )
    |(?P<letter> . )""",
    re.VERBOSE | re.DOTALL,
)


def outline(pattern: str) -> PatternGroup | None:
    """The groups, branches and repeats of a pattern; None where it holds anything else."""
    if len(pattern) > LONGEST:
        return None
    open_groups = [PatternGroup()]
    for token in _TOKEN.finditer(pattern):
        text = token[0]
        here = open_groups[-1].branches
        match next(name for name in _KINDS if token[name] is not None):
            case "quoted":
                letters = text[2:].removesuffix("\\E")
                here[-1] += [PatternPiece(re.escape(letter)) for letter in letters]
            case "one" | "letter":
                here[-1].append(PatternPiece(text))
            case "looks" | "group" as opens:
                group = PatternGroup(opens == "looks")
                unknown = text == "(" and pattern[token.end() : token.end() + 1] in ("?", "*")
                if unknown or len(open_groups) > _DEEPEST:
                    return None
                here[-1].append(PatternPiece(group))
                open_groups.append(group)
            case "end":
                if len(open_groups) == 1:
                    return None
                open_groups.pop()
            case "branch":
                here.append([])
            case "repeat":
                if not here[-1]:
                    return None
                here[-1][-1].least, here[-1][-1].most = _times(token)
    return open_groups[0] if len(open_groups) == 1 else None


_KINDS = ("quoted", "one", "note", "looks", "group", "end", "branch", "repeat", "letter")


def _times(token: re.Match[str]) -> tuple[int, int]:
    if token["least"] is None:
        return {"*": (0, _ENDLESS), "+": (1, _ENDLESS), "?": (0, 1)}[token[0][0]]
    least = int(token["least"][:6])
    if token["to"] is None:
        return least, least
    return least, int(token["most"][:6]) if token["most"] else _ENDLESS


def drivers(pattern: str) -> Iterator[str]:
    """Texts to be tried, at most MOST; none for a pattern of which the outline is not known."""
    whole = outline(pattern)
    if whole is None:
        return
    # A pattern that ends in a letter is not tried at all on a text without it.
    ends = (f"!{_taken(whole)[-4:]}", *_ENDS)
    texts = (
        before + pumped * times + end
        for before, pumped in _repeated(whole, "")
        for times in _COUNTS
        for end in ends
    )
    yield from islice(texts, MOST)


def _repeated(
    group: PatternGroup, before: str, *, outermost: bool = True
) -> Iterator[tuple[str, str]]:
    """Each repeat of more than one way: what comes before it, and what it takes once."""
    for branch in group.branches:
        here = before
        for piece in branch:
            if isinstance(piece.what, PatternGroup):
                yield from _repeated(piece.what, here, outermost=False)
            if piece.most > _FEW:
                for pumped in _pumped(piece.what):
                    if isinstance(piece.what, PatternGroup):
                        yield here, pumped
                    elif outermost:
                        yield here, pumped[0]
            here = (here + _sample(piece))[:LONGEST_SAMPLE]


def _pumped(what: PatternGroup | str) -> list[str]:
    """What one round of a repeat takes, in different ways: by each branch, without what may be
    left out and with it.
    """
    if isinstance(what, str):
        return [letter] if (letter := _letter(what)) else []
    if what.looks:
        return []
    found = []
    for branch in what.branches[:_BRANCHES]:
        needed = [piece for piece in branch if piece.least]
        found += ["".join(map(_sample, pieces))[:LONGEST_SAMPLE] for pieces in (needed, branch)]
    return list(dict.fromkeys(text for text in found if text))


def _sample(piece: PatternPiece) -> str:
    """A short text that a piece takes with its repeat; "" where none is found."""
    return _taken(piece.what) * max(1, min(piece.least, 20))


def _taken(what: PatternGroup | str) -> str:
    if isinstance(what, str):
        return _letter(what)
    if what.looks:
        return ""
    return "".join(_sample(piece) for piece in what.branches[0])[:LONGEST_SAMPLE]


@lru_cache(maxsize=4096)
def _letter(one: str) -> str:
    """A letter that a piece takes, as the library says; "" for none, as for an anchor."""
    if len(one) == 1 and one not in "^$.":
        return one
    code = pcre.compiled(f"^(?:{one})$".encode("utf-8", "surrogateescape"), 0)
    if code is None:
        return ""
    # Among others those that the piece itself names.
    for letter in _TRIED + one[-8:]:
        if code.match(letter.encode("utf-8", "surrogateescape")).kind is pcre.MatchKind.MATCH:
            return letter
    return ""
