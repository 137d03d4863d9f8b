"""Patterns by which this engine keeps requests out.

Source: httpd 2.4, core (sections), mod_rewrite ("F"), mod_setenvif; measured: where matching goes
over the library's limit, that is no match to it, and says nothing in the log.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.server import Server
from ecumen.engines.sites import AccessPattern
from ecumen.engines.tree import Deferred, Directive
from ecumen.patterns import compiled
from ecumen.survey import Survey

# Names of files and folders are no visitor's to choose; addresses are.
_SECTIONS = ("<locationmatch", "<location")
_KEEPS_OUT = frozenset(("require", "deny", "<requireall", "<requireany", "<requirenone", "order"))
_SETS = frozenset("setenvif setenvifnocase browsermatch browsermatchnocase".split())
MOST = 20_000  # lines that are looked at
CALLED = ("accessfilename",)
# Without anything like this in small letters, what is said keeps nobody out by a pattern.
_MAY_KEEP_OUT = re.compile(
    r"deny|order|setenvif|browsermatch|require(?![ \t]+all[ \t]+granted)"
    r"|\[[^\[\]\n]{0,80}\b(?:f|g|forbidden|gone)\b"
)


def access_patterns(survey: Survey, server: Server) -> Iterator[AccessPattern]:
    """In the configuration, and in the override files that the survey holds."""
    yield from _of(server.tree.directives)
    leaves = {name for host in server.hosts_saying(CALLED) for name in host.override_names or ()}
    leaves = leaves or {".htaccess"}
    for path, text in survey.texts.items():
        if path.rpartition("/")[2] in leaves:
            yield from _of(server.reader.fragment(path, text).directives)


def _of(directives: Iterable[Directive]) -> Iterator[AccessPattern]:
    lines = _walked(directives)
    refused = {name for line in lines for name in _refused(line)}
    conditions: list[AccessPattern] = []
    for directive in lines:
        name = directive.name.lower()
        if name == "rewritecond":
            conditions += _condition(directive)
        elif name == "rewriterule":
            yield from _rule(directive, conditions)
            conditions = []
        elif name in _SECTIONS and _keeps_out(directive):
            yield from _section(name, directive)
        elif name in _SETS:
            given = words(directive.text)[name.startswith("set") :]
            if any(word.partition("=")[0].lower() in refused for word in given[1:]):
                yield _made(given[0], directive, ignore_case=name.endswith("nocase"))


def _walked(directives: Iterable[Directive]) -> list[Directive]:
    found: list[Directive] = []
    stack = list(directives)[::-1]
    while stack and len(found) < MOST:
        found.append(stack.pop())
        children = found[-1].children
        if isinstance(children, Deferred) and not _MAY_KEEP_OUT.search(children.text.lower()):
            continue
        if children and found[-1].taken is not False:
            stack += children[::-1]
    return found


def _refused(line: Directive) -> list[str]:
    """The marks of which a line says that who bears them is kept out."""
    given = line.text.lower().split()
    match line.name.lower(), given:
        case "deny", ["from", *marks]:
            return [mark[4:] for mark in marks if mark.startswith("env=")]
        case "require", ["not", "env", *marks]:
            return marks
    return []


def _made(pattern: str, directive: Directive, *, ignore_case: bool = False) -> AccessPattern:
    regex = compiled(pattern, ignore_case=ignore_case)
    return AccessPattern(pattern, regex, directive.place, directive.quoted)


def _section(name: str, directive: Directive) -> Iterator[AccessPattern]:
    given = words(directive.text)
    if name == "<location":
        given = given[1:] if given[:1] == ["~"] else []
    for pattern in given[:1]:
        yield _made(pattern, directive)


def _keeps_out(section: Directive) -> bool:
    rules = [each for each in section.children or () if each.name.lower() in _KEEPS_OUT]
    return any(each.text.lower().split()[:2] != ["all", "granted"] for each in rules)


def _condition(directive: Directive) -> Iterator[AccessPattern]:
    given = words(directive.text)
    # A negated one holds where there is no match: then the rule behind it acts.
    if len(given) > 1 and given[1][:1] not in ("!", "=", "<", ">", "-"):
        flags = given[2].lower() if len(given) > 2 else ""
        yield _made(given[1], directive, ignore_case="nc" in flags or "nocase" in flags)


def _rule(directive: Directive, conditions: list[AccessPattern]) -> Iterator[AccessPattern]:
    given = words(directive.text)
    flags = given[2].strip("[]").lower().split(",") if len(given) > 2 else []
    if not any(flag.strip() in ("f", "forbidden", "g", "gone") for flag in flags):
        return
    yield from conditions
    if not given[0].startswith("!"):
        yield _made(given[0], directive, ignore_case="nc" in flags or "nocase" in flags)
