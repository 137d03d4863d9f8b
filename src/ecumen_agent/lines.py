"""What a site's file may say: read by a small reader of its own, line by line, against a list.

Engines read their configuration as root: a log is opened wherever it says, a program is started
that it pipes to, a module is loaded. So what is not on the list is refused, and so is all that this
reader cannot be sure to read as the engine does.
"""

from __future__ import annotations

import pkgutil
import posixpath
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cache

from ecumen.errors import EcumenError

# Blocks that hold a list of words, and no directives but one.
_LISTS = {("nginx", "types"), ("nginx", "upstream")}
_OPTIONS = re.compile(
    r"[+-]?(None|FollowSymLinks|SymLinksIfOwnerMatch|Indexes|MultiViews|IncludesNOEXEC)\Z", re.I
)
_UPSTREAM = re.compile(r"(!\Z|(https?|wss?|h2c?|fcgi|ajp|uwsgi|scgi)://|unix:/)", re.I)
_INCLUDES = ("fastcgi_params", "fastcgi.conf", "mime.types", "snippets/fastcgi-php.conf")
_LOG_DIR = "${APACHE_LOG_DIR}/"


class LineError(EcumenError):
    """A line that a site's file may not hold."""


@dataclass(frozen=True, slots=True)
class Places:
    """Where paths may lead: whether one is in a site's ground, and folders of logs and of seals."""

    is_ground: Callable[[str], bool]
    logs: tuple[str, ...]
    seals: tuple[str, ...]
    more: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Line:
    """number: of its first line, from 1. block: whether it opens one."""

    number: int
    words: tuple[str, ...]
    block: bool = False
    closes: bool = False


def check_lines(engine: str, text: bytes, places: Places) -> None:
    """Raises LineError, which says which line and why."""
    try:
        whole = text.decode("utf-8", "surrogateescape")
        rules, depth, inside = _rules(engine), 0, [""]
        for line in read_lines(engine, whole):
            if line.closes:
                depth -= 1
                if depth < 0:
                    raise LineError(f"line {line.number}: nothing is open that it closes")
                inside.pop()
                continue
            listed = (engine, inside[-1]) in _LISTS and not line.block
            if not listed or line.words[0] == "include":
                _line(engine, line, rules, places)
            if line.block:
                depth += 1
                inside.append(line.words[0].lower())
        if depth:
            raise LineError("the last line: a block is left open")
    except KeyError:
        raise LineError(f"nothing says what a file of {engine} may hold") from None


def _line(engine: str, line: Line, rules: Mapping[str, str], places: Places) -> None:
    name, *words = line.words
    rule = rules.get(name if engine == "nginx" else name.lower())
    if rule is None and name.lower() in map(str.lower, places.more):
        rule = "any"
    why = "the agent does not write it" if rule is None else _KINDS[rule](words, places)
    if rule is not None and (rule == "block") != line.block:
        why = "a block that is none, or the other way round"
    if engine == "httpd" and any("${" in word.removeprefix(_LOG_DIR) for word in words):
        why = "what its variables stand for is not known here"
    if why:
        raise LineError(f"line {line.number}: {name}: {why}")


def _any(words: list[str], places: Places) -> str:
    return ""


def _ground(words: list[str], places: Places) -> str:
    # Up to its first variable, which holds no more than names that visitors ask for.
    path = words[0] if words else ""
    literal, dollar, _ = path.partition("$")
    if dollar:
        literal = posixpath.dirname(literal)
    return "" if _inside(literal, places.is_ground) else f"{path} is in no site's ground"


def _ground_second(words: list[str], places: Places) -> str:
    return _ground(words[1:], places)


def _log(words: list[str], places: Places) -> str:
    path = words[0] if words else ""
    if path in ("off", "stderr"):
        return ""
    rest = path.removeprefix(_LOG_DIR)
    if rest != path:
        return "" if _inside(f"/{rest}", lambda _: True) else "no log of this name"

    def is_log(plain: str) -> bool:
        return any(plain.startswith(f"{folder}/") for folder in places.logs)

    return "" if _inside(path, is_log) else f"{path} is in no folder of logs"


def _seal(words: list[str], places: Places) -> str:
    def is_seal(plain: str) -> bool:
        return any(plain.startswith(f"{folder}/") for folder in places.seals)

    path = words[0] if words else ""
    return "" if "$" not in path and _inside(path, is_seal) else f"{path} is in no folder of seals"


def _options(words: list[str], places: Places) -> str:
    return "" if all(map(_OPTIONS.match, words)) else "programs and commands are not switched on"


def _upstream(words: list[str], places: Places) -> str:
    # In a section it has no path of its own.
    targets = words[1:] if words and words[0].startswith(("/", "^", "!")) else words
    return "" if targets and _UPSTREAM.match(targets[0]) else "no upstream"


def _include(words: list[str], places: Places) -> str:
    name = (words[0] if words else "").removeprefix("/etc/nginx/")
    return "" if name in _INCLUDES else "only the engine's own parts are included"


