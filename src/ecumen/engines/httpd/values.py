"""What modules say of the arguments of their lines when they are read: where one is refused, the
server does not start, and fails on an override file that holds it.

Source: httpd 2.4, the functions that take each directive in its module's source; each beside the
real server (tests/every_directive_test.py), with some forty forms of arguments.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from ecumen.engines.httpd.lexer import words
from ecumen.engines.numbers import atoi
from ecumen.patterns import is_refused

# Whether the server takes these words; None where that is not worked out. Second: the modules.
_Takes = Callable[[list[str], set[str]], bool | None]


def fault(name: str, text: str, modules: set[str]) -> str | None:
    """Why a line is refused; "" where it is taken, None where that is not known.

    name: in lower case. The number of arguments is right.
    """
    takes = _TAKES.get(name)
    if takes is None:
        return ""
    # Some modules part the words themselves, and know no quotes.
    if name == "sslrequire":
        given = [text]
    else:
        given = text.split(" ") if name.startswith("session") else words(text)
    taken = takes(given, modules)
    return None if taken is None else "" if taken else f"{name}: its arguments are not accepted"


def _one_of(*known: str) -> _Takes:
    return lambda given, _: given[0].lower() in known


def _each_of(*known: str) -> _Takes:
    return lambda given, _: all(word.lower() in known for word in given)


def _first(holds: Callable[[str], bool | None]) -> _Takes:
    return lambda given, _: holds(given[0] if given else "")


def _whole_number(word: str) -> bool:
    return re.fullmatch(r"[+-]?[0-9]+", word) is not None


def _not_negative(word: str) -> bool:
    return re.fullmatch(r"\+?[0-9]+", word) is not None


def _begins_with_digit(word: str) -> bool:
    """One of ASCII: those of other scripts are letters to the server."""
    return word[:1].isascii() and word[:1].isdecimal()


def _form_name(word: str) -> bool:
    return bool(word) and not any(char in word for char in "=&")


def _never(given: list[str], _: set[str]) -> bool:
    return False


def _unknown(given: list[str], _: set[str]) -> None:
    return None


# --- who may ---

# What each way to know somebody is called, and the module that brings it.
_PROVIDERS = {
    "file": "authn_file_module",
    "dbm": "authn_dbm_module",
    "dbd": "authn_dbd_module",
    "anon": "authn_anon_module",
    "socache": "authn_socache_module",
    "ldap": "authnz_ldap_module",
}


def _providers(*known: str) -> _Takes:
    def takes(given: list[str], modules: set[str]) -> bool | None:
        # Others may be made by sections of the main configuration, under any name.
        fine = all(_PROVIDERS.get(word, "") in modules and word in known for word in given)
        return True if fine else None

    return takes


# --- filters ---

_FILTERS = {
    "deflate": "deflate_module",
    "inflate": "deflate_module",
    "brotli_compress": "brotli_module",
    "includes": "include_module",
    "substitute": "substitute_module",
    "sed": "sed_module",
    "rate_limit": "ratelimit_module",
    "buffer": "buffer_module",
    "xml2enc": "xml2enc_module",
    "proxy-html": "proxy_html_module",
    "data": "data_module",
}


def _filters(given: list[str], modules: set[str]) -> bool | None:
    names = [name.lower() for name in given[0].split(";")]
    if any(name in _FILTERS and _FILTERS[name] not in modules for name in names):
        return False
    return True if all(name in _FILTERS for name in names) else None


def _substitution(given: list[str], _: set[str]) -> bool | None:
    """`s/pattern/by/flags`, with any letter in place of the slashes."""
    text = given[0]
    parts = text[2:].split(text[1:2]) if text[:1].lower() == "s" and len(text) > 1 else []
    if len(parts) < 3:
        return False
    if len(parts) > 3 or "\\" in text or not parts[0]:
        return None
    if any(flag not in "infq" for flag in parts[2].lower()):
        return False
    return "n" in parts[2].lower() or not is_refused(parts[0])


# --- times ---

_UNITS = (("y", 1), ("mo", 2), ("w", 1), ("d", 1), ("h", 1), ("mi", 2), ("s", 1))


def _span(given: Iterable[str]) -> bool:
    """`plus 1 month 2 days`; of each word the letters count that tell it from the others."""
    rest = list(given)
    if rest and rest[0][:1].lower() == "p":
        rest = rest[1:]
    while rest and rest[0]:
        number, unit, rest = rest[0], rest[1:2], rest[2:]
        if not _begins_with_digit(number) or not unit:
            return False
        if not any(unit[0].lower().startswith(begin) for begin, _ in _UNITS):
            return False
    return True


def _expiry(text: str) -> bool:
    if text[:1] in ("A", "M"):
        return True
    given = words(text)
    return bool(given) and given[0][:1].lower() in ("n", "a", "m") and _span(given[1:])


def _cookie_age(text: str) -> bool:
    return _begins_with_digit(text) or _span(words(text))


# --- marks and headers ---


def _marked(about: int) -> _Takes:
    """about: how many words stand before the pattern."""

    def takes(given: list[str], _: set[str]) -> bool | None:
        if len(given) < about + 2 or not all(given[: about + 2]):
            return False
        if about and any(char in given[0] for char in "\\[]{}^$*+?()|") and is_refused(given[0]):
            return False
        return not is_refused(given[about])

    return takes


_HEADER_ACTIONS = ("add", "set", "setifempty", "append", "merge", "unset", "edit", "edit*")
_TAGS = re.compile(r"%(?:[%tDlib]|\{[^}]*\}[es])")


def _header(of_response: bool) -> _Takes:
    def takes(given: list[str], modules: set[str]) -> bool | None:
        rest = list(given)
        if of_response and rest and rest[0].lower() in ("always", "onsuccess"):
            rest = rest[1:]
        action = rest[0].lower() if rest else ""
        more = ("echo", "note") if of_response else ()
        if action not in (*_HEADER_ACTIONS, *more):
            return False
        return _header_rest(action, rest[1:])

    return takes


def _header_rest(action: str, rest: list[str]) -> bool | None:
    """What stands behind the action: a name, a value or two, and when it holds."""
    values = {"unset": 0, "echo": 0, "edit": 2, "edit*": 2}.get(action, 1)
    if not rest or len(rest) < 1 + values or len(rest) > 2 + values:
        return False
    if action in ("echo", "edit", "edit*"):
        if is_refused(rest[0] if action == "echo" else rest[1]):
            return False
    elif values:
        if rest[1].startswith("expr="):
            return None
        if "%" in _TAGS.sub("", rest[1]):
            return False
    condition = rest[1 + values] if len(rest) > 1 + values else "early"
    if condition.startswith("expr="):
        return None
    return condition.lower() == "early" or condition.startswith("env=")


# --- listings ---

_OPTIONS = frozenset(
    """
    none fancyindexing foldersfirst htmltable iconsarelinks ignorecase ignoreclient scanhtmltitles
    suppresscolumnsorting suppressdescription suppresshtmlpreamble suppressicon
    suppresslastmodified suppressrules suppresssize trackmodified versionsort xhtml showforbidden
    addaltclass iconheight iconwidth useolddateformat
    """.split()
)
_SIZED = ("iconheight", "iconwidth", "namewidth", "descriptionwidth", "charset", "type")


def _listing(given: list[str], _: set[str]) -> bool | None:
    fine: bool | None = True
    for word in given:
        if not word:
            # What is empty ends the line (ap_getword_conf).
            break
        bare = word.lower().lstrip("+-") if word[0] in "+-" else word.lower()
        key, equals, _value = bare.partition("=")
        if bare in _OPTIONS and not (bare == "none" and word[0] in "+-"):
            continue
        if key in _SIZED and (equals or word[0] in "+-"):
            fine = None
            continue
        return False
    return fine


def _etag(given: list[str], _: set[str]) -> bool | None:
    fine: bool | None = True
    for word in given:
        bare = word.lower().lstrip("+-")
        if bare not in ("none", "all", "inode", "mtime", "size", "digest"):
            return False
        if word[:1] in ("+", "-"):
            fine = None
    return fine


def _sent_by(word: str) -> bool:
    return not _begins_with_digit(word) or 300 <= atoi(word) < 400


def _positive(word: str) -> bool:
    return atoi(word) > 0


def _domain(word: str) -> bool:
    return word.startswith(".") and "." in word[1:]


# The language of "SSLRequire", as far as it is known: one comparison, or one of its two constants.
# Without a value to compare nothing else is an expression (ssl_expr_parse.y; measured).
_COMPARED = re.compile(
    r'%\{[A-Za-z_][A-Za-z0-9_:-]*\}\s*(?:==|eq|!=|ne)\s*(?:"[^"\\]*"|%\{[A-Za-z_][A-Za-z0-9_:-]*\})'
)
_OPERATOR = re.compile(r"[=!<>]=|[<>]|[=!]~|\b(?:eq|ne|lt|le|gt|ge|in)\b")
_VALUE = re.compile(r"[%\"\d(]")


def _required(given: list[str], _: set[str]) -> bool | None:
    text = given[0].strip()
    if _COMPARED.fullmatch(text) or text in ("true", "false"):
        return True
    return None if _VALUE.search(text) and _OPERATOR.search(text) else False


# "MultiviewsMatch" (mod_mime.c, multiviews_match).
_ALONE, _TOGETHER = ("any", "negotiatedonly"), ("filters", "handlers")


def _multiviews(given: list[str], _: set[str]) -> bool:
    words = {word.lower() for word in given}
    return words <= set(_TOGETHER) or (len(words) == 1 and words <= set(_ALONE))


# "SSLOptions" (ssl_engine_config.c, ssl_cmd_SSLOptions).
_SEALED = frozenset(
    "stdenvvars exportcertdata fakebasicauth strictrequire optrenegotiate "
    "legacydnstringformat".split()
)


def _sealed_options(given: list[str], _: set[str]) -> bool:
    return all(word.lower().removeprefix("+").removeprefix("-") in _SEALED for word in given)


_ON_OFF = _one_of("on", "off")
_FORM = _first(_form_name)
# Without any word the server's own reading fails on a null pointer (measured).
_COOKIE = _first(lambda word: _form_name(word) if word else None)
_SIZE = _first(_not_negative)
_AT_LEAST_NONE = _first(lambda word: atoi(word) >= 0)
_TAKES: dict[str, _Takes] = {
    **dict.fromkeys(
        ("enablemmap", "enablesendfile", "h2upgrade", "h2push", "h2copyfiles", "h2proxyrequests"),
        _ON_OFF,
    ),
    "sslrequire": _required,
    "ssloptions": _sealed_options,
    "sslverifyclient": _one_of("none", "off", "optional", "require", "on", "optional_no_ca"),
    "multiviewsmatch": _multiviews,
    "serversignature": _one_of("on", "off", "email"),
    "xbithack": _one_of("on", "off", "full"),
    "authmerging": _one_of("off", "and", "or"),
    "authbasicusedigestalgorithm": _one_of("off", "md5"),
    "authdigestalgorithm": _one_of("md5"),
    "authdigestqop": _each_of("auth"),
    "authdigestnoncelifetime": _first(_whole_number),
    "authbasicprovider": _providers(*_PROVIDERS),
    "authformprovider": _providers(*_PROVIDERS),
    "authdigestprovider": _providers("file"),
    **dict.fromkeys(
        (
            "authformusername", "authformpassword", "authformlocation", "authformmethod",
            "authformmimetype", "authformbody",
        ),
        _FORM,
    ),
    **dict.fromkeys(
        ("sessioncookiename", "sessioncookiename2", "sessiondbdcookiename",
         "sessiondbdcookiename2"),
        _COOKIE,
    ),
    "authnzfcgicheckauthnprovider": lambda given, _: False if not given or not given[0] else None,
    "addoutputfilterbytype": _filters,
    **dict.fromkeys(("filterprotocol", "filterprovider", "filterchain"), _unknown),
    "substitute": _substitution,
    "cgivar": lambda given, _: (
        given[0].lower() == "request_uri" and given[1].lower() in ("current-uri", "original-uri")
    ),
    "indexorderdefault": lambda given, _: (
        given[0].lower() in ("ascending", "descending")
        and given[1].lower() in ("name", "date", "size", "description")
    ),
    "indexoptions": _listing,
    "fileetag": _etag,
    "forcelanguagepriority": _each_of("prefer", "fallback", "none"),
    "expiresbytype": lambda given, _: _expiry(given[1]),
    "expiresdefault": _first(_expiry),
    "cookieexpires": _first(_cookie_age),
    "cookiesamesite": _one_of("none", "lax", "strict"),
    "cookiestyle": _one_of("netscape", "cookie", "cookie2", "rfc2109", "rfc2965"),
    "cookiedomain": _first(_domain),
    "action": lambda given, _: len(given) < 3 or given[2].lower() == "virtual",
    "browsermatch": _marked(0),
    "browsermatchnocase": _marked(0),
    "setenvif": _marked(1),
    "setenvifnocase": _marked(1),
    "setenvifexpr": lambda given, _: False if len(given) < 2 else None,
    "header": _header(True),
    "requestheader": _header(False),
    "directoryindexredirect": _first(_sent_by),
    "deflateinflateratiolimit": _first(_positive),
    "deflateinflateratioburst": _first(_positive),
    **dict.fromkeys(("limitrequestbody", "deflateinflatelimitrequestbody"), _SIZE),
    "substitutemaxlinelength": _first(
        lambda word: re.fullmatch(r"[0-9]+[bkmgBKMG]?", word) is not None
    ),
    **dict.fromkeys(
        ("limitxmlrequestbody", "sslverifydepth", "sslrenegbuffersize",
         "sessionexpiryupdateinterval"),
        _AT_LEAST_NONE,
    ),
    "proxyfcgibackendtype": _one_of("fpm", "generic"),
    **dict.fromkeys(
        ("proxyfcgisetenvif", "sslcacertificatefile", "sslcacertificatepath", "xml2encdefault",
         "use", "undefmacro"),
        _unknown,
    ),
    "h2pushresource": lambda given, _: True if len(given) == 1 else None,
    "sslciphersuite": lambda given, _: (
        len(given) < 2 or (None if given[0].lower() in ("ssl", "tlsv1.3") else False)
    ),
    **dict.fromkeys(("ssllog", "sslloglevel"), _never),
}  # fmt: skip
