"""The security context that the rules give a path, as libselinux looks it up.

Source: file_contexts(5), selabel_file(5), libselinux 3.4 (label_file.c); measured
with matchpathcon(8). Rules are taken from the text; the last one that fits decides, but rules
without a regular expression come behind all others.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from heapq import merge
from operator import itemgetter

from ecumen.caches import Bounded
from ecumen.errors import EcumenError
from ecumen.patterns import Regex, TooCostly, compiled
from ecumen.survey import Kind

# In the order in which they are read; what is not there is passed over, but for the first.
RULE_FILES = ("file_contexts", "file_contexts.homedirs", "file_contexts.local")
SUBSTITUTIONS = ("file_contexts.subs", "file_contexts.subs_dist")
NONE = "<<none>>"
_KINDS: Mapping[str, Kind] = {
    "--": Kind.FILE, "-d": Kind.DIR, "-l": Kind.LINK, "-s": Kind.SOCKET, "-p": Kind.PIPE,
    "-c": Kind.CHAR, "-b": Kind.BLOCK,
}  # fmt: skip
MOST_KEPT = 5000  # folders whose rules are remembered
# Characters that stand for themselves, escaped ones too.
_LITERAL = re.compile(r"(?:[^\\.^$?*+|\[({})\]]|\\[^A-Za-z0-9])*")
_META = frozenset(".^$?*+|[({")
# A repeat in a repeat that says nothing more than the inner one; it could backtrack without end.
_TWICE = (r"(\.[^/]*)*", r"(\.[^/]*)?")


class LabelError(EcumenError):
    """A file of rules that libselinux refuses as a whole; says which line and why."""


@dataclass(frozen=True, slots=True)
class ContextRule:
    """One line. kind: None fits all. context: None where no context is to be set."""

    file: str
    line: int
    pattern: str
    kind: Kind | None
    context: str | None


@dataclass(frozen=True, slots=True)
class Expected:
    """context: None where the rules give none. sure: False where a rule is not evaluated."""

    context: str | None
    rule: ContextRule | None
    sure: bool = True


@dataclass(frozen=True, slots=True)
class _Spec:
    """A rule with its stem: the first name of the path, where it has no regular expression. A path
    must have the same one. prefix: what a path must begin with to fit. then: what must stand behind
    one name of any sort, where that follows the prefix.
    """

    rule: ContextRule
    stem: str
    prefix: str
    then: str = ""

    def fits(self, key: str) -> bool | None:
        """Whether a path that begins with the prefix fits; None where that is not evaluated."""
        if self.then:
            end = key.find("/", len(self.prefix))
            if end < 0 or not key.startswith(self.then, end + 1):
                return False
        pattern = self.rule.pattern
        if pattern == self.prefix:
            return key in (pattern, f"{pattern}\n")
        regex = _regex(pattern)
        if regex is None:
            return None
        try:
            return regex.fits(key)
        except TooCostly:
            return None


def _regex(pattern: str) -> Regex | None:
    return compiled(f"^{pattern.replace(*_TWICE)}$", dollar_only_end=False)


class ContextRules:
    """texts: by file name, as in RULE_FILES and SUBSTITUTIONS. Raises LabelError."""

    def __init__(self, texts: Mapping[str, str]) -> None:
        if RULE_FILES[0] not in texts:
            raise LabelError(f"{RULE_FILES[0]} is missing")
        rules = [rule for name in RULE_FILES for rule in _read(name, texts.get(name, ""))]
        # Sorting is stable: among those without a regular expression the last one wins, too.
        self.rules: Sequence[ContextRule] = sorted(
            rules, key=lambda rule: not _has_meta(rule.pattern)
        )
        self._near: dict[str, tuple[_Spec, ...]] = Bounded(MOST_KEPT)
        self._subs = [_substitutions(texts.get(name, "")) for name in SUBSTITUTIONS]

    @cached_property
    def _by_folder(self) -> dict[str, list[tuple[int, _Spec]]]:
        """The rules by the last folder that a path must lie in to fit, the last rule first."""
        found: dict[str, list[tuple[int, _Spec]]] = {}
        for number, rule in enumerate(self.rules):
            spec = _spec(rule)
            folder = spec.prefix[: max(spec.prefix.rfind("/"), 0)]
            found.setdefault(folder, []).append((-number, spec))
        for specs in found.values():
            specs.reverse()
        return found

    def expected(self, path: str, kind: Kind | None = None) -> Expected:
        """path: as it stands; `.` and `..` are names here. kind: None where it is not known."""
        key = self._key(path)
        if not key:
            return Expected(None, None)
        stem = _stem_of(key)
        sure = True
        for spec in self._candidates(key[: max(key.rfind("/"), 0)]):
            if not key.startswith(spec.prefix) or (spec.stem and spec.stem != stem):
                continue
            rule = spec.rule
            if kind is not None and rule.kind is not None and kind is not rule.kind:
                continue
            fits = spec.fits(key)
            if fits is None:
                if _broken(rule.pattern):
                    # The lookup ends here with an error, which is no context.
                    return Expected(None, rule)
                sure = False
            elif fits:
                return Expected(rule.context, rule, sure)
        return Expected(None, None, sure)

    def _candidates(self, folder: str) -> tuple[_Spec, ...]:
        """Rules that may fit what lies right in a folder, the last one first."""
        known = self._near.get(folder)
        if known is None:
            by_folder = self._by_folder
            ends = [0, *(at for at, char in enumerate(folder) if char == "/" and at), len(folder)]
            lists = [by_folder[top] for top in dict.fromkeys(folder[:end] for end in ends)
                     if top in by_folder]  # fmt: skip
            known = tuple(spec for _, spec in merge(*lists, key=itemgetter(0)))
            self._near[folder] = known
        return known

    def _key(self, path: str) -> str:
        """Without doubled slashes and the last one, and with what stands for it put in place."""
        key = re.sub("/+", "/", path)
        if len(key) > 1 and key.endswith("/"):
            key = key[:-1]
        for pairs in self._subs:
            for source, target in pairs:
                if key == source or key.startswith(f"{source}/"):
                    rest = key[len(source) :]
                    # A root in place of a folder brings its own slash.
                    key = target + (rest[1:] if target == "/" and rest else rest)
                    break
        return key


# --- reading ---


def _read(name: str, text: str) -> Iterator[ContextRule]:
    for number, line in enumerate(text.split("\n"), 1):
        body = line.lstrip()
        if not body or body.startswith("#"):
            continue
        if not line.isascii():
            raise LabelError(f"{name}:{number}: a character that is not ASCII")
        fields = body.split()
        if len(fields) not in (2, 3):
            raise LabelError(f"{name}:{number}: a rule has two or three fields, not {len(fields)}")
        kind = _KINDS.get(fields[1]) if len(fields) == 3 else None
        if len(fields) == 3 and kind is None:
            raise LabelError(f"{name}:{number}: there is no file kind {fields[1]}")
        context = None if fields[-1] == NONE else fields[-1]
        yield ContextRule(name, number, fields[0], kind, context)


def _substitutions(text: str) -> list[tuple[str, str]]:
    """Source and target of each line, the last line first."""
    found = []
    for line in text.split("\n"):
        words = line.split()
        if len(words) >= 2 and not words[0].startswith("#"):
            found.append((words[0], words[1]))
    return found[::-1]


def _has_meta(pattern: str) -> bool:
    """Whether it holds anything but itself; an escaped character does not count."""
    return any(char in _META for char in re.sub(r"\\.", "", pattern))


def _spec(rule: ContextRule) -> _Spec:
    """The stem is taken as it stands: an escaped character in it never fits any path."""
    pattern = rule.pattern
    stem = _stem_of(pattern)
    if _has_choice(pattern):
        return _Spec(rule, "" if _META & set(stem) else stem, "")
    prefix, end = _literal(pattern)
    then = ""
    if pattern[end : end + 6] in ("[^/]+/", "[^/]*/"):
        then, _ = _literal(pattern[end + 6 :])
    return _Spec(rule, "" if _META & set(stem) else stem, prefix, then)


def _literal(pattern: str) -> tuple[str, int]:
    """What any text must begin with that fits a pattern, and where in the pattern that ends."""
    found = _LITERAL.match(pattern)
    assert found is not None
    literal = re.sub(r"\\(.)", r"\1", found[0])
    behind = pattern[found.end() : found.end() + 1]
    # What is repeated may be missing.
    return (literal[:-1] if behind and behind in "?*{" else literal), found.end()


def _has_choice(pattern: str) -> bool:
    """Whether it is one of several patterns as a whole, and not within a group."""
    plain = re.sub(r"\\.|\[[^]]*\]", "", pattern)
    while (inner := re.sub(r"\([^()]*\)", "", plain)) != plain:
        plain = inner
    return "|" in plain


def _stem_of(path: str) -> str:
    """The first name, where more follow."""
    end = path.find("/", 1)
    return "" if end < 0 else path[:end]


def _broken(pattern: str) -> bool:
    """Whether this is no regular expression at all, and not one that is only not evaluated."""
    try:
        re.compile(f"^{pattern}$".encode())
    except (re.error, ValueError, OverflowError):
        return True
    return False