_KINDS: Mapping[str, Callable[[list[str], Places], str]] = {
    "any": _any, "block": _any, "ground": _ground, "ground-second": _ground_second, "log": _log,
    "seal": _seal, "options": _options, "upstream": _upstream, "include": _include,
}  # fmt: skip


def _inside(path: str, holds: Callable[[str], bool]) -> bool:
    plain = path.rstrip("/")
    return posixpath.normpath(plain) == plain and plain.startswith("/") and holds(plain)


@cache
def _rules(engine: str) -> Mapping[str, str]:
    source = pkgutil.get_data("ecumen_agent", "lines.tsv")
    assert source is not None
    found: dict[str, str] = {}
    for row in source.decode().splitlines():
        if not row.startswith("#"):
            kind, rule, names = row.split("\t")
            if kind == engine:
                found |= {n if engine == "nginx" else n.lower(): rule for n in names.split()}
    return found


# --- reading ---

_WORD = re.compile(
    r"""[ \t]*(?:"((?:[^"\\]|\\.)*)"|'((?:[^'\\]|\\.)*)'|([^ \t"']\S*))(?=[ \t]|$)"""
)


def _httpd(text: str) -> Iterator[Line]:
    number, lines = 0, text.split("\n")
    while number < len(lines):
        first, whole = number + 1, lines[number]
        while whole.endswith("\\"):
            number += 1
            if whole.endswith("\\\\") or number >= len(lines):
                raise LineError(f"line {first}: it is not clear where it ends")
            whole = whole[:-1] + lines[number]
        number += 1
        whole = whole.strip(" \t\v\f")
        if not whole or whole.startswith("#"):
            continue
        if whole.startswith("</"):
            yield Line(first, (whole[2:].rstrip("> \t"),), closes=True)
        elif whole.startswith("<"):
            if not whole.endswith(">"):
                raise LineError(f"line {first}: a block without its end")
            yield Line(first, _words(first, whole[1:-1]), block=True)
        else:
            yield Line(first, _words(first, whole))


def _words(number: int, text: str) -> tuple[str, ...]:
    found, at = [], 0
    text = text.rstrip(" \t")
    if text.startswith(("'", '"')):
        raise LineError(f"line {number}: a name in quotes")
    while at < len(text):
        match = _WORD.match(text, at)
        if match is None:
            raise LineError(f"line {number}: quotes that are not closed")
        if "\\\\" in match[0]:
            raise LineError(f"line {number}: two backslashes, which are not always two")
        # Within quotes a backslash stands before such a quote, and for itself before all else.
        quote = next((each for each, told in (('"', match[1]), ("'", match[2])) if told), "")
        word = match[1] or match[2] or match[3] or ""
        word = word.replace(f"\\{quote}", quote) if quote else word
        found.append(word)
        at = match.end()
    if not found:
        raise LineError(f"line {number}: no word")
    return tuple(found)


_TOKEN = re.compile(
    r"""[ \t\n]+|\#[^\n]*|(?P<end>[;{}])|(?P<quoted>"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')(?=[\s;{)])
    |(?P<plain>(?:\$\{[^}\s;{\\]*\}|\$(?!\{)|\\.|[^\s;{}"'\#\\$])
      (?:\$\{[^}\s;{\\]*\}|\$(?!\{)|\\.|[^\s;{\\$])*)(?=[\s;{])""",
    re.X | re.S,
)


def _undone(number: int, word: str) -> str:
    def behind(match: re.Match[str]) -> str:
        if match[1] in "trn":
            raise LineError(f"line {number}: characters that are written by their names")
        return match[1] if match[1] in "\"'\\" else match[0]

    return re.sub(r"\\(.)", behind, word, flags=re.DOTALL)


def _nginx(text: str) -> Iterator[Line]:
    words: list[str] = []
    at, first = 0, 1
    while at < len(text):
        number = text.count("\n", 0, at) + 1
        match = _TOKEN.match(text, at)
        if match is None:
            raise LineError(f"line {number}: it is not clear how it is read")
        at = match.end()
        if match["end"] is None:
            quoted = match["quoted"]
            word = match["plain"] if quoted is None else quoted[1:-1]
            if word is not None:
                first = first if words else number
                words.append(_undone(number, word))
        elif match["end"] == "}":
            if words:
                raise LineError(f"line {first}: it has no end")
            yield Line(number, (), closes=True)
        elif not words:
            raise LineError(f"line {number}: no word")
        else:
            yield Line(first, tuple(words), block=match["end"] == "{")
            words = []
    if words:
        raise LineError(f"line {first}: it has no end")


_READERS: Mapping[str, Callable[[str], Iterator[Line]]] = {"httpd": _httpd, "nginx": _nginx}
_ODD = re.compile(r"[^\S \t\n]|[\0-\x08\x0e-\x1f]")


def read_lines(engine: str, text: str) -> Iterator[Line]:
    """The lines as the engine reads them. Raises LineError where that is not sure, KeyError for an
    engine that is none.
    """
    odd = _ODD.search(text)
    if odd is not None:
        number = text.count("\n", 0, odd.start()) + 1
        raise LineError(f"line {number}: a character that is blank to some, and to others not")
    return _READERS[engine](text)
