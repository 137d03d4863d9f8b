"""The directives of one section, gathered into settings.

Source: httpd 2.4, "Directive Index"; measured.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache

from ecumen.engines.httpd.access import Scoped, access_of, is_access
from ecumen.engines.httpd.catalogue import leaves_answer
from ecumen.engines.httpd.compat import Compat, is_compat, with_line
from ecumen.engines.httpd.lexer import words
from ecumen.engines.httpd.marks import Mark, read_mark
from ecumen.engines.httpd.methods import Limited, limited_by
from ecumen.engines.httpd.redirects import Redirect, RedirectError, read_redirect
from ecumen.engines.httpd.rewriting.rules import (
    OPTIONS,
    RewriteCondition,
    Rewriting,
    RuleError,
    read_condition,
    read_rule,
)
from ecumen.engines.httpd.settings import (
    Choice,
    Conditional,
    Ending,
    FileSection,
    Opt,
    Options,
    Override,
    Settings,
    read_upstream,
)
from ecumen.engines.httpd.statuses import KNOWN
from ecumen.engines.httpd.typeheaders import TypeHeader, read_type_header
from ecumen.engines.numbers import atoi
from ecumen.engines.tree import Directive, Place
from ecumen.patterns import is_refused

_OPTION_WORDS = {
    "indexes": Opt.INDEXES,
    "includes": Opt.INCLUDES | Opt.INCLUDES_EXEC,
    "includesnoexec": Opt.INCLUDES,
    "followsymlinks": Opt.FOLLOW,
    "symlinksifownermatch": Opt.OWNER_MATCH,
    "execcgi": Opt.EXEC,
    "multiviews": Opt.MULTI,
    "none": Opt.NONE,
    "all": Opt.INDEXES | Opt.INCLUDES | Opt.INCLUDES_EXEC | Opt.FOLLOW | Opt.EXEC,
}


def _mixed(words: Sequence[str]) -> str:
    """Why these words may not stand together, or "".

    Signed words add to what holds, unsigned ones replace it; only after a leading
    `None` or `All` may signed ones follow.
    """
    whole = words[0].lower() if words else ""
    signed = [word[:1] in ("+", "-") for word in words]
    for at, word in enumerate(words):
        bare = word.lstrip("+-").lower()
        if bare in ("none", "all"):
            if at:
                return f"'Options {bare.title()}' must be the first Option given."
            if signed[at]:
                return f"You may not use 'Options +{bare.title()}' or 'Options -{bare.title()}'."
        change = at > 0 and signed[at] != signed[at - 1]
        if change and not (signed[at] and whole in ("none", "all")):
            return "Either all Options must start with + or -, or no Option may."
    return ""


_Bits = tuple[int, bool, int, int]


@lru_cache(maxsize=4096)
def _optioned(held: _Bits, given: tuple[str, ...]) -> _Bits | str:
    """Bits, whether they are the whole set, added and removed ones, after some words upon them; or
    why these are refused.
    """
    bits, whole, added, removed = held
    first = True
    fault = _mixed(given)
    if fault:
        return fault
    for word in given:
        sign = word[0] if word[:1] in ("+", "-") else ""
        option = _OPTION_WORDS.get(word.lstrip("+-").lower() if sign else word.lower())
        if option is None:
            return f"Illegal option {word}"
        # The first word without a sign throws away what held before; so each further one adds.
        if not sign and first:
            bits, whole, first = Opt.NONE, True, False
        if sign == "-":
            removed, added, bits = removed | option, added & ~option, bits & ~option
        elif sign == "+":
            added, removed, bits = added | option, removed & ~option, bits | option
        else:
            bits |= option
    return bits, whole, added, removed


@lru_cache(maxsize=4096)
def _overridable(
    given: tuple[str, ...], options: int | None
) -> tuple[frozenset[str], int | None, frozenset[str]] | str:
    """Classes, options and what is not fatal; or why these words are refused. options: as they
    were before.
    """
    classes: set[str] = set()
    nonfatal: set[str] = set()
    for word in given:
        key, _, value = word.lower().partition("=")
        if key in _CLASSES:
            classes.add(key)
            if key == "options":
                # By itself the class lets in what `Options All` means: neither links of one's own
                # nor variants (set_override(), OPT_ALL; measured).
                options = _options_of(value or "all")
        # `Nonfatal=` says which lines are passed over rather than fail on ("AllowOverride").
        elif key == "nonfatal":
            nonfatal |= {"override", "unknown"} if value == "all" else {value}
        elif key == "none":
            classes, nonfatal = set(), set()
        elif key == "all":
            classes, nonfatal = set(_CLASSES), set()
        else:
            return f"Illegal override option {word}"
    return frozenset(classes), options, frozenset(nonfatal)


_SPELLING = {"spelling": False, "spelling_by_case": False, "spelling_by_stem": True}


class Draft:
    """Gathers the directives of one section.

    folder: None for a host, or the server as a whole. refused: what the server would not accept,
    and why.
    """

    def __init__(self, folder: str | None = None, *, rewrites: bool = True) -> None:
        self.folder = folder
        self.rewrites = rewrites
        self.values: dict[str, object] = {}
        self.rewriting: Rewriting | None = None
        self.conditions: list[RewriteCondition] = []
        self.compat: Compat | None = None
        self.redirects: list[Redirect] = []
        self.refused: list[tuple[Directive, str]] = []
        self.endings: dict[str, Ending] = {}
        self.errors: dict[int, Directive] = {}
        self.expires_types: dict[str, Choice] = {}
        self.actions: dict[str, Directive] = {}
        self.files: list[FileSection] = []
        self.conditionals: list[Conditional] = []
        self.marks: list[Mark] = []
        self.type_headers: list[TypeHeader] = []
        self.access: list[Scoped] = []
        self.unread: list[Directive] = []

    def all(self, directives: Sequence[Directive]) -> None:
        """Takes all directives of a section."""
        for directive in flat(directives):
            if not self.take(directive) and not leaves_answer(directive):
                self.unread.append(directive)

    def take(self, directive: Directive, limited: Limited | None = None) -> bool:
        """Takes a directive that holds per folder. False: it is none."""
        takes = _taking(directive.name)
        if takes is None:
            return False
        takes(self, directive, limited)
        return True

    def _rule_of_access(self, directive: Directive, limited: Limited | None) -> None:
        self.access.append((directive, limited))

    def _compat(self, directive: Directive, limited: Limited | None) -> None:
        more = with_line(self.compat or Compat(), directive, limited)
        if more is None:
            self.refused.append((directive, "its arguments are not accepted"))
        else:
            self.compat = more

    def _limit(self, directive: Directive, outer: Limited | None) -> None:
        limited = limited_by(directive)
        # What several of them, one in the other, would mean together is not worked out.
        if limited is None or outer is not None:
            self.unread.append(directive)
            return
        for child in flat(directive.children or ()):
            if not self.take(child, limited) and not leaves_answer(child):
                self.unread.append(child)

    def settings(self) -> Settings:
        values = dict(self.values)
        if self.access:
            values["access"] = access_of(self.access)
        if not _SPELLING.keys().isdisjoint(values):
            # Its module merges nothing: what a section does not say of it is as if never said.
            values = {**_SPELLING, **values}
        # What is not said stays as it is for all that say nothing.
        if self.rewriting is not None:
            values["rewriting"] = self.rewriting
        if self.compat is not None:
            values["compat"] = self.compat
        if self.endings:
            values["endings"] = self.endings
        if self.errors:
            values["error_pages"] = self.errors
        if self.expires_types:
            values["expires_types"] = self.expires_types
        if self.actions:
            values["actions"] = self.actions
        if self.redirects:
            values["redirects"] = tuple(self.redirects)
        if self.files:
            values["files"] = tuple(self.files)
        if self.conditionals:
            values["conditionals"] = tuple(self.conditionals)
        if self.marks:
            values["marks"] = tuple(self.marks)
        if self.type_headers:
            values["type_headers"] = tuple(self.type_headers)
        if self.unread or self.refused:
            values["unread"] = (*self.unread, *(directive for directive, _ in self.refused))
        return Settings(**values)  # type: ignore[arg-type]

    def _files(self, directive: Directive, limited: Limited | None) -> None:
        regex = directive.name.lower() == "<filesmatch"
        given = words(directive.text)
        if given and given[0] == "~":
            regex, given = True, given[1:]
        if not given:
            self.unread.append(directive)
            return
        if regex and is_refused(given[0]):
            self.refused.append((directive, "Regex could not be compiled"))
            return
        inner = section_settings(directive.children or (), self.folder or "", rewrites=False)
        self.files.append(FileSection(given[0], regex, directive, inner))

    def _conditional(self, directive: Directive, limited: Limited | None) -> None:
        kind = directive.name.lower()[1:]
        given = words(directive.text)
        if len(given) != (0 if kind == "else" else 1):
            self.refused.append((directive, "its condition is not accepted"))
            return
        inner = section_settings(directive.children or (), self.folder or "", rewrites=False)
        text = given[0] if given else ""
        self.conditionals.append(Conditional(kind, text, directive, inner))

    def options(self, directive: Directive, given: list[str]) -> None:
        before = self.values.get("options")
        now = before if isinstance(before, Options) else Options()
        held = (now.bits, now.given, now.added, now.removed)
        read = _optioned(held, tuple(given))
        if isinstance(read, str):
            self.refused.append((directive, read))
            return
        self.values["options"] = Options(*read, directive.place, directive.quoted)

    def error_page(self, directive: Directive, given: list[str]) -> None:
        status = atoi(given[0]) if given else 0
        if status in KNOWN:
            self.errors[status] = directive
        else:
            self.refused.append((directive, f"Unsupported HTTP response code {given[:1]}"))

    def index(self, directive: Directive, given: list[str]) -> None:
        before = self.values.get("index")
        names = before if isinstance(before, tuple) else ()
        # An empty word ends the line to whoever reads it word by word (ap_getword_conf).
        given = given[: given.index("")] if "" in given else given
        # `disabled` among other names is a name like any ("DirectoryIndex"; measured).
        alone = len(given) == 1 and given[0].lower() == "disabled"
        self.values["index"] = () if alone else (*names, *given)
        self.values["index_place"] = directive.place

    # --- rewriting ---

    def _rewriting(self) -> Rewriting:
        if self.rewriting is None:
            folder = self.folder
            self.rewriting = Rewriting(folder=folder and folder.rstrip("/") + "/")
        return self.rewriting

    def engine(self, directive: Directive, given: list[str]) -> None:
        # Whatever stands behind the word is not looked at.
        word = given[0].lower() if given else ""
        if word not in ("on", "off"):
            self.refused.append((directive, "RewriteEngine must be On or Off"))
            return
        self.rewriting = self._rewriting().with_(on=word == "on")

    def rewrite_options(self, directive: Directive, given: list[str]) -> None:
        now = self._rewriting()
        options = {word.lower() for word in given if not word.lower().startswith("maxredirects=")}
        if not options <= OPTIONS:
            self.refused.append((directive, "RewriteOptions: unknown option"))
            return
        self.rewriting = now.with_(options=(now.options or frozenset()) | options)

    def base(self, directive: Directive, given: list[str]) -> None:
        if len(given) != 1 or not given[0].startswith("/") or self.folder is None:
            self.refused.append((directive, "RewriteBase: argument is not a valid URL"))
            return
        self.rewriting = self._rewriting().with_(base=given[0])

    def condition(self, directive: Directive, given: list[str]) -> None:
        self._rewriting()
        try:
            self.conditions.append(read_condition(directive))
        except RuleError as error:
            self.refused.append((directive, f"RewriteCond: {error}"))

    def rule(self, directive: Directive, given: list[str]) -> None:
        now = self._rewriting()
        if not self.rewrites or (self.folder and any(c in self.folder for c in "*?[")):
            self.unread.append(directive)
        if len(now.rules) >= MOST_RULES:
            # One is enough to say that no more are evaluated.
            if directive.name not in (each.name for each in self.unread):
                self.unread.append(directive)
            return
        try:
            rule = read_rule(directive, tuple(self.conditions))
        except RuleError as error:
            self.refused.append((directive, f"RewriteRule: {error}"))
            return
        self.conditions = []
        self.rewriting = now.with_(rules=(*now.rules, rule))

    def mark(self, directive: Directive, given: list[str]) -> None:
        mark = read_mark(directive, given)
        if mark is not None:
            self.marks.append(mark)

    # --- redirects ---

    def redirect(self, directive: Directive, given: list[str]) -> None:
        try:
            redirect = read_redirect(directive, self.folder is not None)
        except RedirectError as error:
            self.refused.append((directive, str(error)))
            return
        if redirect.fake is None:
            self.values["redirect"] = redirect
        else:
            self.redirects.append(redirect)

    # --- what override files may say ---

    def override(self, directive: Directive, given: list[str]) -> None:
        before = self.values.get("override")
        # A later line of the same section says anew what may be said, but not of which options.
        options = before.options if isinstance(before, Override) else None
        read = _overridable(tuple(given), options)
        if isinstance(read, str):
            self.refused.append((directive, read))
            return
        self.values["override"] = Override(*read, directive.place, directive.quoted)

    def override_list(self, directive: Directive, given: list[str]) -> None:
        names = frozenset(word.lower() for word in given)
        self.values["override_list"] = names - {"none"}

    def trailing(self, directive: Directive, given: list[str]) -> None:
        word = given[0].lower() if len(given) == 1 else ""
        if word not in ("on", "off", "default"):
            self.refused.append((directive, "AcceptPathInfo must be set to on, off or default"))
            return
        self.values["path_info"] = word

    def listing(self, directive: Directive, given: list[str]) -> None:
        for word in given:
            key, equals, value = word.partition("=")
            if equals and key.lower() == "type":
                self.values["listing_type"] = value
            elif equals and key.lower() == "charset":
                self.values["listing_charset"] = value

    def upstream(self, directive: Directive, given: list[str]) -> None:
        """For a section on addresses: what it is about is what is handed on.

        A pattern is one only where it looks like one, whichever kind of section it stands in
        (mod_proxy.c, add_pass; measured).
        """
        fake = self.folder or ""
        by_pattern = directive.name.lower() == "proxypassmatch" or any(c in fake for c in "*?[")
        upstream = read_upstream(fake, directive, given, by_pattern=by_pattern)
        if upstream is None:
            self.unread.append(directive)
        else:
            self.values["upstream"] = upstream

    def header(self, directive: Directive, given: list[str]) -> None:
        """Response headers matter only where they are ours to predict.

        What the server itself sends on is out of reach: it puts the address in last, so that it can
        neither be changed nor taken off, and what is added is one more (measured).
        """
        plain = given[1:] if given[:1] in (["always"], ["onsuccess"]) else given
        action, name = (word.lower() for word in (*plain, "", "")[:2])
        touched = name == "location" and action in ("set", "setifempty", "add", "append", "merge")
        echoed = action == "echo" and any(each in name for each in ("content-type", "location"))
        if touched or echoed or "early" in given[-1:]:
            self.unread.append(directive)
        elif (of_type := read_type_header(directive, given)) is not None:
            self.type_headers.append(of_type)
        if len(given) == 2 and given[0].lower() == "unset":
            before = self.values.get("taken_off")
            known = before if isinstance(before, frozenset) else frozenset()
            self.values["taken_off"] = known | {given[1].lower()}
        if len(plain) == 3 and plain[0].lower() == "set" and plain[1].lower() == "cache-control":
            self.values["cache_control"] = Choice(plain[2], directive.place, directive.quoted)

    def request_header(self, directive: Directive, given: list[str]) -> None:
        """What is asked is changed behind all that answers by it, unless early; or it chooses."""
        if given[-1:] == ["early"] or any(word.lower().startswith("accept") for word in given[1:2]):
            self.unread.append(directive)

    def action(self, directive: Directive, given: list[str]) -> None:
        """By type or maker of content, or by method (`Script`)."""
        if given:
            self.actions[given[0]] = directive

    def methods(self, directive: Directive, given: list[str]) -> None:
        """Those of one section add up; `reset` allows all again."""
        before = self.values.get("methods")
        names = before.value.split() if isinstance(before, Choice) else []
        for name in given:
            names = [] if name.lower() == "reset" else [*names, name]
        if "GET" in names:
            names.append("HEAD")
        value = " ".join(dict.fromkeys(names))
        self.values["methods"] = Choice(value, directive.place, directive.quoted)

    def index_redirect(self, directive: Directive, given: list[str]) -> None:
        word = given[0].lower() if len(given) == 1 else ""
        status = _SENT_BY.get(word, atoi(word) if word.isascii() and word.isdecimal() else None)
        if status is None:
            self.unread.append(directive)
        else:
            self.values["index_sent"] = status

    def etag(self, directive: Directive, given: list[str]) -> None:
        self.values["etag"] = given[-1].lower() if given else None

    def expires_by_type(self, directive: Directive, given: list[str]) -> None:
        if len(given) == 2:
            choice = Choice(given[1], directive.place, directive.quoted)
            self.expires_types[given[0].lower()] = choice

    def ending(self, attribute: str, directive: Directive, given: list[str]) -> None:
        if len(given) < 2:
            self.unread.append(directive)
            return
        # Types, languages and the rest are compared in lower case.
        value = given[0] if attribute == "handler" else given[0].lower()
        for name in given[1:]:
            self._note(name, attribute, value, directive.place)

    def no_ending(self, attribute: str, directive: Directive, given: list[str]) -> None:
        for name in given:
            self._note(name, attribute, "", directive.place)

    def _note(self, name: str, attribute: str, value: str, place: Place) -> None:
        key = name.removeprefix(".").lower()
        before = self.endings.get(key, Ending())
        self.endings[key] = replace(before, **{attribute: value, "place": place})  # type: ignore[arg-type]


_SENT_BY = {"on": 302, "off": 0, "temp": 302, "permanent": 301, "seeother": 303}
_CLASSES = ("authconfig", "fileinfo", "indexes", "limit", "options")


def _options_of(text: str) -> int:
    bits = Opt.NONE
    for word in re.split(r",", text):
        bits |= _OPTION_WORDS.get(word.lower(), Opt.NONE)
    return bits


_Taker = Callable[[Draft, Directive, list[str]], None]


def _choice(attribute: str) -> _Taker:
    def take(draft: Draft, directive: Directive, given: list[str]) -> None:
        value = " ".join(given)
        draft.values[attribute] = Choice(value, directive.place, directive.quoted)

    return take


def _lowered(attribute: str) -> _Taker:
    def take(draft: Draft, directive: Directive, given: list[str]) -> None:
        value = " ".join(given).lower()
        draft.values[attribute] = Choice(value, directive.place, directive.quoted)

    return take


def _flag(attribute: str) -> _Taker:
    def take(draft: Draft, directive: Directive, given: list[str]) -> None:
        word = given[0].lower() if given else ""
        if word not in ("on", "off"):
            draft.refused.append((directive, f"{directive.name} must be On or Off"))
            return
        draft.values[attribute] = word == "on"

    return take


def _canonical(draft: Draft, directive: Directive, given: list[str]) -> None:
    word = given[0].lower() if given else ""
    if word not in ("on", "off"):
        draft.unread.append(directive)
        return
    draft.values["canonical"] = word


def _shared(draft: Draft, directive: Directive, given: list[str]) -> None:
    """On, Off, or the name of what keeps the files."""
    draft.values["shared"] = given[:1] != [] and given[0].lower() != "off"


def _protocol(draft: Draft, directive: Directive, given: list[str]) -> None:
    """How strictly requests are read; but for methods that must be registered, it concerns such as
    no browser sends.
    """
    if "registeredmethods" in (word.lower() for word in given):
        draft.unread.append(directive)


def _preserved(draft: Draft, directive: Directive, given: list[str]) -> None:
    """Whether an alias in a section on addresses is put in front of what stands behind them."""
    if [word.lower() for word in given] != ["off"]:
        draft.unread.append(directive)


def _slashes(draft: Draft, directive: Directive, given: list[str]) -> None:
    word = given[0].lower() if given else ""
    if word not in ("on", "off", "nodecode"):
        draft.refused.append((directive, "AllowEncodedSlashes must be On, Off or NoDecode"))
        return
    draft.values["slashes"] = word


def _ending(attribute: str) -> _Taker:
    return lambda draft, directive, given: draft.ending(attribute, directive, given)


_Taking = Callable[[Draft, Directive, Limited | None], None]


@lru_cache(maxsize=4096)
def _taking(written: str) -> _Taking | None:
    """What takes a directive, by its name as it is written; None where it is none of a folder."""
    name = written.lower()
    if is_access(name):
        return Draft._rule_of_access
    if is_compat(name):
        return Draft._compat
    if name in ("<limit", "<limitexcept"):
        return Draft._limit
    if name in ("<files", "<filesmatch"):
        return Draft._files
    if name in ("<if", "<elseif", "<else"):
        return Draft._conditional
    taker = _TAKERS.get(name)
    if taker is None:
        return None
    return lambda draft, directive, limited: taker(draft, directive, words(directive.text))


def _no_ending(attribute: str) -> _Taker:
    return lambda draft, directive, given: draft.no_ending(attribute, directive, given)


_TAKERS: dict[str, _Taker] = {
    "options": Draft.options,
    "allowoverride": Draft.override,
    "allowoverridelist": Draft.override_list,
    "rewriteengine": Draft.engine,
    "rewriteoptions": Draft.rewrite_options,
    "rewritebase": Draft.base,
    "rewritecond": Draft.condition,
    "rewriterule": Draft.rule,
    "setenvif": Draft.mark,
    "setenvifnocase": Draft.mark,
    "setenvifexpr": Draft.mark,
    "browsermatch": Draft.mark,
    "browsermatchnocase": Draft.mark,
    "redirect": Draft.redirect,
    "redirecttemp": Draft.redirect,
    "redirectpermanent": Draft.redirect,
    "redirectmatch": Draft.redirect,
    "acceptpathinfo": Draft.trailing,
    "fallbackresource": _choice("fallback"),
    "directorycheckhandler": _flag("maker_first"),
    "remoteipheader": _lowered("visitor_header"),
    "sslrequiressl": _choice("sealed_only"),
    "dav": _shared,
    "action": Draft.action,
    "script": Draft.action,
    "httpprotocoloptions": _protocol,
    "checkspelling": _flag("spelling"),
    "redirectrelative": _flag("redirect_relative"),
    "aliaspreservepath": _preserved,
    "multiviewsmatch": _lowered("variants_by"),
    "checkcaseonly": _flag("spelling_by_case"),
    "checkbasenamematch": _flag("spelling_by_stem"),
    "proxypass": Draft.upstream,
    "proxypassmatch": Draft.upstream,
    "traceenable": _lowered("trace"),
    "mergeslashes": _lowered("merged_slashes"),
    "modmimeusepathinfo": _flag("typed_by_rest"),
    "directoryindex": Draft.index,
    "directoryslash": _flag("slash"),
    "sethandler": _choice("handler"),
    "forcetype": _lowered("forced_type"),
    "adddefaultcharset": _choice("default_charset"),
    "usecanonicalname": _canonical,
    "allowencodedslashes": _slashes,
    "usecanonicalphysicalport": _flag("physical_port"),
    "indexoptions": Draft.listing,
    "errordocument": Draft.error_page,
    "header": Draft.header,
    "requestheader": Draft.request_header,
    "allowmethods": Draft.methods,
    "directoryindexredirect": Draft.index_redirect,
    "fileetag": Draft.etag,
    "expiresactive": _flag("expires"),
    "expiresdefault": _choice("expires_default"),
    "expiresbytype": Draft.expires_by_type,
    "authtype": _choice("auth_type"),
    "authname": _choice("auth_name"),
    "addtype": _ending("type"),
    "addcharset": _ending("charset"),
    "addlanguage": _ending("language"),
    "addencoding": _ending("encoding"),
    "addhandler": _ending("handler"),
    "addoutputfilter": _ending("filter"),
    "addinputfilter": _ending("filter"),
    "removetype": _no_ending("type"),
    "removecharset": _no_ending("charset"),
    "removelanguage": _no_ending("language"),
    "removeencoding": _no_ending("encoding"),
    "removehandler": _no_ending("handler"),
}


@lru_cache(maxsize=4096)
def _may_hold(written: str) -> bool:
    return written.lower() in CONDITIONAL


def flat(directives: Sequence[Directive]) -> Sequence[Directive]:
    """Directives with the conditional sections that hold opened up.

    A conditional section of which that cannot be told stays as it is.
    """
    # Thousands of sections have the same few names.
    if not any(map(_may_hold, {each.name for each in directives if each.children is not None})):
        return directives
    found: list[Directive] = []
    for directive in directives:
        conditional = directive.name.lower() in CONDITIONAL
        if conditional and directive.taken is False:
            continue
        if conditional and directive.taken:
            found += flat(directive.children or ())
        else:
            found.append(directive)
    return found


MOST_RULES = 10_000  # of rewriting, in one place: each request may come to all of them
CONDITIONAL = frozenset(
    ("<ifmodule", "<ifdefine", "<iffile", "<ifversion", "<ifdirective", "<ifsection")
)


def section_settings(
    directives: Sequence[Directive], folder: str | None = None, *, rewrites: bool = True
) -> Settings:
    """The settings of one section. What is not evaluated is kept in `unread`.

    folder: of a section on a folder. rewrites: False where rules of rewriting have no folder.
    """
    draft = Draft(folder, rewrites=rewrites)
    draft.all(directives)
    return draft.settings()
