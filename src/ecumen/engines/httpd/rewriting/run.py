"""What a list of rules makes of one request.

Source: httpd 2.4, mod_rewrite ("Apache mod_rewrite Technical Details", "RewriteRule Flags").
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from enum import Enum

from ecumen.engines.alike import Heard
from ecumen.engines.httpd.rewriting.rules import RewriteCondition, RewriteRule
from ecumen.engines.httpd.uri import USUAL_LINE_LIMIT, escaped
from ecumen.engines.numbers import atoi
from ecumen.engines.sites import Mapped, proof_of
from ecumen.engines.tree import Directive
from ecumen.patterns import Hit, Regex, TooCostly
from ecumen.survey import Entry, Kind

LONGEST_TEXT = 64 << 10  # letters, with captures and variables put in
_WEB = re.compile(r"https?://", re.IGNORECASE)
_OTHER_SCHEMES = re.compile(
    r"(?:ajp|balancer|cgi|fcgi|ftp|gopher|h2c?|ldaps?|nntp|scgi|uwsgi|wss?)://|"
    r"(?:mailto|news|unix):",
    re.IGNORECASE,
)
MOST_STEPS = 20_000  # rule applications in one request; the engine has no bound of its own


class NotEvaluated(Exception):  # noqa: N818 - a signal, not an error of ours
    """Something here is beyond what is worked out."""

    def __init__(self, directive: Directive, what: str) -> None:
        super().__init__(what)
        self.directive = directive
        self.what = what


class Action(Enum):
    """What comes of the rules. STATUS: the request ends with a status."""

    NONE = "none"
    CHANGED = "changed"
    STATUS = "status"


@dataclass(slots=True)
class RewriteSubject:
    """The request as the rules see it, and whom they may ask.

    filename: a path on disk within a folder's rules, else at first the address's path. look: the
    entry that a path leads to for the worker, with or without its last link followed; it may raise
    LookupError where the survey cannot tell. variable: the value of any other variable, or
    LookupError. own: scheme, name and port that the site gives as its own, None if not known.
    ours: whether a host and port are this very site's. mapped: what a key stands for in a map, None
    for nothing, or LookupError. heard: is told of every text that is compared with something.
    """

    filename: str
    uri: str
    args: str | None
    path_info: str
    folder: str | None
    look: Callable[[str, bool], Entry | None]
    variable: Callable[[str, RewriteSubject], str]
    own: str | None
    ours: Callable[[str, int | None], bool]
    mapped: Callable[[str, str], str | None]
    by_itself: bool = False
    env: dict[str, str | None] = field(default_factory=dict)
    heard: Heard | None = None


@dataclass(slots=True)
class Result:
    """keeps_escapes: the result is not escaped again. last: the last rule that changed anything.
    question_mark: one of the address itself would have come into the path.
    """

    action: Action
    status: int = 0
    keeps_escapes: bool = False
    passes_on: bool = False
    to_upstream: bool = False
    reduced: bool = False
    ended: bool = False
    question_mark: bool = False
    type: str | None = None
    handler: str | None = None
    last: RewriteRule | None = None
    steps: list[Mapped] = field(default_factory=list)


def apply(rules: Sequence[RewriteRule], subject: RewriteSubject) -> Result:
    """Goes through the rules. Raises NotEvaluated."""
    return _Run(subject).all(rules)


def untouched(rules: Iterable[RewriteRule], subject: RewriteSubject) -> bool:
    """Whether surely none of the rules takes an address as it is."""
    run = _Run(subject)
    try:
        return not any(run.takes(rule) for rule in rules)
    except NotEvaluated:
        return False


class _Run:
    def __init__(self, subject: RewriteSubject) -> None:
        self.now = subject
        self.result = Result(Action.NONE)
        self.of_rule: Hit | None = None
        self.of_condition: Hit | None = None
        self.status: int | None = None
        self.uri = ""

    def all(self, rules: Sequence[RewriteRule]) -> Result:
        at = tries = 0
        rounds = 1
        while at < len(rules):
            rule = rules[at]
            tries += 1
            if tries > MOST_STEPS:
                raise NotEvaluated(rule.directive, "rules that go round too often")
            if self.now.by_itself and rule.flags & {"nosubreq", "redirect"}:
                at += 1
                continue
            if not self._rule(rule):
                while at < len(rules) and "chain" in rules[at].flags:
                    at += 1
                at += 1
                continue
            if self._ends(rule):
                break
            if "next" in rule.flags:
                rounds += 1
                if rounds >= rule.rounds:
                    self._end(500)
                    break
                at = 0
                continue
            at += 1 + rule.skip
        self._check_status()
        return self.result

    def _check_status(self) -> None:
        """Where a rule sends the visitor on, and a later one leads back to a local path, the server
        keeps the status of the one and sends the page of the other.
        """
        result = self.result
        local = not result.to_upstream and not _WEB.match(self.now.filename)
        if result.action is Action.CHANGED and local and result.status and result.last is not None:
            raise NotEvaluated(result.last.directive, "a page under the status of a redirect")

    def _end(self, status: int) -> None:
        self.result.action, self.result.status = Action.STATUS, status

    def _ends(self, rule: RewriteRule) -> bool:
        """Whether the list ends at this rule, which matched."""
        result = self.result
        if not rule.keeps:
            result.last = rule
        if len(self.now.filename) > 2 * USUAL_LINE_LIMIT:
            self._end(500)
            return True
        if self.status == 403 and result.action is Action.STATUS:
            return True
        if "status" in rule.flags:
            self._end(rule.code)
            return True
        if not rule.keeps:
            result.action = Action.CHANGED
            result.keeps_escapes = "noescape" in rule.flags
        if "passthrough" in rule.flags:
            result.action, result.keeps_escapes = Action.CHANGED, False
            result.passes_on = True
            return True
        if "end" in rule.flags:
            result.ended = True
            return True
        return bool(rule.flags & {"proxy", "last"})

    # --- one rule ---

    def takes(self, rule: RewriteRule) -> bool:
        """Whether the pattern and the conditions of a rule fit."""
        now = self.now
        uri = now.filename
        if now.folder is not None:
            uri += now.path_info
            uri = uri[len(now.folder) :] if uri.startswith(now.folder) else uri
        self.uri = uri
        hit = self._search(rule.regex, uri, rule.directive, rule.pattern)
        if (hit is not None) == rule.negated:
            return False
        self.of_condition = None
        self.of_rule = None if rule.negated else hit
        return self._conditions(rule)

    def _rule(self, rule: RewriteRule) -> bool:
        if not self.takes(rule):
            return False
        now = self.now
        if self.result.action is Action.STATUS:
            return True
        before = now.filename
        self._flags(rule)
        if rule.keeps:
            self._forced(rule)
            self._note(rule, before)
            return True
        self._substitute(rule)
        self._note(rule, before)
        return True

    def _note(self, rule: RewriteRule, before: str) -> None:
        after = self.now.filename
        if self.now.args:
            after += f"?{self.now.args}"
        self.result.steps.append(Mapped("rewrite", before, after, proof_of(rule.directive)))

    def _search(
        self, regex: Regex | None, text: str, directive: Directive, pattern: str
    ) -> Hit | None:
        if regex is None:
            raise NotEvaluated(directive, f"the pattern {pattern}")
        try:
            hit = regex.search(text)
        except TooCostly:
            raise NotEvaluated(directive, f"the pattern {pattern}") from None
        if self.now.heard is not None:
            self.now.heard.searched_in(regex, text, hit)
        return hit

    def _flags(self, rule: RewriteRule) -> None:
        for item in rule.env:
            name, colon, value = item.partition(":")
            if name.startswith("!"):
                self.now.env[self._expand(name[1:], rule).lower()] = None
            elif colon:
                self.now.env[self._expand(name, rule).lower()] = self._expand(value, rule)
            else:
                self.now.env[self._expand(name, rule).lower()] = ""

    def _forced(self, rule: RewriteRule) -> None:
        if rule.type is not None:
            self.result.type = self._expand(rule.type, rule)
        if rule.handler is not None:
            self.result.handler = self._expand(rule.handler, rule)

    def _substitute(self, rule: RewriteRule) -> None:
        now = self.now
        made, risky = self._expanded(rule.output, rule)
        if risky and "unsafeallow3f" not in rule.flags:
            # A question mark out of the address itself, and not out of the rule.
            self.status = 403
            self.result.question_mark = True
            self._end(403)
            return
        added = False
        if not made.startswith("/") and not self._absolute(made, rule):
            if now.folder is not None:
                made, added = now.folder + made, True
            elif not rule.flags & {"proxy", "redirect"}:
                made, added = "/" + made, True
        now.filename = made
        if now.folder is not None and "discardpath" in rule.flags:
            now.path_info = ""
        self._split_query(rule)
        if "proxy" in rule.flags:
            self._qualify(rule)
            self.result.to_upstream = True
            return
        if "redirect" in rule.flags:
            self._qualify(rule)
            self.result.status = rule.code
            return
        self._reduce()
        if self._absolute(now.filename, rule):
            self.result.status = rule.code
            return
        if "unc" not in rule.flags and not added and not rule.output.startswith("//"):
            while now.filename.startswith("//"):
                now.filename = now.filename[1:]
        self._forced(rule)

    def _absolute(self, text: str, rule: RewriteRule) -> bool:
        if text.startswith("/") or len(text) <= 5:
            return False
        if _OTHER_SCHEMES.match(text):
            raise NotEvaluated(rule.directive, f"an address like {text[:12]}")
        return _WEB.match(text) is not None

    def _qualify(self, rule: RewriteRule) -> None:
        now = self.now
        if self._absolute(now.filename, rule):
            return
        if now.own is None:
            raise NotEvaluated(rule.directive, "the name that the site calls itself by")
        slash = "" if now.filename.startswith("/") else "/"
        now.filename = f"{now.own}{slash}{now.filename}"

    def _reduce(self) -> None:
        now = self.now
        scheme = (now.own or "http://").partition("://")[0]
        match = re.match(rf"{scheme}://([^/:]*)(?::([^/]*))?", now.filename, re.IGNORECASE)
        if match is None or len(now.filename) <= len(scheme) + 3:
            return
        port = atoi(match[2]) if match[2] is not None else None
        if now.ours(match[1], port):
            now.filename = now.filename[match.end() :] or "/"
            self.result.reduced = True

    def _split_query(self, rule: RewriteRule) -> None:
        now, flags = self.now, rule.flags
        if "qsnone" in flags:
            now.args = None
            return
        if "qsdiscard" in flags:
            now.args = None
        match = _WEB.match(now.filename)
        skip = match.end() if match else 0
        find = now.filename.rfind if "qslast" in flags else now.filename.find
        at = find("?", skip)
        if at < 0:
            return
        query, now.filename = now.filename[at + 1 :], now.filename[:at]
        if "qsappend" not in flags:
            now.args = query
        elif query:
            now.args = f"{query}&{now.args or ''}"
        if now.args is not None:
            now.args = now.args.removesuffix("&") or None

    # --- conditions ---

    def _conditions(self, rule: RewriteRule) -> bool:
        at = 0
        conditions = rule.conditions
        while at < len(conditions):
            condition = conditions[at]
            holds = self._condition(condition, rule)
            if condition.or_next:
                if holds:
                    while at < len(conditions) and conditions[at].or_next:
                        at += 1
            elif not holds:
                return False
            at += 1
        return True

    def _condition(self, condition: RewriteCondition, rule: RewriteRule) -> bool:
        if condition.kind == "expr":
            raise NotEvaluated(condition.directive, "an expression")
        text = self._expand(condition.input, None, condition.directive)
        if condition.kind.startswith(("text", "number")) and self.now.heard is not None:
            self.now.heard.compared(text)
        kind, _, how = condition.kind.partition("-")
        if kind == "regex":
            hit = self._search(condition.regex, text, condition.directive, condition.pattern)
            if hit is not None and not condition.negated:
                self.of_condition = hit
            holds = hit is not None
        elif kind == "text":
            holds = _compared(text, condition.pattern, how, condition.ignore_case)
        elif kind == "number":
            holds = _numbers(atoi(text), atoi(condition.pattern), how)
        elif kind == "asked":
            raise NotEvaluated(condition.directive, "a question that the server asks itself")
        else:
            holds = self._file(condition, text, rule)
        return holds != condition.negated

    def _file(self, condition: RewriteCondition, path: str, rule: RewriteRule) -> bool:
        link = condition.kind == "link"
        try:
            entry = self.now.look(path, not link) if path.startswith("/") else None
        except LookupError:
            raise NotEvaluated(condition.directive, f"whether there is {path}") from None
        if path and not path.startswith("/"):
            # Beside the folder that the server was started in.
            raise NotEvaluated(condition.directive, f"the relative path {path}")
        if entry is None:
            return False
        match condition.kind:
            case "file":
                return entry.kind is Kind.FILE
            case "size":
                return entry.kind is Kind.FILE and entry.size > 0
            case "folder":
                return entry.kind is Kind.DIR
            case "link":
                return entry.kind is Kind.LINK
        return entry.mode & 0o111 != 0

    # --- what stands for something else ---

    def _expand(
        self, text: str, rule: RewriteRule | None, directive: Directive | None = None
    ) -> str:
        return self._expanded(text, rule, directive)[0]

    def _expanded(
        self, text: str, rule: RewriteRule | None, directive: Directive | None = None
    ) -> tuple[str, bool]:
        """(text, whether the `?` that counts came out of what was put in)."""
        last = rule is not None and "qslast" in rule.flags
        marks: list[bool] = []
        out: list[str] = []
        at = size = 0
        while at < len(text):
            size += len(out[-1]) if out else 0
            if size > LONGEST_TEXT:
                # Rules can double a text again and again.
                what = f"a text of more than {LONGEST_TEXT} letters"
                raise NotEvaluated(directive or _line(rule), what)
            char = text[at]
            if char == "\\" and at + 1 < len(text):
                out.append(text[at + 1])
                at += 2
                continue
            if char in "$%" and text[at + 1 : at + 2] == "{":
                end = _closing(text, at + 2)
                keyless = char == "$" and _outside(text[at + 2 : end], ":") < 0
                if end < 0 or keyless:
                    out.append(text[at : at + 2])
                    at += 2
                    continue
                value = self._value(char, text[at + 2 : end], rule, directive or _line(rule))
                marks += [True] if "?" in value else []
                out.append(value)
                at = end + 1
                continue
            if char in "$%" and text[at + 1 : at + 2].isdecimal() and text[at + 1].isascii():
                hit = self.of_rule if char == "$" else self.of_condition
                value = hit.group(int(text[at + 1])) if hit is not None else ""
                if rule is not None and "escape" in rule.flags:
                    value = _escaped_group(value, rule)
                marks += [True] if "?" in value else []
                out.append(value)
                at += 2
                continue
            if char == "?":
                marks.append(False)
            out.append(char)
            at += 1
        risky = bool(marks) and (marks[-1] if last else marks[0])
        return "".join(out), risky

    def _mapped(self, text: str, rule: RewriteRule | None, directive: Directive) -> str:
        """`map:key|default`, of which key and default may hold the like."""
        at = _outside(text, ":")
        name, key = text[:at], text[at + 1 :]
        bar = _outside(key, "|")
        key, default = (key, "") if bar < 0 else (key[:bar], key[bar + 1 :])
        try:
            found = self.now.mapped(name, self._expand(key, rule, directive))
        except LookupError:
            raise NotEvaluated(directive, f"the map {name}") from None
        return self._expand(default, rule, directive) if found is None else found

    def _value(self, char: str, name: str, rule: RewriteRule | None, directive: Directive) -> str:
        if char == "$":
            return self._mapped(name, rule, directive)
        try:
            if name.upper().startswith("ENV:") and name[4:].lower() in self.now.env:
                return self.now.env[name[4:].lower()] or ""
            return self.now.variable(name, self.now)
        except LookupError:
            raise NotEvaluated(directive, f"the variable {name}") from None


def _line(rule: RewriteRule | None) -> Directive:
    assert rule is not None
    return rule.directive


def _closing(text: str, at: int) -> int:
    depth = 1
    for position in range(at, len(text)):
        if text[position] == "}":
            depth -= 1
            if depth == 0:
                return position
        elif text[position] == "{":
            depth += 1
    return -1


def _outside(text: str, wanted: str) -> int:
    """Where a letter stands outside of braces; -1 for nowhere."""
    depth = 0
    for position, char in enumerate(text):
        if char == wanted and depth == 0:
            return position
        depth += (char == "{") - (char == "}")
    return -1


def _escaped_group(text: str, rule: RewriteRule) -> str:
    """What a capture becomes where the rule has it escaped."""
    controls = "escapecontrols" in rule.flags
    out = []
    for byte in text.encode("utf-8", "surrogateescape"):
        char = chr(byte)
        wanted = (byte < 0x20 or byte in (0x20, 0x7F)) if controls else rule.escapes is None
        wanted = wanted or (rule.escapes is not None and char in rule.escapes)
        if not wanted or (rule.no_escapes is not None and char in rule.no_escapes):
            out.append(char.encode("latin-1"))
        elif (char.isascii() and char.isalnum()) or char == "_":
            out.append(char.encode())
        elif char == " " and "noplus" not in rule.flags:
            out.append(b"+")
        else:
            out.append(f"%{byte:02x}".encode())
    return b"".join(out).decode("utf-8", "surrogateescape")


def _compared(text: str, pattern: str, how: str, ignore_case: bool) -> bool:
    if ignore_case:
        text, pattern = text.lower(), pattern.lower()
    if how == "eq":
        return text == pattern
    # Longer is greater; only texts of one length are compared letter by letter.
    by_length = not ignore_case and len(text) != len(pattern)
    order = len(text) - len(pattern) if by_length else (text > pattern) - (text < pattern)
    return _numbers(order, 0, how)


def _numbers(one: int, other: int, how: str) -> bool:
    return {
        "lt": one < other,
        "le": one <= other,
        "gt": one > other,
        "ge": one >= other,
        "eq": one == other,
    }[how]


def location_of(result: Result, subject: RewriteSubject, asked_with: str | None) -> str:
    """The Location header for a result that leads away. asked_with: the query as it came."""
    match = _WEB.match(subject.filename)
    assert match is not None
    filename = subject.filename
    if not result.keeps_escapes:
        slash = filename.find("/", match.end())
        if slash >= 0 and slash + 1 < len(filename):
            filename = filename[: slash + 1] + escaped(filename[slash + 1 :])
    if subject.args is not None:
        same = asked_with is not None and subject.args == asked_with
        query = subject.args if result.keeps_escapes or same else escaped(subject.args)
        filename += f"?{query}"
    return filename
